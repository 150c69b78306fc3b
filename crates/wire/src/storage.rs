//! The store as a whole: is it sound, and what in it is no longer needed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The result of checking the whole store.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VerifiedView {
    pub packs: u64,
    pub chunks: u64,
    /// As stored.
    pub bytes: u64,
    pub damaged: Vec<DamageView>,
    /// Artifacts, entries of caches and logs that are not whole.
    pub broken: Vec<String>,
}

/// A pack whose bytes are not what was written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DamageView {
    pub pack: String,
    pub why: String,
    /// How many chunks were lost.
    pub chunks: u64,
}

/// Sweep the store: only look, or take away.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Sweep {
    /// False: only say what would be taken away.
    #[serde(default)]
    pub apply: bool,
}

/// What a sweep takes away, or took.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SweepView {
    /// `RUN JOB/ARTIFACT` or `PROJECT KEY`, each with why.
    pub artifacts: Vec<SweptView>,
    pub caches: Vec<SweptView>,
    /// `PROJECT/NUMBER`: runs that are past their age, the oldest first; at most 10,000, and the next sweep goes on.
    #[serde(default)]
    pub runs: Vec<SweptView>,
    /// The same of runs that stay, and whose logs go.
    #[serde(default)]
    pub logs: Vec<SweptView>,
    /// What else is past its age.
    #[serde(default)]
    pub rows: Vec<OldRowsView>,
    /// Packs of which nothing, or little, is needed.
    pub packs: u64,
    /// Small packs that are joined into larger ones.
    pub small: u64,
    /// Files that no record knows: what a crash left.
    pub strays: u64,
    /// What it frees, as stored: about.
    pub bytes: u64,
    pub done: bool,
}

/// What is past its age, by kind.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OldRowsView {
    /// Such as `events`.
    pub what: String,
    pub count: u64,
    /// How long they are kept, such as `7days`.
    pub age: String,
}

/// An artifact, an entry of a cache, or a run that a sweep takes away.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SweptView {
    pub what: String,
    pub why: String,
    /// 0 for runs and logs, whose bytes lie in the database and in packs with others.
    pub bytes: u64,
}
