//! Failing and slow answers on demand: each fault meets one call that brings the repository's token, in the order given.

use serde::Deserialize;

/// What the next call meets.
#[derive(Debug, Clone, Deserialize)]
pub struct Fault {
    #[serde(flatten)]
    pub what: What,
    /// Only calls whose path holds this; with a `$` at its end, only those whose path ends so.
    #[serde(default)]
    pub on: String,
}

impl Fault {
    /// Whether a call to this path meets it.
    pub(crate) fn fits(&self, path: &str) -> bool {
        match self.on.strip_suffix('$') {
            Some(end) => path.ends_with(end),
            None => path.contains(&self.on),
        }
    }
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
    /// A good answer that takes its time: it says how things were when it was asked.
    Slow {
        ms: u64,
    },
}
