//! When commits were told their runs' states: so that none is told too often.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A context is told something new at most so often, unless it is the end.
const EACH: Duration = Duration::from_secs(1);
/// More contexts are not remembered.
const REMEMBERED: usize = 10_000;

/// When each context was told something last.
#[derive(Debug, Default)]
pub(crate) struct Told(Mutex<HashMap<(i64, String, String), Instant>>);

impl Told {
    /// How long nothing should be told yet.
    pub(crate) fn rest(&self, of: &(i64, String, String)) -> Option<Duration> {
        let told = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        EACH.checked_sub(told.get(of)?.elapsed())
    }

    /// Something was told now.
    pub(crate) fn note(&self, of: (i64, String, String)) {
        let mut told = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if told.len() >= REMEMBERED {
            told.retain(|_, at| at.elapsed() < EACH);
        }
        told.insert(of, Instant::now());
    }
}
