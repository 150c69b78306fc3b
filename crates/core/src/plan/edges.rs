//! The waits of a plan spelt out job by job, each with its reason, and which of them others already imply.

use super::value::{Plan, WaitOn};
use fixedbitset::FixedBitSet;
use serde::{Deserialize, Serialize};

/// Why one job waits for another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Because {
    Takes,
    After,
    AtOnce,
    Rollout,
    Order,
}

impl Because {
    /// The reason as the API writes it.
    pub fn word(self) -> &'static str {
        match self {
            Because::Takes => "takes",
            Because::After => "after",
            Because::AtOnce => "at_once",
            Because::Rollout => "rollout",
            Because::Order => "order",
        }
    }
}

/// One job waits for another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Edge {
    /// The job waited for, by number.
    pub job: usize,
    pub because: Because,
    /// Other edges already say it (transitive reduction): it holds, but need not be drawn.
    pub implied: bool,
}

/// For each job its edges, by the number of the job waited for. Where several reasons hold, the strongest is named:
/// takes, then after, then order.
///
/// Cost: one bit for each pair of jobs; 10,000 jobs take 12 MiB while it runs.
///
/// ```
/// use ordotaxis_core::plan::{Because, BorrowedFiles, Occasion, Source, edges, plan};
/// let text = "language = 1
/// [job.a.x]
/// steps = ['true']
/// [job.b.y]
/// steps = ['true']
/// after = ['a.x']
/// ";
/// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
/// let plan = plan(source, &Occasion::push("main")).expect("a plan").plan;
/// let edges = edges(&plan);
/// assert!(edges[0].is_empty());
/// assert_eq!((edges[1][0].job, edges[1][0].because, edges[1][0].implied), (0, Because::After, false));
/// ```
pub fn edges(plan: &Plan) -> Vec<Vec<Edge>> {
    let count = plan.jobs.len();
    let mut members = vec![FixedBitSet::with_capacity(count); plan.stages.len()];
    for (at, job) in plan.jobs.iter().enumerate() {
        members[job.stage].insert(at);
    }
    let mut walk = Walk { plan, reach: vec![None; count], stage_reach: vec![None; plan.stages.len()], members };
    (0..count).map(|job| walk.edges_of(job)).collect()
}

/// Remembers for each job and stage all jobs that it waits for, however far back.
struct Walk<'p> {
    plan: &'p Plan,
    reach: Vec<Option<FixedBitSet>>,
    stage_reach: Vec<Option<FixedBitSet>>,
    members: Vec<FixedBitSet>,
}

enum Node {
    Job(usize),
    Stage(usize),
}

impl Walk<'_> {
    fn direct(&self, job: usize) -> (FixedBitSet, Vec<usize>) {
        let mut jobs = FixedBitSet::with_capacity(self.plan.jobs.len());
        let planned = &self.plan.jobs[job];
        let mut stages: Vec<usize> = if planned.ordered { self.plan.stages[planned.stage].before.clone() } else { Vec::new() };
        for wait in &planned.waits {
            match wait.on {
                WaitOn::Job(on) => jobs.insert(on),
                WaitOn::Cells(first, count) => jobs.insert_range(first..first + count),
                WaitOn::Stage(stage) => stages.push(stage),
            }
        }
        (jobs, stages)
    }

    /// Depth first with a stack of our own: a plan may be a chain of 100,000 jobs.
    fn visit(&mut self, start: Node) {
        let mut stack = vec![start];
        while let Some(node) = stack.last() {
            let missing = match *node {
                Node::Job(job) if self.reach[job].is_some() => Vec::new(),
                Node::Stage(stage) if self.stage_reach[stage].is_some() => Vec::new(),
                Node::Job(job) => self.finish_job(job),
                Node::Stage(stage) => self.finish_stage(stage),
            };
            if missing.is_empty() {
                stack.pop();
            } else {
                stack.extend(missing);
            }
        }
    }

    fn finish_job(&mut self, job: usize) -> Vec<Node> {
        let (jobs, stages) = self.direct(job);
        let open_jobs = jobs.ones().filter(|&on| self.reach[on].is_none()).map(Node::Job);
        let open_stages = stages.iter().copied().filter(|&on| self.stage_reach[on].is_none()).map(Node::Stage);
        let missing: Vec<Node> = open_jobs.chain(open_stages).collect();
        if missing.is_empty() {
            let mut all = self.beyond(&jobs, &stages);
            all.union_with(&jobs);
            for &stage in &stages {
                all.union_with(&self.members[stage]);
            }
            self.reach[job] = Some(all);
        }
        missing
    }

    fn finish_stage(&mut self, stage: usize) -> Vec<Node> {
        let missing: Vec<Node> = self.members[stage].ones().filter(|&job| self.reach[job].is_none()).map(Node::Job).collect();
        if missing.is_empty() {
            let mut all = FixedBitSet::with_capacity(self.plan.jobs.len());
            for reach in self.members[stage].ones().filter_map(|job| self.reach[job].as_ref()) {
                all.union_with(reach);
            }
            self.stage_reach[stage] = Some(all);
        }
        missing
    }

    /// What the jobs waited for themselves wait for.
    fn beyond(&self, jobs: &FixedBitSet, stages: &[usize]) -> FixedBitSet {
        let mut all = FixedBitSet::with_capacity(self.plan.jobs.len());
        for reach in jobs.ones().filter_map(|job| self.reach[job].as_ref()) {
            all.union_with(reach);
        }
        for reach in stages.iter().filter_map(|&stage| self.stage_reach[stage].as_ref()) {
            all.union_with(reach);
        }
        all
    }

    fn edges_of(&mut self, job: usize) -> Vec<Edge> {
        self.visit(Node::Job(job));
        let (jobs, stages) = self.direct(job);
        let implied = self.beyond(&jobs, &stages);
        let mut all = jobs;
        for &stage in &stages {
            all.union_with(&self.members[stage]);
        }
        all.ones().map(|on| Edge { job: on, because: self.because(job, on), implied: implied.contains(on) }).collect()
    }

    /// The strongest reason for which one job waits for another.
    fn because(&self, job: usize, on: usize) -> Because {
        let planned = &self.plan.jobs[job];
        let stage = self.plan.jobs[on].stage;
        let mut waits = planned.waits.iter().filter(|wait| match wait.on {
            WaitOn::Job(job) => job == on,
            WaitOn::Cells(first, count) => (first..first + count).contains(&on),
            WaitOn::Stage(number) => number == stage,
        });
        match waits.clone().next() {
            _ if waits.any(|wait| wait.takes) => Because::Takes,
            Some(wait) if wait.at_once => Because::AtOnce,
            Some(_) if self.plan.jobs[on].is_cell_of(planned) => Because::Rollout,
            Some(_) => Because::After,
            None => Because::Order,
        }
    }
}
