//! What is kept of an environment: what is there, what goes on, what is in doubt. Fields are added, never renamed.

use super::Wish;
use crate::dispatch::Key;
use crate::engine::Millis;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What was put into the environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Put {
    pub job: Key,
    pub called: String,
    pub artifacts: BTreeSet<String>,
    pub since: Millis,
}

/// A deployment that did not end well, and left nobody knows what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Doubt {
    pub job: Key,
    pub called: String,
    pub since: Millis,
    pub why: String,
}

/// Nothing goes in but what was there before, and what is an emergency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Frozen {
    pub by: String,
    pub reason: String,
    /// None: until someone lets it thaw.
    pub until: Option<Millis>,
}

/// The deployment that goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inside {
    pub wish: Wish,
    pub since: Millis,
    /// The commit whose rules let it in.
    pub rules: String,
}

/// Something that went past the rules.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Emergency {
    pub job: Key,
    pub called: String,
    pub by: String,
    pub reason: String,
    pub at: Millis,
}
