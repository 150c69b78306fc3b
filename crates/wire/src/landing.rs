//! The landing queue: what is asked, and where everything stands.

use crate::proposal::VerdictView;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Asks for a proposal to land, or changes where it stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LandAsk {
    pub what: LandingStep,
    /// Why: of `leave` and `hold`.
    #[serde(default)]
    pub why: Option<String>,
}

/// A project's rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RulesView {
    /// Where the file stands.
    pub path: String,
    /// Its text on the main branch; none where there is none, or it cannot be read.
    pub file: Option<String>,
    /// What the service keeps besides; empty: nothing.
    pub kept: String,
    /// Why the rules cannot be read; nothing lands until then.
    pub trouble: Option<String>,
}

/// Keeps rules in the service, besides those of the main branch.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetRules {
    /// TOML, as in the file; empty takes them away.
    pub text: String,
}

/// What is done with a proposal in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LandingStep {
    /// It takes its place in the queue.
    Land,
    /// It leaves.
    Leave,
    /// It goes before those that nobody put first.
    First,
    /// It keeps its place and is not tried.
    Hold,
    /// It is tried again after a hold.
    Release,
}

/// A project's landing queues, one a branch that ever had one, and what landed or left last.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LandingView {
    pub branches: Vec<LandingBranch>,
    pub ended: Vec<LandingEndView>,
    /// Why the rules cannot be read; nothing lands until then.
    pub trouble: Option<String>,
}

/// One branch's queue.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LandingBranch {
    pub branch: String,
    /// The commit that it names, as far as the queue knows.
    pub head: String,
    /// Why nothing lands now.
    pub shut: Option<String>,
    pub entries: Vec<LandingEntry>,
}

/// A proposal in a queue.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LandingEntry {
    pub proposal: String,
    pub title: String,
    /// Who asked for it to land.
    pub by: String,
    #[schema(value_type = String, format = DateTime)]
    pub asked_at: Timestamp,
    /// Counted from 1.
    pub place: usize,
    /// The proposals ahead of it.
    pub ahead: Vec<String>,
    /// What it waits for, in words.
    pub sentence: String,
    /// Its trial's number, where it is tried.
    pub trial: Option<u64>,
    /// The other proposals of its trial.
    pub together: Vec<String>,
    /// The commit that is tested, and that lands.
    pub commit: Option<String>,
    /// When it will likely land, by how long runs took so far; none where that is not known.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub expected_at: Option<Timestamp>,
    /// The runs of its trial.
    pub runs: Vec<VerdictView>,
}

/// A proposal that landed or left.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LandingEndView {
    pub proposal: String,
    pub branch: String,
    /// What it landed as.
    pub commit: Option<String>,
    /// Why it left.
    pub why: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}
