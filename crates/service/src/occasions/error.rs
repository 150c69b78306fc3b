//! Why the runs of an occasion could not be begun.

use ordotaxis_core::engine::State;
use ordotaxis_git::GitError;
use ordotaxis_store::StoreError;

/// Why an occasion led to no run yet.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OccasionError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("`{borrow}` cannot be borrowed from {git} now: {source}")]
    Lender { pipeline: String, borrow: String, git: String, source: GitError },
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
    #[error("the repository has no branch {0}")]
    NoBranch(String),
    #[error("it does not merge into {target}: both changed {}", paths.join(", "))]
    Conflict { target: String, paths: Vec<String> },
}

/// What is not there is looked for so often: it may be on its way. The project's own repository is tried for much longer.
const A_FEW_TRIES: u32 = 5;

impl OccasionError {
    /// How often it is tried, of `most` times: whether it may be otherwise in a moment.
    pub(super) fn tries(&self, most: u32) -> u32 {
        match self {
            OccasionError::Conflict { .. } => 1,
            // An address that was mistyped looks like a repository that is away: its author should not wait for long.
            OccasionError::NoCommit(_) | OccasionError::NoBranch(_) | OccasionError::Lender { .. } => most.min(A_FEW_TRIES),
            OccasionError::Git(_) | OccasionError::Store(_) => most,
        }
    }

    /// What a run says of a commit that could not be read: that nobody could look decides nothing about it.
    pub(super) fn verdict(&self) -> State {
        match self {
            OccasionError::Git(_) | OccasionError::Lender { .. } | OccasionError::Store(_) => State::Lost,
            OccasionError::NoCommit(_) | OccasionError::NoBranch(_) | OccasionError::Conflict { .. } => State::Failed,
        }
    }
}
