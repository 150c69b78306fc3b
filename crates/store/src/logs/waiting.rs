//! Logs that were closed and wait to be moved into the store.

use crate::log_id::LogId;
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::sync::Notify;

/// Logs that wait to be moved.
#[derive(Default)]
pub(super) struct Waiting {
    pub(super) ids: Mutex<VecDeque<LogId>>,
    pub(super) come: Notify,
}

impl Waiting {
    /// The logs that wait, under a lock: hold it for a moment only.
    pub(super) fn ids(&self) -> MutexGuard<'_, VecDeque<LogId>> {
        self.ids.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds logs and wakes whoever moves them.
    pub(super) fn add(&self, ids: impl IntoIterator<Item = LogId>) {
        self.ids().extend(ids);
        self.come.notify_one();
    }
}
