//! What tokens of jobs are called.

/// The variable that a job's own token is in.
pub(crate) const TOKEN: &str = "ORDOTAXIS_TOKEN";
/// What tokens of jobs begin with.
pub(crate) const TOKEN_PREFIX: &str = "oxj_";
