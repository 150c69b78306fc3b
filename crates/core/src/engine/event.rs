//! What can happen to a run, and the effects. These types are the interface between the engine and the service.

use super::Millis;
use super::numbers::Numbers;
use crate::delivery::Hold;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One thing that happened to a run. Jobs are named by their place in the plan, attempts by their number from 1 on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The run was written down.
    Begun,
    /// A runner takes a queued job; `attempt` is one more than the job's newest.
    Claimed { job: usize, attempt: u32, runner: String },
    /// A runner begins, at the moment `at`, with a job that it took ahead of time: the job's time counts from then on.
    WorkBegun { job: usize, attempt: u32, at: Millis },
    /// A runner took a job ahead of time and gives it back, not begun. The attempt's number is used again, and the job keeps
    /// its place in the queue: it counts as queued since the moment `since`.
    GivenBack { job: usize, attempt: u32, since: Millis },
    /// Facts that an attempt left for later jobs, and the numbers of its reports; sent while it runs.
    Said { job: usize, attempt: u32, facts: BTreeMap<String, String>, numbers: Numbers },
    /// The result of an earlier run is taken over: nothing that can change it has changed.
    Reused { job: usize, from: String, facts: BTreeMap<String, String>, numbers: Numbers },
    /// A runner says how an attempt ended. `why` is a sentence for every outcome but passed.
    Ended { job: usize, attempt: u32, outcome: Outcome, exit_code: Option<i32>, why: Option<String> },
    /// An attempt's runner fell silent or came back without it.
    Lost { job: usize, attempt: u32, why: String },
    /// The pause before another try is over.
    PauseOver { job: usize },
    /// Someone asks to stop one job, or with none the whole run.
    StopAsked { job: Option<usize>, by: String },
    /// Someone starts a job that starts by hand only, with inputs of its own.
    StartAsked { job: usize, by: String, inputs: BTreeMap<String, String> },
    /// Someone asks for jobs once more, and for what follows them; with none for all that did not end well.
    Again { jobs: Vec<usize>, by: String, fresh: bool },
    /// A newer commit made this run pointless; `by` is its run.
    Overtaken { by: String },
    /// The environment that a job wants into keeps it out, for these reasons.
    HeldBack { job: usize, holds: Vec<Hold> },
    /// The environment lets the job in. `back`: should it fail, what was there before is put there again.
    LetIn { job: usize, back: bool },
    /// What the job would have put there was refused.
    Refused { job: usize, why: String },
    /// A newer run, `by`, takes the job's place before the environment.
    Replaced { job: usize, by: String },
}

/// How an attempt can end, as its runner sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    Passed,
    Failed,
    /// It exceeded a time limit: a failure that `retry` can distinguish from others.
    TimedOut,
    Stopped,
}

/// What an event did.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Effects {
    /// Jobs whose state is another now, in the order it happened.
    pub changed: Vec<usize>,
    /// Jobs that want into their environments now.
    pub wants: Vec<usize>,
    /// Jobs that were skipped after they had asked to go into their environments, or had been let in.
    pub withdrawn: Vec<usize>,
    /// Attempts that should stop: (job, attempt).
    pub stop: Vec<(usize, u32)>,
    /// Whether the run's own state is another now.
    pub run_changed: bool,
}

impl Effects {
    /// Whether nothing changed: the event was a repeat.
    pub fn is_empty(&self) -> bool {
        self == &Effects::default()
    }
}

/// Why an event was not applied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    #[error("this attempt was given up and is no longer wanted")]
    Stale,
    #[error("this job cannot be taken now")]
    NotQueued,
    #[error("there is no such job in this run")]
    NoSuchJob,
    #[error("this job does not start by hand, or was started already")]
    NotByHand,
    #[error("the gate of this job's stage is shut")]
    Shut,
    #[error("this job has not ended")]
    NotEnded,
    #[error("every job of this run ended well")]
    NothingFailed,
}
