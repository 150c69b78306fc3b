//! Failing and slow answers on demand: each fault meets one call that brings the repository's token, in the order given.

use serde::Deserialize;

/// What the next call meets.
#[derive(Debug, Clone, Deserialize)]
pub struct Fault {
    #[serde(flatten)]
    pub what: What,
    /// Only calls whose path holds this.
    #[serde(default)]
    pub on: String,
}

/// How an answer goes wrong.
#[derive(Debug, Clone, Deserialize)]
#[serde(tag = "fault", rename_all = "kebab-case")]
pub enum What {
    /// An answer with this status and nothing else of use.
    Status {
        status: u16,
    },
    /// Too many calls: wait.
    Busy {
        seconds: u64,
    },
    /// The connection breaks in the middle of the body.
    Half,
    /// A page for people with status 200, as who is not signed in gets it.
    Page,
    Redirect {
        to: String,
    },
    /// A good answer that takes its time.
    Slow {
        ms: u64,
    },
}
