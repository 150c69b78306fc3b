//! What wakes those who wait for something new in the database.

use tokio::sync::{Notify, watch};

/// What the rest of the service waits for.
#[derive(Debug)]
pub(super) struct Rings {
    /// The number of the newest event that is on disk.
    pub(super) events: watch::Sender<i64>,
    /// The same of a run's own state: reactions need not look at every job.
    pub(super) run_events: watch::Sender<i64>,
    pub(super) work: Notify,
}
