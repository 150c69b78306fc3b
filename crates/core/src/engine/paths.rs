//! Ways through a run by time: what lies ahead of a job (its rank when runners are few), what a run would take with
//! runners without end, and which jobs made it as long as it was.

use super::Millis;
use crate::graph::topological;
use crate::plan::{Plan, WaitOn};
use std::collections::HashMap;

/// The graph of a plan with its joints: "all of a stage", "a stage's gate" and "all cells of a job" are nodes of their
/// own, so that there are about as many edges as the file has words.
#[derive(Debug, Clone)]
pub struct Paths {
    jobs: usize,
    /// For each node those that it waits for; jobs first.
    waits: Vec<Vec<usize>>,
    /// Every node after what it waits for.
    order: Vec<usize>,
}

/// How long jobs usually take, in milliseconds, by id.
pub type Usual = HashMap<String, Millis>;

impl Paths {
    /// Reads which job waits for which out of a plan. Takes time linear in jobs and waits.
    pub fn new(plan: &Plan) -> Paths {
        let (jobs, stages) = (plan.jobs.len(), plan.stages.len());
        let (whole, gate) = (|stage: usize| jobs + stage, |stage: usize| jobs + stages + stage);
        let mut waits: Vec<Vec<usize>> = vec![Vec::new(); jobs + 2 * stages];
        for (number, stage) in plan.stages.iter().enumerate() {
            waits[gate(number)] = stage.before.iter().map(|&before| whole(before)).collect();
        }
        let mut groups: HashMap<(usize, usize), usize> = HashMap::new();
        for (number, job) in plan.jobs.iter().enumerate() {
            waits[whole(job.stage)].push(number);
            if job.ordered {
                waits[number].push(gate(job.stage));
            }
            for wait in &job.waits {
                let on = match wait.on {
                    WaitOn::Job(on) => on,
                    WaitOn::Stage(stage) => whole(stage),
                    WaitOn::Cells(first, count) => *groups.entry((first, count)).or_insert_with(|| {
                        waits.push((first..first + count).collect());
                        waits.len() - 1
                    }),
                };
                waits[number].push(on);
            }
        }
        // A plan has no circles: it was ordered when it was made.
        let order = topological(waits.len(), &waits).unwrap_or_default();
        Paths { jobs, waits, order }
    }

    /// For each job the longest way from its start to the end of the run, given how long each job takes.
    ///
    /// ```
    /// use ordotaxis_core::engine::Paths;
    /// use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};
    /// let text = "language = 1
    /// [job.build.gauge]
    /// steps = ['make']
    /// [job.test.unit]
    /// steps = ['make check']
    /// after = ['build.gauge']
    /// ";
    /// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
    /// let plan = plan(source, &Occasion::push("main")).expect("a plan").plan;
    /// let takes = |job: usize| [30, 12][job];
    /// assert_eq!(Paths::new(&plan).ahead(takes), [42, 12]);
    /// assert_eq!(Paths::new(&plan).unlimited(takes), 42);
    /// ```
    pub fn ahead(&self, takes: impl Fn(usize) -> Millis) -> Vec<Millis> {
        let mut after: Vec<Millis> = vec![0; self.waits.len()];
        let own = |node: usize| if node < self.jobs { takes(node) } else { 0 };
        for &node in self.order.iter().rev() {
            let way = after[node] + own(node);
            for &on in &self.waits[node] {
                after[on] = after[on].max(way);
            }
        }
        (0..self.jobs).map(|job| after[job] + takes(job)).collect()
    }

    /// How long the whole would take if every job began the moment it may.
    pub fn unlimited(&self, takes: impl Fn(usize) -> Millis) -> Millis {
        self.ahead(takes).into_iter().max().unwrap_or(0)
    }

    /// The chain of jobs that made the run as long as it was, first to last: from the one that ended last, always the one
    /// that was waited for longest. `ended` is None for a job that never ran.
    pub fn critical(&self, ended: impl Fn(usize) -> Option<Millis>) -> Vec<usize> {
        let mut latest: Vec<Option<(Millis, usize)>> = vec![None; self.waits.len()];
        let mut before: Vec<Option<usize>> = vec![None; self.jobs];
        for &node in &self.order {
            let waited = self.waits[node].iter().filter_map(|&on| latest[on]).max();
            latest[node] = match node < self.jobs {
                true => {
                    before[node] = waited.map(|(_, job)| job);
                    // A job that was skipped hands on what it waited for.
                    ended(node).map(|moment| (moment, node)).or(waited)
                }
                false => waited,
            };
        }
        let last = (0..self.jobs).filter_map(|job| ended(job).map(|moment| (moment, job))).max();
        let mut chain: Vec<usize> = std::iter::successors(last.map(|(_, job)| job), |&job| before[job]).collect();
        chain.reverse();
        chain
    }
}
