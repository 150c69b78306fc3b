//! Places in storage that runners were given to put a pack at, until they say that it is there.

use crate::clock;
use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// So many at a time for a runner: it sends a few packs side by side, and what it broke off runs out.
const MOST: usize = 64;

/// Places that were given out and not yet used. A service that starts anew knows of none: runners then send their packs
/// to it, and what they had put is swept.
#[derive(Default)]
pub(crate) struct Offers(Mutex<HashMap<String, Offer>>);

struct Offer {
    runner: String,
    bytes: u64,
    ends_at: i64,
}

impl Offers {
    fn open(&self) -> MutexGuard<'_, HashMap<String, Offer>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a runner may be given another.
    pub(crate) fn has_room(&self, runner: &str) -> bool {
        let (mut open, now) = (self.open(), clock::now());
        open.retain(|_, offer| offer.ends_at > now);
        open.values().filter(|offer| offer.runner == runner).count() < MOST
    }

    /// A place for so many bytes was given out.
    pub(crate) fn give(&self, name: String, runner: &str, bytes: u64) {
        let ends_at = clock::now() + i64::try_from(ordotaxis_store::DIRECT_FOR.as_millis()).unwrap_or(i64::MAX);
        self.open().insert(name, Offer { runner: runner.to_owned(), bytes, ends_at });
    }

    /// Takes one back, once, from the runner that was given it: how many bytes were to be put there.
    pub(crate) fn take(&self, name: &str, runner: &str) -> Option<u64> {
        let mut open = self.open();
        let own = open.get(name).is_some_and(|offer| offer.runner == runner && offer.ends_at > clock::now());
        if own { open.remove(name).map(|offer| offer.bytes) } else { None }
    }
}
