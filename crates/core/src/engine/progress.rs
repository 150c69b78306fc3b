//! What a job is at: one variant for each [`State`], with exactly what belongs to it, so that no job can be queued with
//! a reason to be lost, or skipped without one.

use super::{Millis, State};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// What a job is at. All but `Waiting`, `Gated`, `Queued` and `Running` are ends. Each `why` is one sentence for a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Progress {
    /// Something that it waits for has not ended.
    Waiting,
    /// All that it waits for has ended; it is held back all the same.
    Gated(Hold),
    /// Ready for a runner. With `not_before` it pauses until about then, before another try; `after` says how the attempt
    /// before failed.
    Queued {
        not_before: Option<Millis>,
        after: Option<String>,
    },
    /// A runner works on the newest attempt; with `cut` it was asked to stop.
    Running {
        cut: Option<Cut>,
    },
    Passed,
    Failed {
        why: String,
    },
    /// `unwanted`: a condition of its own, decided when it was about to start, is false.
    Skipped {
        why: String,
        unwanted: bool,
    },
    /// The result of the run `from` was taken over.
    Reused {
        from: String,
    },
    Stopped {
        why: String,
    },
    /// The run `by`, of a newer commit, made it pointless.
    Overtaken {
        by: String,
    },
    Lost {
        why: String,
    },
    Refused {
        why: String,
    },
}

/// What holds back a job that could start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hold {
    /// It starts by hand only, and nobody has started it.
    ByHand,
    /// The gate of its stage is shut.
    Shut { why: String },
    /// Its roll-out rests after the cell before, until about then.
    Rests { until: Millis },
    /// It wants into an environment; with all that keeps it out. Empty: it has just asked.
    Environment { holds: Vec<crate::delivery::Hold> },
}

impl Hold {
    /// Whether the run has its verdict without the job: it waits for people, or for a time. What waits only for another
    /// deployment to end is as good as queued.
    pub(super) fn is_long(&self) -> bool {
        match self {
            Hold::ByHand | Hold::Shut { .. } => true,
            Hold::Rests { .. } => false,
            Hold::Environment { holds } => holds.iter().any(|hold| !hold.is_short()),
        }
    }
}

/// Why a running attempt is to end early. A stop that someone asked for counts before a newer commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cut {
    /// `by` asked for it.
    Stopped { by: String },
    /// The run `by`, of a newer commit, made it pointless.
    Overtaken { by: String },
}

impl Progress {
    /// In the queue, free to be taken at once.
    pub fn queued() -> Progress {
        Progress::Queued { not_before: None, after: None }
    }

    /// Stopped because `by` asked for it.
    pub fn stopped_by(by: &str) -> Progress {
        Progress::Stopped { why: format!("stopped by {by}") }
    }

    /// The state without its data.
    pub fn state(&self) -> State {
        match self {
            Progress::Waiting => State::Waiting,
            Progress::Gated(_) => State::Gated,
            Progress::Queued { .. } => State::Queued,
            Progress::Running { .. } => State::Running,
            Progress::Passed => State::Passed,
            Progress::Failed { .. } => State::Failed,
            Progress::Skipped { .. } => State::Skipped,
            Progress::Reused { .. } => State::Reused,
            Progress::Stopped { .. } => State::Stopped,
            Progress::Overtaken { .. } => State::Overtaken,
            Progress::Lost { .. } => State::Lost,
            Progress::Refused { .. } => State::Refused,
        }
    }

    /// What happened, in one sentence: for every end but passed, for a shut gate and for a job that is tried again.
    pub fn why(&self) -> Option<Cow<'_, str>> {
        let why: &str = match self {
            Progress::Reused { from } => return Some(format!("the same as in {from}").into()),
            Progress::Overtaken { by } => return Some(format!("overtaken by {by}, a newer commit").into()),
            Progress::Gated(Hold::Shut { why }) | Progress::Failed { why } | Progress::Skipped { why, .. } => why,
            Progress::Stopped { why } | Progress::Lost { why } | Progress::Refused { why } | Progress::Queued { after: Some(why), .. } => {
                why
            }
            Progress::Waiting
            | Progress::Gated(Hold::ByHand | Hold::Rests { .. } | Hold::Environment { .. })
            | Progress::Queued { after: None, .. } => {
                return None;
            }
            Progress::Running { .. } | Progress::Passed => return None,
        };
        Some(why.into())
    }

    /// Whether the run has its verdict without the job, as long as it is at this.
    pub(super) fn is_held_long(&self) -> bool {
        matches!(self, Progress::Gated(hold) if hold.is_long())
    }

    /// Of a job that deploys: whether its environment knows of it.
    pub(super) fn has_asked(&self) -> bool {
        matches!(self, Progress::Gated(Hold::Environment { .. }) | Progress::Queued { .. })
    }

    /// Whether it takes one of the places that `at_once` gives to the cells of a matrix.
    pub(super) fn takes_place(&self) -> bool {
        matches!(self, Progress::Queued { .. } | Progress::Running { .. } | Progress::Gated(Hold::Environment { .. }))
    }

    /// Until when a job pauses that time alone lets go on.
    pub fn pause(&self) -> Option<Millis> {
        match self {
            Progress::Queued { not_before, .. } => *not_before,
            Progress::Gated(Hold::Rests { until }) => Some(*until),
            _ => None,
        }
    }

    /// Why a running attempt is to end early.
    pub fn cut(&self) -> Option<&Cut> {
        if let Progress::Running { cut } = self { cut.as_ref() } else { None }
    }
}

/// Whether a job goes back.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "back", rename_all = "snake_case")]
pub enum Back {
    /// What it leaves there stays there.
    #[default]
    No,
    /// Should it fail.
    May,
    /// It failed, or the roll-out that it is part of did, and its newest attempt puts there what was there before.
    Goes { why: String },
    /// What was there before is there again.
    Done,
}
