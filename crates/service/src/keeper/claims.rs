//! Turns: each a name that one running job may hold, over all runs of its project.

use std::collections::HashMap;
use std::sync::Arc;

/// A job, by its run and its place in the plan.
pub(super) type Job = (i64, usize);

/// Who holds each turn.
#[derive(Debug, Clone, Default)]
pub(super) struct Turns(HashMap<Arc<str>, Job>);

impl Turns {
    /// The job that has the turn now.
    pub(super) fn holder(&self, turn: &str) -> Option<Job> {
        self.0.get(turn).copied()
    }

    /// A running job holds its turn; any other lets it go, if it was its own.
    pub(super) fn set(&mut self, turn: Arc<str>, job: Job, runs: bool) {
        if runs {
            self.0.insert(turn, job);
        } else if self.0.get(&turn) == Some(&job) {
            self.0.remove(&turn);
        }
    }

    /// Lets go of all that runs hold which are forgotten.
    pub(super) fn forget(&mut self, runs: &[i64]) {
        self.0.retain(|_, (run, _)| !runs.contains(run));
    }
}
