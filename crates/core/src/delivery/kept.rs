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
    /// Where it has two sides: the one that this is on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
}

/// One of the two sides of an environment. One is in use; what is new is put on the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    A,
    B,
}

impl Side {
    /// The letter by which steps know it.
    pub fn word(self) -> &'static str {
        match self {
            Side::A => "a",
            Side::B => "b",
        }
    }

    /// The side that is not this one.
    #[must_use]
    pub fn other(self) -> Side {
        match self {
            Side::A => Side::B,
            Side::B => Side::A,
        }
    }
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
    /// Where it has two sides: the one that it is put on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
    /// It is there already, on that side: it has only to be put in use.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub switch: bool,
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
