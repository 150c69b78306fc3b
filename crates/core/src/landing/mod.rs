//! The landing queue of one branch: proposals land one after another, each tested on top of those ahead of it, and what
//! was tested is exactly what lands. A pure machine: an [`Event`] in, [`Effect`]s out; who does them reports back by
//! another event. Nothing is ever done twice for one report, and a report about what is no longer of use changes nothing.
//!
//! ```text
//! branch ── trial 1 (a) ── trial 2 (b on a) ── trial 3 (c on a and b)
//! ```
//!
//! When trial 2 fails while trial 1 still runs, either may be the reason, and whatever is tried behind them would be a guess:
//! c waits until trial 1 has ended. Where it is known that what failed passes in trial 1, b is the reason: c is tried on a
//! alone at once. When a has landed, b is known to fail on exactly what the branch holds, and leaves. When a leaves instead, b
//! is tried anew.
//!
//! - `queue`: what is kept, and each event's own part;
//! - `settle`: what should be tried now, and what may land;
//! - `place`: where a proposal stands, in words.

mod place;
mod queue;
mod settle;

pub use place::{Place, Standing};
pub use queue::{Entry, Mark, Marked, Queue, Trial, TrialState};

use crate::engine::Millis;
use serde::{Deserialize, Serialize};

/// How a branch takes proposals in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manner {
    /// So many trials run at once, one on top of the other; at least 1.
    pub ahead: usize,
    /// So many proposals are in one trial; at least 1.
    pub together: usize,
}

impl Default for Manner {
    fn default() -> Manner {
        Manner { ahead: 4, together: 1 }
    }
}

/// A proposal with the commit that it offers.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Offered {
    pub proposal: String,
    pub head: String,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// Someone asks to land. A proposal that is in the queue with this commit stays where it is.
    Asked {
        offered: Offered,
        by: String,
        at: Millis,
        /// As in [`Event::Lacks`].
        lacks: Option<String>,
    },
    /// It goes before those that did not ask for that. `rank` 0 is everybody's.
    Ranked {
        proposal: String,
        rank: i64,
    },
    /// It keeps its place and is not tried, or is tried again; with the reason.
    Held {
        proposal: String,
        why: Option<String>,
    },
    /// What it still lacks: approvals, say. None: nothing.
    Lacks {
        proposal: String,
        why: Option<String>,
    },
    /// It leaves: someone took it out, it was closed, its commit changed.
    Leave {
        proposal: String,
        why: String,
    },
    /// The trial's commit was made.
    Made {
        trial: u64,
        commit: String,
    },
    /// It could not be made: the proposal does not fit on what it was put on.
    Conflict {
        trial: u64,
        proposal: String,
        files: Vec<String>,
    },
    /// It need not be made: what it was to be put on holds the proposal already.
    Contained {
        trial: u64,
        proposal: String,
    },
    /// The trial could not be made for a reason that says nothing about its proposals.
    NotMade {
        trial: u64,
        why: String,
    },
    /// All its runs passed.
    Passed {
        trial: u64,
    },
    /// One of its runs did not pass.
    Failed {
        trial: u64,
        sentence: String,
        /// All that failed is known to fail by itself at times.
        flaky: bool,
        /// All that failed has passed in the trial that it was put on top of.
        own: bool,
    },
    /// All that failed in a trial has passed, by now, in the one that it was put on top of.
    Cleared {
        trial: u64,
    },
    /// The branch names this commit now.
    Moved {
        head: String,
    },
    /// The branch was pushed to the trial's commit.
    Landed {
        trial: u64,
    },
    /// It was not pushed. `head`: the branch names that commit, and not the one it should. `sure`: the server said no; else
    /// nobody knows whether the push arrived.
    NotLanded {
        trial: u64,
        head: Option<String>,
        sure: bool,
        why: String,
    },
    /// From now on nothing lands, or things land again; with the reason.
    Shut {
        why: Option<String>,
    },
    Manner(Manner),
    /// Time to try again what could not be done.
    Again,
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "effect", rename_all = "snake_case")]
pub enum Effect {
    /// Put these on top of a commit, in order, and report [`Event::Made`], [`Event::Conflict`],
    /// [`Event::Contained`] or [`Event::NotMade`].
    Make { trial: u64, on: String, group: Vec<Offered> },
    /// Begin the runs of a trial's commit, and report [`Event::Passed`] or [`Event::Failed`]. `again`: once more, since what failed is flaky.
    Try { trial: u64, commit: String, again: bool },
    /// The trial is of no use any more.
    Drop { trial: u64 },
    /// Push the branch from one commit to the other, and nothing else; where the branch holds the commit already it has
    /// landed, whatever came on top of it. Report [`Event::Landed`] or [`Event::NotLanded`].
    Land { trial: u64, from: String, commit: String, group: Vec<Offered> },
    /// It has landed as this commit.
    HasLanded { offered: Offered, commit: String },
    /// It left without landing.
    HasLeft { offered: Offered, why: String },
}
