//! A run as a state machine: [`Run::apply`] takes one event and says what changed. Nothing else changes a state.
//!
//! Rules, in the words of the language guide: a job is queued when everything it waits for has ended well; when
//! something it waits for ended otherwise, it is skipped and says because of which job; a job is tried again where its
//! `retry` says so; a run ends when every job has, those left out that wait for someone to start them. Applying an event twice changes nothing the second time.

mod apply;
mod back;
mod clock;
mod deploys;
mod event;
mod gates;
mod late;
mod numbers;
mod paths;
mod progress;
mod retry;
mod returns;
mod rollout;
mod spread;
mod state;
mod why;

pub use clock::Clock;
pub use event::{Effects, Event, Outcome, Refused};
pub use gates::why_shut;
pub use numbers::{Number, Numbers, shown, sums};
pub use paths::{Paths, Usual};
pub use progress::{Back, Cut, Hold, Progress};
pub use state::{JobState, Run};
pub use why::why_job;

use serde::{Deserialize, Serialize};

/// A moment in milliseconds since 1970, UTC. The engine gets the time with each event; it never reads a clock.
pub type Millis = i64;

/// The state of a job or a run. Not every state fits a run: it is never queued.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum State {
    /// For other jobs; for a run: no job has started.
    Waiting,
    Gated,
    /// Ready, but no runner has taken it.
    Queued,
    Running,
    Passed,
    Failed,
    Skipped,
    Reused,
    Stopped,
    Overtaken,
    Lost,
    /// What it would have put into an environment was refused.
    Refused,
}

impl State {
    /// Every state, those that are no end first.
    pub const ALL: [State; 12] = [
        State::Waiting,
        State::Gated,
        State::Queued,
        State::Running,
        State::Passed,
        State::Failed,
        State::Skipped,
        State::Reused,
        State::Stopped,
        State::Overtaken,
        State::Lost,
        State::Refused,
    ];

    /// Whether it is final: no event but `Again` leaves it.
    pub fn is_end(self) -> bool {
        !matches!(self, State::Waiting | State::Gated | State::Queued | State::Running)
    }

    /// Neither started nor ended.
    pub fn is_unstarted(self) -> bool {
        matches!(self, State::Waiting | State::Gated | State::Queued)
    }

    /// The state as the API, the database and the terminal write it.
    pub fn word(self) -> &'static str {
        match self {
            State::Waiting => "waiting",
            State::Gated => "gated",
            State::Queued => "queued",
            State::Running => "running",
            State::Passed => "passed",
            State::Failed => "failed",
            State::Skipped => "skipped",
            State::Reused => "reused",
            State::Stopped => "stopped",
            State::Overtaken => "overtaken",
            State::Lost => "lost",
            State::Refused => "refused",
        }
    }

    /// The state of a stored word; none for a word that is no state.
    pub fn from_word(word: &str) -> Option<State> {
        State::ALL.into_iter().find(|state| state.word() == word)
    }
}
