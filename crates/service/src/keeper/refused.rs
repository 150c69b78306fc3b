//! What the keeper does not do, and why.

/// The caller's word does not count (any more): a runner with an old session or attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Stale;

/// Why nothing was stopped. Unknown jobs come with the names that there are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StopRefused {
    RunEnded,
    NoSuchJob(Vec<String>),
}

/// Why a job was not started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StartRefused {
    NoSuchRun,
    NoSuchJob(Vec<String>),
    /// What is wrong with them.
    Inputs(String),
    /// What keeps the gate of its stage shut.
    Shut(String),
    NotByHand,
}

/// Why nothing is done again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum AgainRefused {
    NoSuchRun,
    /// The name, and those there are.
    NoSuchJob(String, Vec<String>),
    NotEnded,
    NothingFailed,
}
