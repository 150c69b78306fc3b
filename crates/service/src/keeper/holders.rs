//! Attempts that runners hold now, for those who ask often and must not wait.

use ordotaxis_wire::runner::AttemptId;
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

/// Attempts that runners hold now. The log handler asks it for every piece without waiting for the keeper.
#[derive(Clone, Default)]
pub(crate) struct Holders(Arc<RwLock<HashMap<AttemptId, String>>>);

impl Holders {
    /// Whether the attempt is leased to this runner.
    pub(crate) fn holds(&self, runner: &str, attempt: AttemptId) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).get(&attempt).is_some_and(|holder| holder == runner)
    }

    /// Whether somebody holds it.
    pub(crate) fn goes_on(&self, attempt: AttemptId) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).contains_key(&attempt)
    }

    /// Replaces all.
    pub(super) fn set(&self, held: HashMap<AttemptId, String>) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = held;
    }

    /// The attempt is this runner's.
    pub(super) fn insert(&self, attempt: AttemptId, runner: String) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).insert(attempt, runner);
    }

    /// The attempt is nobody's.
    pub(super) fn remove(&self, attempt: AttemptId) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).remove(&attempt);
    }
}
