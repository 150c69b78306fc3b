//! One machine, from the wish for it until it is gone.

use super::rules::{Pool, Size};
use crate::engine::Millis;
use crate::language::Capacity;
use serde::{Deserialize, Serialize};

/// Where a machine is in its life.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    /// It is written down, and the provider is asked.
    Wanted,
    /// The provider has it; its runner has not signed on.
    Made,
    /// Its runner waits for work.
    Registered,
    /// Its runner works.
    Busy,
    /// It takes nothing more, and is removed.
    Leaving,
    /// The provider has it no more.
    Gone,
}

impl Stage {
    /// As commands, the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            Stage::Wanted => "wanted",
            Stage::Made => "made",
            Stage::Registered => "registered",
            Stage::Busy => "busy",
            Stage::Leaving => "leaving",
            Stage::Gone => "gone",
        }
    }
}

/// A machine as it is written down. Times are in milliseconds since 1970.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Its name at the provider, its runner's name, and what makes asking twice harmless.
    pub id: String,
    pub pool: String,
    pub stage: Stage,
    /// Since when it is in this stage.
    pub since: Millis,
    /// Why it is.
    pub why: String,
    pub wanted_at: Millis,
    #[serde(default)]
    pub made_at: Option<Millis>,
    #[serde(default)]
    pub registered_at: Option<Millis>,
    #[serde(default)]
    pub gone_at: Option<Millis>,
    /// How large it was asked to be.
    #[serde(default)]
    pub capacity: Capacity,
    /// The longest that it lives, from when it was wanted.
    pub lasts: Millis,
    /// What it cost in an hour when it was made, in millionths.
    #[serde(default)]
    pub price: Option<u64>,
    /// How many jobs it has begun.
    #[serde(default)]
    pub jobs: u32,
    /// Not removed before, so that somebody can look at it; it takes no jobs.
    #[serde(default)]
    pub kept_until: Option<Millis>,
    /// What the provider says of it.
    #[serde(default)]
    pub words: String,
    /// Whatever it does, it is removed; otherwise, once it has nothing to do.
    #[serde(default)]
    pub at_once: bool,
    #[serde(skip)]
    pub(super) memory: Memory,
}

/// What is known of a machine only as long as the service runs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Memory {
    /// The provider is being asked to make it.
    pub(super) asked: bool,
    /// Its runner was told to take nothing more.
    pub(super) drained: bool,
    /// Its runner's credential is worth nothing any more.
    pub(super) ended: bool,
    /// The provider is being asked to remove it.
    pub(super) removing: bool,
    /// When that was asked last, and how often.
    pub(super) remove_asked_at: Option<Millis>,
    pub(super) removals: u32,
    /// When the provider said last that it removed it.
    pub(super) removed_at: Option<Millis>,
    /// The provider listed it as ended before its runner was seen.
    pub(super) listed_ended: bool,
    /// How many lists in a row did not name it.
    pub(super) missed: u32,
}

impl Machine {
    pub(super) fn wanted(id: String, pool: &Pool, why: String, size: Size, now: Millis) -> Machine {
        Machine {
            id,
            pool: pool.name.clone(),
            stage: Stage::Wanted,
            since: now,
            why,
            wanted_at: now,
            made_at: None,
            registered_at: None,
            gone_at: None,
            capacity: size.capacity,
            lasts: size.lasts,
            price: pool.rules.price,
            jobs: 0,
            kept_until: None,
            words: String::new(),
            at_once: false,
            memory: Memory::default(),
        }
    }

    /// Whether both are written down alike.
    pub(super) fn reads_as(&self, other: &Machine) -> bool {
        *self == Machine { memory: self.memory.clone(), ..other.clone() }
    }

    /// Whether it counts as one of its pool's: it is not on its way out, nor kept for a look.
    pub fn serves(&self) -> bool {
        !matches!(self.stage, Stage::Leaving | Stage::Gone) && self.kept_until.is_none()
    }

    /// Whether its runner has yet to come.
    pub fn is_coming(&self) -> bool {
        matches!(self.stage, Stage::Wanted | Stage::Made) && self.kept_until.is_none()
    }

    pub(super) fn has_come(&self) -> bool {
        matches!(self.stage, Stage::Registered | Stage::Busy)
    }

    pub(super) fn go(&mut self, stage: Stage, why: &str, now: Millis) {
        if self.stage != stage {
            (self.stage, self.since) = (stage, now);
            why.clone_into(&mut self.why);
        }
    }

    /// It is to go: at once, or when it has nothing to do. What is to go at once is not waited for any more.
    pub(super) fn leave(&mut self, why: &str, at_once: bool, now: Millis) {
        if self.stage == Stage::Gone {
            return;
        }
        if at_once && !self.at_once {
            self.at_once = true;
            why.clone_into(&mut self.why);
        }
        self.go(Stage::Leaving, why, now);
    }

    /// What it has cost until then, in millionths; none where its price is not known.
    pub fn cost(&self, now: Millis) -> Option<u64> {
        const HOUR: u128 = 3_600_000;
        let from = self.made_at?;
        let ms = self.gone_at.unwrap_or(now).saturating_sub(from).max(0).unsigned_abs();
        u64::try_from(u128::from(self.price?) * u128::from(ms) / HOUR).ok()
    }
}
