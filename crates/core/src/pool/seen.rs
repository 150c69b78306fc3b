//! What is seen of runners: those of pools, by the names of their machines, and all others.

use crate::dispatch::Offer;
use crate::engine::Millis;
use crate::language::Capacity;

/// One job on a runner.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Doing {
    /// When it is likely to end; none: nobody knows.
    pub ends_at: Option<Millis>,
    pub capacity: Capacity,
}

/// A connected runner.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Seen {
    pub offer: Offer,
    pub doing: Vec<Doing>,
    /// How many jobs it has begun since it signed on.
    pub begun: u32,
    /// When it last began or ended one.
    pub worked_at: Option<Millis>,
}

/// A runner that has left by itself since it was looked at last; it may have come since then, too.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    pub name: String,
    /// How many jobs it had begun.
    pub begun: u32,
}

/// When a job is likely to end that usually takes so long and goes on since then. One that has taken longer than usual is guessed to
/// go on for as long again as it is late: what hangs is not taken for what is about to end.
///
/// ```
/// use ordotaxis_core::pool::likely_end;
/// assert_eq!(likely_end(0, 60, 50), 60);
/// assert_eq!(likely_end(0, 60, 100), 140);
/// ```
pub fn likely_end(started_at: Millis, usual: Millis, now: Millis) -> Millis {
    let end = started_at.saturating_add(usual);
    if end >= now { end } else { now.saturating_add(now - end) }
}
