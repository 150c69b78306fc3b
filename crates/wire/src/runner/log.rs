//! What an attempt prints, and which part of it goes on.

use crate::run::PhaseView;
use serde::{Deserialize, Serialize};

/// What a log may have unless the service says otherwise.
pub fn log_limit() -> u64 {
    256 * 1024 * 1024
}

/// All phases of the attempt so far; replaces what was sent before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Phases {
    pub phases: Vec<PhaseView>,
}

/// Answers a piece of a log. A piece whose offset is past this was not taken: the runner goes on from here.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LogAnswer {
    /// How many bytes of the log the service has.
    pub offset: u64,
}
