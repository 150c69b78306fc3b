//! How looking at repositories goes.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How looking at projects goes: when each is due, and what kept it from being seen.
#[derive(Debug, Default)]
pub(crate) struct Polls(Mutex<HashMap<i64, Poll>>);

#[derive(Debug, Clone, Default)]
pub(super) struct Poll {
    pub(super) next_at: i64,
    pub(super) fails: u32,
    pub(super) going: bool,
    pub(super) trouble: Option<String>,
}

impl Polls {
    pub(super) fn with<T>(&self, act: impl FnOnce(&mut HashMap<i64, Poll>) -> T) -> T {
        act(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What kept a project from being looked at the last time.
    pub(crate) fn trouble(&self, project_id: i64) -> Option<String> {
        self.with(|polls| polls.get(&project_id)?.trouble.clone())
    }

    /// It is looked at now.
    pub(crate) fn hurry(&self, project_id: i64) {
        self.with(|polls| polls.entry(project_id).or_default().next_at = 0);
    }
}
