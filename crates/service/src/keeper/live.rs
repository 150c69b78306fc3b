//! A run that goes on, with all that is worked out about it once.

use super::artifact::Given;
use super::info::RunInfo;
use super::ready::Looked;
use super::waits::{Noted, found};
use ordotaxis_core::dispatch::{Needs, Queued};
use ordotaxis_core::engine::{Millis, Paths, Run, Usual};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// What is taken for the time of a job when nothing is known of any.
const UNKNOWN_MS: Millis = 1_000;

/// A run that goes on, with what is computed once for it.
#[derive(Clone)]
pub(super) struct LiveRun {
    pub(super) info: RunInfo,
    pub(super) run: Run,
    pub(super) given: Given,
    pub(super) times: Times,
    /// How long each job usually takes; those unknown count as the median of the known.
    pub(super) usual: Vec<Millis>,
    /// Whether anything is known of that.
    pub(super) usual_known: bool,
    /// The longest way from each job's start to the end of the run.
    ahead: Vec<Millis>,
    needs: Vec<Arc<Needs>>,
    /// For each job the outcome of looking for a result to take over.
    pub(super) looked: HashMap<usize, Looked>,
    /// What the checks of jobs that deploy were answered last.
    pub(super) answers: HashMap<usize, String>,
    /// What each job was at when that was noted last.
    pub(super) noted: Vec<Noted>,
}

/// When a run goes on, in milliseconds since 1970.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Times {
    /// Its first start.
    pub(super) started: Option<i64>,
    /// Its newest end; none while it goes on.
    pub(super) ended: Option<i64>,
    /// How long, in between, it had ended already.
    pub(super) rest_ms: i64,
}

impl Times {
    /// The run changed to a state that is an end or not.
    pub(super) fn change(&mut self, is_end: bool, now: i64) {
        self.started.get_or_insert(now);
        if let Some(ended) = self.ended.take() {
            self.rest_ms += (now - ended).max(0);
        }
        self.ended = is_end.then_some(now);
    }

    /// How long it went on by then.
    pub(super) fn took(&self, now: i64) -> Option<i64> {
        Some(self.ended.unwrap_or(now) - self.started? - self.rest_ms)
    }
}

impl LiveRun {
    /// `usual` says how long jobs took before: it gives each job's place in the queue.
    pub(super) fn new(info: RunInfo, run: Run, given: Given, times: Times, usual: &Usual) -> LiveRun {
        let jobs = &run.plan().jobs;
        let known: Vec<Option<Millis>> = jobs.iter().map(|job| usual.get(job.id.as_str()).copied()).collect();
        let mut sorted: Vec<Millis> = known.iter().flatten().copied().collect();
        sorted.sort_unstable();
        let median = sorted.get(sorted.len() / 2).copied().unwrap_or(UNKNOWN_MS);
        let takes: Vec<Millis> = known.iter().map(|ms| ms.unwrap_or(median)).collect();
        let ahead = Paths::new(run.plan()).ahead(|job| takes[job]);
        let mut same: HashSet<Arc<Needs>> = HashSet::new();
        let needs = jobs.iter().map(|job| {
            let needs = Needs::of(job, &info.project, &run.plan().occasion);
            same.get(&needs).cloned().unwrap_or_else(|| {
                let needs = Arc::new(needs);
                same.insert(needs.clone());
                needs
            })
        });
        LiveRun {
            needs: needs.collect(),
            usual_known: !sorted.is_empty(),
            usual: takes,
            ahead,
            noted: found(&run),
            info,
            run,
            given,
            times,
            looked: HashMap::new(),
            answers: HashMap::new(),
        }
    }

    /// The turn that a job wants: the project's own, so that two projects never wait for each other by chance.
    pub(super) fn turn(&self, job: usize) -> Option<Arc<str>> {
        let turn = self.run.plan().jobs[job].extras.as_ref()?.turn.as_ref()?;
        Some(format!("{}/{}", self.info.project, super::lease::filled(&self.info, turn)).into())
    }

    /// What the queue knows of a job.
    pub(super) fn queued(&self, job: usize) -> Queued {
        Queued {
            project: self.info.project_id,
            needs: self.needs[job].clone(),
            turn: self.turn(job),
            since: self.run.jobs()[job].since,
            ahead: self.ahead[job],
            usual: self.usual[job],
        }
    }

    /// What a runner must have to do this job.
    pub(super) fn needs(&self, job: usize) -> &Needs {
        &self.needs[job]
    }

    /// `PROJECT/NUMBER`
    pub(super) fn name(&self) -> String {
        format!("{}/{}", self.info.project, self.info.number)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However often a run comes back: it took as long as it went on, from its first start on.
        #[test]
        fn a_run_that_comes_back_took_what_all_its_stretches_took(stretches in prop::collection::vec((0..900i64, 1..900i64), 1..6)) {
            let (mut times, mut now, mut went) = (Times::default(), 1_000, 0);
            for (rest, work) in stretches {
                now += rest;
                times.change(false, now);
                times.change(false, now + work / 2);
                prop_assert_eq!(times.took(now + work / 2), Some(went + work / 2));
                now += work;
                times.change(true, now);
                went += work;
                prop_assert_eq!(times.took(now + 10_000), Some(went), "it stands when it has ended");
            }
            prop_assert!(times.started >= Some(1_000) && times.ended == Some(now));
        }
    }
}
