//! How far the backup that the service keeps goes.

use ordotaxis_store::backup::Stream;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use tokio::sync::Mutex;

/// How far the backup goes.
pub(crate) struct Backup {
    pub(crate) stream: Mutex<Option<Begun>>,
    /// Everything up to this moment is in it; the service's start as long as it is just being begun.
    pub(crate) reaches: AtomicI64,
    pub(crate) trouble: AtomicBool,
}

/// A copy that the service follows, and when it was begun.
pub(crate) struct Begun {
    pub(crate) stream: Stream,
    pub(crate) at: i64,
}

impl Backup {
    pub(crate) fn new(now: i64) -> Backup {
        Backup { stream: Mutex::default(), reaches: now.into(), trouble: false.into() }
    }

    /// For how long what changes has not reached it, in milliseconds.
    pub(crate) fn behind(&self, now: i64) -> i64 {
        now - self.reaches.load(Ordering::Relaxed)
    }
}
