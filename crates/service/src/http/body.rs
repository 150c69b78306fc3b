//! What bodies may be.

use std::time::Duration;

/// How long a body may pause on its way.
pub(super) const PAUSE: Duration = Duration::from_secs(30);
/// The largest body of a call that is not a log or a blob.
pub(super) const LIMIT: usize = 1024 * 1024;
