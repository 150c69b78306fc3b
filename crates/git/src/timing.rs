//! How long calls of git take, of this whole process.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::Histogram;
use std::sync::LazyLock;
use std::time::Instant;

/// Upper bounds, in seconds.
const BOUNDS: [f64; 8] = [0.005, 0.02, 0.1, 0.5, 2.0, 10.0, 60.0, 600.0];

/// What was called and how it ended.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Call {
    /// Git's own command.
    pub verb: String,
    /// `done`, `no` (git said a plain no), `failed`.
    pub end: &'static str,
}

/// Calls of git, in seconds.
pub type Calls = Family<Call, Histogram>;

static CALLS: LazyLock<Calls> = LazyLock::new(|| Family::new_with_constructor(|| Histogram::new(BOUNDS)));

/// What this process has called.
pub fn calls() -> Calls {
    CALLS.clone()
}

/// Counts a call that has come to an end.
pub(crate) fn ended(verb: &str, since: Instant, end: &'static str) {
    CALLS.get_or_create(&Call { verb: verb.to_owned(), end }).observe(since.elapsed().as_secs_f64());
}
