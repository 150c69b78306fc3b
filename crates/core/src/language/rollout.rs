//! `rollout`: in what order the cells of a job that deploys come, and what must hold between them.

use super::step::Step;
use serde::{Deserialize, Serialize};

/// How a new version goes out over the cells of a job, each an environment of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rollout {
    pub way: RolloutWay,
    /// One by one: so long between the end of a cell and the next, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub still_ms: Option<u64>,
    /// Part first: the cells that come before the others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<First>,
    /// Part first: what must stay well in the first cells before the others follow. In a plan only these have it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch: Option<Watch>,
    /// Two sides: steps that put the new side in use.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub switch: Vec<Step>,
}

/// The ways to roll out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RolloutWay {
    /// Side by side.
    All,
    OneByOne,
    /// Some, then, when they have been watched, the rest.
    PartFirst,
    /// Each cell has two sides, of which one is in use: the other is made ready, and then put in use.
    TwoSides,
}

/// Which cells come first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum First {
    Cells(usize),
    /// Of a hundred; rounded up.
    Share(u32),
    /// Those with one of these values.
    Named(Vec<String>),
}

/// What is asked again and again after a cell's check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Watch {
    /// For so long, in milliseconds.
    pub for_ms: u64,
    /// The time from one look to the next, in milliseconds.
    pub every_ms: u64,
    /// With so many bad looks, in a row or not, it has failed.
    pub bad: u32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// What the answer of the address must hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
}

impl Rollout {
    /// For each cell whether it comes before the others; `cells`: the values of each.
    pub fn leads(&self, cells: &[Vec<&str>]) -> Vec<bool> {
        let count = |most: usize| (0..cells.len()).map(|at| at < most.max(1)).collect();
        match &self.first {
            Some(First::Cells(most)) => count(*most),
            Some(First::Share(share)) => count((cells.len() * usize::try_from(*share).unwrap_or(100)).div_ceil(100)),
            Some(First::Named(names)) => {
                cells.iter().map(|values| values.iter().any(|value| names.iter().any(|name| name == value))).collect()
            }
            None => count(1),
        }
    }
}

impl RolloutWay {
    /// The word of the file.
    pub fn word(self) -> &'static str {
        match self {
            RolloutWay::All => "all",
            RolloutWay::OneByOne => "one-by-one",
            RolloutWay::PartFirst => "part-first",
            RolloutWay::TwoSides => "two-sides",
        }
    }

    /// The way of a word of the file.
    pub fn from_word(word: &str) -> Option<RolloutWay> {
        [RolloutWay::All, RolloutWay::OneByOne, RolloutWay::PartFirst, RolloutWay::TwoSides].into_iter().find(|way| way.word() == word)
    }
}
