//! One message at a time goes to each receiver.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

/// The receivers that are being told something.
#[derive(Debug, Default)]
pub(crate) struct Busy(Mutex<HashSet<String>>);

/// As long as it lives, nobody else tells this receiver anything.
pub(super) struct Only<'a>(&'a Busy, String);

impl Busy {
    /// None: someone else does.
    pub(super) fn only(&self, receiver: &str) -> Option<Only<'_>> {
        let new = self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(receiver.to_owned());
        new.then(|| Only(self, receiver.to_owned()))
    }
}

impl Drop for Only<'_> {
    fn drop(&mut self) {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.1);
    }
}
