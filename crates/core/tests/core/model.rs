//! Random pipelines, and the plainest possible reading of what waits for what: matrices over jobs, no cleverness.

use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, plan};
use proptest::prelude::*;

#[derive(Debug, Clone)]
pub(crate) struct Sketch {
    /// Lines of groups of stage numbers.
    pub(crate) order: Vec<Vec<Vec<usize>>>,
    pub(crate) jobs: Vec<SketchJob>,
}

#[derive(Debug, Clone)]
pub(crate) struct SketchJob {
    pub(crate) stage: usize,
    pub(crate) after_jobs: Vec<usize>,
    pub(crate) takes: Vec<usize>,
    pub(crate) after_stage: Option<usize>,
    pub(crate) eager: bool,
    pub(crate) may_fail: bool,
    pub(crate) deploys: bool,
}

const STAGES: usize = 4;

pub(crate) fn sketch() -> impl Strategy<Value = Sketch> {
    let group = prop::collection::vec(0..STAGES, 1..3);
    let line = prop::collection::vec(group, 1..4);
    let order = prop::collection::vec(line, 0..3);
    let job =
        (0..STAGES, prop::collection::vec(0..10usize, 0..2), prop::collection::vec(0..10usize, 0..2), 0..30usize, 0..5u8, 0..4u8, 0..4u8);
    (order, prop::collection::vec(job, 1..10)).prop_map(|(order, jobs)| {
        let count = jobs.len();
        let within = |list: Vec<usize>| -> Vec<usize> {
            let mut list: Vec<usize> = list.into_iter().filter(|&at| at < count).collect();
            list.sort_unstable();
            list.dedup();
            list
        };
        let jobs: Vec<SketchJob> = jobs
            .into_iter()
            .map(|(stage, after, takes, after_stage, eager, may_fail, deploys)| SketchJob {
                stage,
                after_jobs: within(after),
                takes: within(takes),
                after_stage: (after_stage < STAGES).then_some(after_stage),
                eager: eager == 0,
                may_fail: may_fail == 0,
                deploys: deploys == 0,
            })
            .collect();
        repaired(Sketch { order, jobs })
    })
}

/// Takes out what would be a mistake of its own kind: stages without jobs, stages in no order.
fn repaired(mut sketch: Sketch) -> Sketch {
    let used: Vec<bool> = (0..STAGES).map(|stage| sketch.jobs.iter().any(|job| job.stage == stage)).collect();
    for line in &mut sketch.order {
        for group in line.iter_mut() {
            group.retain(|&stage| used[stage]);
        }
        line.retain(|group| !group.is_empty());
    }
    sketch.order.retain(|line| !line.is_empty());
    let named: Vec<usize> = sketch.order.iter().flatten().flatten().copied().collect();
    if !named.is_empty() {
        let left: Vec<usize> = (0..STAGES).filter(|stage| used[*stage] && !named.contains(stage)).collect();
        if !left.is_empty() {
            sketch.order.push(vec![left]);
        }
    }
    for job in &mut sketch.jobs {
        job.after_stage = job.after_stage.filter(|&stage| used[stage]);
    }
    sketch
}

impl Sketch {
    pub(crate) fn id(&self, job: usize) -> String {
        format!("s{}.j{job}", self.jobs[job].stage)
    }

    pub(crate) fn text(&self) -> String {
        let mut text = String::from("language = 1\n");
        let group = |group: &Vec<usize>| group.iter().map(|stage| format!("s{stage}")).collect::<Vec<_>>().join(", ");
        let line = |line: &Vec<Vec<usize>>| format!("\"{}\"", line.iter().map(group).collect::<Vec<_>>().join(" > "));
        if !self.order.is_empty() {
            text += &format!("order = [{}]\n", self.order.iter().map(line).collect::<Vec<_>>().join(", "));
        }
        for (at, job) in self.jobs.iter().enumerate() {
            let quoted = |list: Vec<String>| list.iter().map(|item| format!("\"{item}\"")).collect::<Vec<_>>().join(", ");
            let mut after: Vec<String> = job.after_jobs.iter().map(|&on| self.id(on)).collect();
            after.extend(job.after_stage.map(|stage| format!("s{stage}")));
            let takes: Vec<String> = job.takes.iter().map(|&on| format!("{}/out", self.id(on))).collect();
            text += &format!(
                "[job.s{}.j{at}]\nsteps = [\"true\"]\ngives = {{ out = [\"out\"] }}\nafter = [{}]\ntakes = [{}]\neager = {}\nmay_fail = {}\n",
                job.stage,
                quoted(after),
                quoted(takes),
                job.eager,
                job.may_fail
            );
            if job.deploys {
                text += "deploys = \"pier\"\n";
            }
        }
        text
    }

    /// stage_before[b][a]: the order puts a before b, however far apart.
    fn stage_before(&self) -> [[bool; STAGES]; STAGES] {
        let mut before = [[false; STAGES]; STAGES];
        for line in &self.order {
            for pair in line.windows(2) {
                for &earlier in &pair[0] {
                    for &later in &pair[1] {
                        before[later][earlier] = true;
                    }
                }
            }
        }
        for middle in 0..STAGES {
            for later in 0..STAGES {
                for earlier in 0..STAGES {
                    before[later][earlier] |= before[later][middle] && before[middle][earlier];
                }
            }
        }
        before
    }

    /// waits[j][i]: job j waits for job i and some rule says so itself.
    pub(crate) fn waits(&self) -> Vec<Vec<bool>> {
        let before = self.stage_before();
        let waits = |j: usize, i: usize| {
            let (job, on) = (&self.jobs[j], &self.jobs[i]);
            job.takes.contains(&i)
                || job.after_jobs.contains(&i)
                || job.after_stage == Some(on.stage)
                || (!job.eager && before[job.stage][on.stage])
        };
        (0..self.jobs.len()).map(|j| (0..self.jobs.len()).map(|i| waits(j, i)).collect()).collect()
    }

    /// reach[j][i]: j waits for i, over however many others.
    pub(crate) fn reach(&self) -> Vec<Vec<bool>> {
        let mut reach = self.waits();
        let count = reach.len();
        for middle in 0..count {
            for j in 0..count {
                for i in 0..count {
                    reach[j][i] |= reach[j][middle] && reach[middle][i];
                }
            }
        }
        reach
    }

    pub(crate) fn has_circle(&self) -> bool {
        let before = self.stage_before();
        (0..STAGES).any(|stage| before[stage][stage]) || self.reach().iter().enumerate().any(|(at, row)| row[at])
    }

    pub(crate) fn plan(&self) -> Option<Plan> {
        let occasion = Occasion::by_hand();
        let borrowed = BorrowedFiles::new();
        plan(Source { text: &self.text(), name: "main", borrowed: &borrowed }, &occasion).ok().map(|planned| planned.plan)
    }

    /// For each of the sketch's jobs its number in the plan.
    pub(crate) fn places(&self, plan: &Plan) -> Vec<usize> {
        let place = |at: usize| plan.jobs.iter().position(|job| job.id.as_str() == self.id(at)).expect("every job is planned");
        (0..self.jobs.len()).map(place).collect()
    }
}
