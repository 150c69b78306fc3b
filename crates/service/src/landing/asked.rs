//! What is kept of a landing queue's work until it is done.

use ordotaxis_core::landing::Effect;
use serde::{Deserialize, Serialize};

/// A piece of work for a branch's queue; the body of its row, version 1.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "landing", rename_all = "snake_case")]
pub(crate) enum LandingWork {
    /// Something that the queue asks for.
    Effect { branch: String, effect: Effect },
    /// Someone gave a word on a proposal: what it lacks may be otherwise.
    Looked { branch: String },
    /// A run of a trial has ended.
    Ended { branch: String, trial: u64 },
}
