//! What was found of one thing, and what to do about it.

use crate::out;
use ordotaxis_core::engine::State;
use serde::Serialize;

/// How it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Level {
    Well,
    /// It goes on as it is, and should be looked at.
    Look,
    Wrong,
}

/// What was found of one thing.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Finding {
    pub(super) what: &'static str,
    pub(super) level: Level,
    pub(super) says: String,
    /// What to do; empty where all is well.
    #[serde(rename = "do")]
    pub(super) next: String,
}

impl Finding {
    pub(super) fn well(what: &'static str, says: impl Into<String>) -> Finding {
        Finding { what, level: Level::Well, says: says.into(), next: String::new() }
    }

    pub(super) fn look(what: &'static str, says: impl Into<String>, next: impl Into<String>) -> Finding {
        Finding { what, level: Level::Look, says: says.into(), next: next.into() }
    }

    pub(super) fn wrong(what: &'static str, says: impl Into<String>, next: impl Into<String>) -> Finding {
        Finding { what, level: Level::Wrong, says: says.into(), next: next.into() }
    }

    pub(super) fn row(&self) -> Vec<String> {
        let sign = match self.level {
            Level::Well => State::Passed,
            Level::Look => State::Gated,
            Level::Wrong => State::Failed,
        };
        vec![out::as_state(sign, out::symbol(sign)), self.what.to_owned(), self.says.clone(), self.next.clone()]
    }
}
