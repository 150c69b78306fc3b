//! What is put into one environment, and when. A pure machine: an [`Event`] in, with what stands around it
//! ([`Surroundings`]: the rules of this moment, people, what was well elsewhere), [`Effect`]s out. After every event it looks
//! at all that waits, so nothing has to be kept about what comes next, and a second telling changes nothing.
//!
//! ```text
//! a ready job that deploys ── Wants ──▶ waits, with its holds ── Admit ──▶ inside, alone ── Ended ──▶ what is there
//!                                            └── Refuse, Overtake
//! ```
//!
//! - `environment`: each event's own part; `kept`: what is kept;
//! - `admit`: what holds a wish back now;
//! - `hold`: the same, in words;
//! - `name`: what environments may be called;
//! - `insight`: what its history comes to.

mod admit;
mod environment;
mod hold;
mod insight;
mod kept;
mod name;

pub use admit::{asks, why_not};
pub use environment::Environment;
pub use hold::{Hold, Lack, sentence};
pub use insight::{Figures, Kind, Part, Past, Went, figures};
pub use kept::{Doubt, Emergency, Frozen, Inside, Put, Side};
pub use name::environment_name;

use crate::dispatch::Key;
use crate::engine::Millis;
use crate::rules::EnvironmentRules;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A job that is ready to put something into the environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wish {
    pub job: Key,
    /// For people: `tidegauge/41 ship.trial`.
    pub called: String,
    /// The branch of its run, or `tag:…`; of what is not (yet) in one `proposal:…` or `landing:…`, and of a bare commit nothing.
    pub reference: String,
    pub commit: String,
    /// Who started its run; none: a rule did.
    pub by: Option<String>,
    /// It comes from someone who may not push.
    pub outside: bool,
    /// A newer run with the same line takes its place while it waits. None: it was asked for by itself.
    pub line: Option<String>,
    /// Persons whose change it is.
    pub authors: BTreeSet<String>,
    /// The digests of what it takes; of a job that takes nothing the commit.
    pub artifacts: BTreeSet<String>,
    pub way: Way,
    /// The environment has two sides.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sides: bool,
    pub asked_at: Millis,
    /// What people said of it.
    pub words: Vec<Word>,
}

/// How it comes to be put there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "way", rename_all = "snake_case")]
pub enum Way {
    Forward,
    /// It was well there before.
    RollBack,
    /// What is there is taken away.
    Close,
    /// The roll-out that it is part of failed elsewhere: what was there before is put there again, within the same run.
    Undo {
        why: String,
    },
    /// Past the rules; someone else has to confirm it.
    Emergency {
        by: String,
        reason: String,
    },
}

impl Way {
    /// What was there before is put there again.
    pub fn goes_back(&self) -> bool {
        matches!(self, Way::RollBack | Way::Undo { .. })
    }
}

/// An approval or a refusal. It is for exactly these artifacts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Word {
    pub by: String,
    pub agrees: bool,
    pub reason: Option<String>,
    pub at: Millis,
    pub artifacts: BTreeSet<String>,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// A job is ready to deploy. One that waits already stays where it is.
    Wants(Box<Wish>),
    /// Someone approves or refuses what a job would put there, or confirms an emergency.
    Said { job: Key, word: Word },
    /// The job ended before it was let in.
    Gone { job: Key },
    /// The job that was let in has ended.
    Ended { job: Key, end: End, at: Millis },
    /// Someone who may lets what waits go in past the rules.
    Urgent { job: Key, by: String, reason: String },
    /// Someone froze the environment, or let it thaw.
    Frozen(Option<Frozen>),
    /// Time has passed, or something around it changed.
    Look,
}

/// How a deployment ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "end", rename_all = "snake_case")]
pub enum End {
    Well,
    /// No step of it ever began.
    Untouched,
    /// `back`: what was there before is there again.
    Failed {
        why: String,
        back: bool,
    },
    Lost {
        why: String,
    },
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "effect", rename_all = "snake_case")]
pub enum Effect {
    /// The job may start. `rules`: the commit whose rules let it in; `back`: should it fail, what is there now is put there again.
    Admit { job: Key, rules: String, back: bool },
    /// The job ends as refused.
    Refuse { job: Key, why: String },
    /// A newer run takes its place.
    Overtake { job: Key, by: String },
    /// What holds it back is another than before.
    Held { job: Key, holds: Vec<Hold> },
    /// By itself nothing changes before this moment; none: not at all.
    Wake { at: Option<Millis> },
    /// Someone else confirmed what went past the rules.
    Confirmed { job: Key, by: String },
}

/// A time for which something was well in an environment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stay {
    pub since: Millis,
    /// None: it is there.
    pub until: Option<Millis>,
    /// What went wrong with it there.
    pub trouble: Option<String>,
}

/// Who people are.
pub trait People {
    /// Whether a person who is still here is among these names and `@groups`; among those who may operate the project when
    /// there are none.
    fn is_among(&self, person: &str, names: &[String]) -> bool;
    /// How many such persons there are, these left out.
    fn count(&self, names: &[String], without: &BTreeSet<String>) -> usize;
}

/// What stands around an environment at a moment.
pub struct Surroundings<'a> {
    pub now: Millis,
    /// The rules as the main branch's newest commit says them. An error: nobody knows them.
    pub rules: Result<&'a EnvironmentRules, &'a str>,
    /// That commit.
    pub rules_commit: &'a str,
    pub people: &'a dyn People,
    /// For how long something, by its digest, was in another environment.
    pub stays: &'a dyn Fn(&str, &str) -> Vec<Stay>,
    /// Whether something, by its digest, is being put into another environment.
    pub going: &'a dyn Fn(&str, &str) -> bool,
}
