//! Calls with a key that go on: of those with the same key one at a time.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

/// Calls that go on, by their keys.
#[derive(Debug, Default)]
pub(crate) struct KeyedCalls(Mutex<HashMap<String, Weak<tokio::sync::Mutex<()>>>>);

impl KeyedCalls {
    /// The lock of a key. Locks that nobody holds are forgotten.
    pub(super) fn of(&self, key: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.retain(|_, lock| lock.strong_count() > 0);
        if let Some(lock) = known.get(key).and_then(Weak::upgrade) {
            return lock;
        }
        let lock = Arc::new(tokio::sync::Mutex::new(()));
        known.insert(key.to_owned(), Arc::downgrade(&lock));
        lock
    }
}
