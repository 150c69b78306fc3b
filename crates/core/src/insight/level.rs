//! Where the middle and the upper end of some lengths lie.

use crate::engine::Millis;

/// The length that half of them, and nine in ten, do not exceed: the nearest rank, so that each was really measured.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Level {
    pub count: usize,
    pub p50: Option<Millis>,
    pub p90: Option<Millis>,
}

/// The level of lengths in any order.
pub fn level(mut lengths: Vec<Millis>) -> Level {
    lengths.sort_unstable();
    Level { count: lengths.len(), p50: rank(&lengths, 50), p90: rank(&lengths, 90) }
}

/// The smallest value that so many in a hundred do not exceed.
fn rank(sorted: &[Millis], hundredths: usize) -> Option<Millis> {
    let rank = (sorted.len() * hundredths).div_ceil(100).max(1);
    sorted.get(rank - 1).copied()
}
