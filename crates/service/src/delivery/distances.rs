//! How far commits are behind others, once counted.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How many are remembered.
const KEPT: usize = 10_000;

/// Project, commit, newer commit.
type Between = (i64, String, String);

/// How many commits lie between, and when the oldest of them was made, in milliseconds since 1970. When it is full it is
/// emptied.
#[derive(Default)]
pub(crate) struct Distances(Mutex<HashMap<Between, (usize, Option<i64>)>>);

impl Distances {
    pub(super) fn get(&self, between: &Between) -> Option<(usize, Option<i64>)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(between).copied()
    }

    pub(super) fn keep(&self, between: Between, found: (usize, Option<i64>)) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= KEPT {
            kept.clear();
        }
        kept.insert(between, found);
    }
}
