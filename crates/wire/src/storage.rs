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

/// An artifact, or an entry of a cache, that a sweep takes away.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SweptView {
    pub what: String,
    pub why: String,
    pub bytes: u64,
}
