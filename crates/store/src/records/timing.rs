//! How long changes wait for the one connection that writes, and how long they take.

use prometheus_client::metrics::histogram::Histogram;

/// Upper bounds, in seconds.
const BOUNDS: [f64; 8] = [0.000_5, 0.002, 0.01, 0.05, 0.25, 1.0, 5.0, 30.0];

/// In seconds, each change once. Clones count together.
#[derive(Debug, Clone)]
pub struct Timing {
    /// Until the connection was free.
    pub waited: Histogram,
    /// From then until all of it was on disk. A change that was not made is not counted.
    pub took: Histogram,
}

impl Default for Timing {
    fn default() -> Timing {
        Timing { waited: Histogram::new(BOUNDS), took: Histogram::new(BOUNDS) }
    }
}
