//! How long jobs wait before they run, by what for; and how many ended how. Noted with each change of a job, counted once the
//! change is on disk.

use crate::counters::{Counters, WaitedFor};
use ordotaxis_core::engine::{Progress, State};
use std::time::Duration;

/// What a job was at when that was last noted, and since when.
#[derive(Debug, Clone, Copy)]
pub(super) struct Noted {
    at: i64,
    is: Is,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Is {
    Waiting(WaitedFor),
    Running,
    Ended,
}

impl Is {
    fn of(progress: &Progress, turn_is_taken: bool) -> Is {
        match progress {
            Progress::Waiting => Is::Waiting(WaitedFor::Jobs),
            Progress::Gated(_) => Is::Waiting(WaitedFor::Gate),
            Progress::Queued { not_before: Some(_), .. } => Is::Waiting(WaitedFor::Pause),
            Progress::Queued { not_before: None, .. } if turn_is_taken => Is::Waiting(WaitedFor::Turn),
            Progress::Queued { not_before: None, .. } => Is::Waiting(WaitedFor::Runner),
            Progress::Running { .. } => Is::Running,
            _ => Is::Ended,
        }
    }
}

impl Noted {
    /// As a job is found when its run is read back or begun.
    pub(super) fn found(progress: &Progress, since: i64) -> Noted {
        Noted { at: since, is: Is::of(progress, false) }
    }
}

/// What a batch changed that is counted.
#[derive(Debug, Default)]
pub(super) struct Counted {
    waits: Vec<(WaitedFor, i64)>,
    jobs: Vec<State>,
}

impl Counted {
    /// Once it is on disk.
    pub(super) fn count(self, counters: &Counters) {
        for (waited_for, ms) in self.waits {
            counters.waited(waited_for, Duration::from_millis(ms.max(0).unsigned_abs()));
        }
        self.jobs.into_iter().for_each(|state| counters.job_ended(state));
    }
}

impl Noted {
    /// The job is at this now, after `before`. None when that is the same, as far as it is counted.
    pub(super) fn next(before: Noted, progress: &Progress, turn_is_taken: bool, now: i64, counted: &mut Counted) -> Option<Noted> {
        let is = Is::of(progress, turn_is_taken);
        let queues = |is| matches!(is, Is::Waiting(WaitedFor::Turn | WaitedFor::Runner));
        // What it queued for counts until it runs, whatever becomes of the turn meanwhile.
        if before.is == is || (queues(before.is) && queues(is)) {
            return None;
        }
        if let Is::Waiting(waited_for) = before.is {
            counted.waits.push((waited_for, now - before.at));
        }
        if is == Is::Ended {
            counted.jobs.push(progress.state());
        }
        Some(Noted { at: now, is })
    }
}

/// What all jobs of a run are at.
pub(super) fn found(run: &ordotaxis_core::engine::Run) -> Vec<Noted> {
    run.jobs().iter().map(|job| Noted::found(&job.progress, job.since)).collect()
}
