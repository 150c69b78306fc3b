//! A job that deploys and fails: what was in its environment before is put there again by one more attempt, which is leased what
//! the earlier deployment was.

use super::progress::{Back, Progress};
use super::spread::Step;

impl Step<'_> {
    /// An attempt failed for good. True when one more puts back what was there before.
    pub(super) fn go_back(&mut self, job: usize, why: &str) -> bool {
        let entry = &mut self.run.jobs[job];
        if entry.back != Back::May || entry.progress.cut().is_some() {
            return false;
        }
        entry.back = Back::Goes { why: why.to_owned() };
        let after = Some(format!("{why}; what was there before is put there again"));
        self.enter(job, Progress::Queued { not_before: None, after });
        if self.run.plan.jobs[job].rollout().is_some() {
            self.halt(job, false);
        }
        true
    }

    /// How a job ends whose newest attempt ended so: well (none), or with a reason.
    pub(super) fn end_with_back(&mut self, job: usize, failure: Option<String>) -> Progress {
        let entry = &mut self.run.jobs[job];
        match (&entry.back, failure) {
            (Back::Goes { why }, None) => {
                let why = format!("{why}; what was there before is there again");
                entry.back = Back::Done;
                Progress::Failed { why }
            }
            (Back::Goes { why }, Some(second)) => {
                Progress::Failed { why: format!("{why}; and what was there before could not be put there again: {second}") }
            }
            (_, None) => Progress::Passed,
            (_, Some(why)) => Progress::Failed { why },
        }
    }
}
