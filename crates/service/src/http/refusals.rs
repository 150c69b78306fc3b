//! How many refusals the journal takes.

use crate::clock;
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How many refusals of one caller the journal takes within [`WINDOW_MS`]: nobody can fill the disk by being refused.
const NOTED: u32 = 60;
const WINDOW_MS: i64 = 60_000;

/// Refusals of late, by caller.
#[derive(Debug, Default)]
pub(crate) struct Refusals(Mutex<HashMap<String, (u32, i64)>>);

impl Refusals {
    /// Whether a refusal of this caller still goes into the journal: only so many do within the window.
    pub(super) fn may_note(&self, caller: &str) -> bool {
        let now = clock::now();
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.retain(|_, (_, since)| now - *since < WINDOW_MS);
        let (count, _) = known.entry(caller.to_owned()).or_insert((0, now));
        *count += 1;
        *count <= NOTED
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_fill_no_disk() {
        let refusals = Refusals::default();
        assert_eq!((0..500).filter(|_| refusals.may_note("odd")).count(), NOTED as usize);
        assert!(refusals.may_note("maren"));
    }
}
