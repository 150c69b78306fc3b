//! Since when something takes longer or shorter than before.
//!
//! The test is A. N. Pettitt's ("A non-parametric approach to the change-point problem", Applied Statistics 28, 1979): it compares
//! ranks, so that a few outliers say nothing. The place where the values before and after differ most is a change when that is
//! unlikely by chance; both sides are then looked at by themselves, and the newest change counts.

use super::level::level;
use crate::engine::Millis;

/// A change is believed when chance alone would show one so clear in fewer cases than this.
const BY_CHANCE: f64 = 0.01;
/// On each side of a change there are at least so many values.
const SIDE: usize = 5;
/// Less is no news: a part of the length before, and a length.
const LEAST_SHARE: i64 = 10;
const LEAST: Millis = 200;

/// The newest change of the middle of a series.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shift {
    /// The place of the first value after it.
    pub at: usize,
    /// The middles of the stretch before it and of all that came after it.
    pub before: Millis,
    pub after: Millis,
}

/// The newest change in a series of lengths, the oldest first; none when there is no clear one that is worth a word.
pub fn last_shift(lengths: &[Millis]) -> Option<Shift> {
    let mut changes = vec![0];
    split(lengths, 0, &mut changes);
    changes.sort_unstable();
    changes.windows(2).rev().find_map(|pair| {
        let (before, after) = (middle(&lengths[pair[0]..pair[1]]), middle(&lengths[pair[1]..]));
        is_news(before, after).then_some(Shift { at: pair[1], before, after })
    })
}

fn middle(lengths: &[Millis]) -> Millis {
    level(lengths.to_vec()).p50.unwrap_or(0)
}

fn is_news(before: Millis, after: Millis) -> bool {
    let by = (after - before).abs();
    by >= LEAST && by * LEAST_SHARE >= before
}

/// Notes where a stretch that begins at `from` changes, and where its parts do.
fn split(lengths: &[Millis], from: usize, changes: &mut Vec<usize>) {
    let Some(at) = change(lengths) else { return };
    let (before, after) = lengths.split_at(at);
    if !is_news(middle(before), middle(after)) {
        return;
    }
    changes.push(from + at);
    split(before, from, changes);
    split(after, from + at, changes);
}

/// Where a stretch changes most, when that is clear.
fn change(lengths: &[Millis]) -> Option<usize> {
    let count = lengths.len();
    if count < 2 * SIDE {
        return None;
    }
    let ranks = doubled_ranks(lengths);
    let whole = i64::try_from(count).ok()?;
    // Over t values: twice the sum of their ranks, less t times one more than there are values.
    let (mut sum, mut most) = (0i64, (0i64, 0usize));
    for (at, rank) in ranks.iter().enumerate().take(count - 1) {
        sum += rank - (whole + 1);
        if sum.abs() > most.0 {
            most = (sum.abs(), at + 1);
        }
    }
    let (clear, at) = most;
    let at = at.clamp(SIDE, count - SIDE);
    (chance(clear, whole) < BY_CHANCE).then_some(at)
}

/// How likely so large a difference is without a change: Pettitt's approximation.
#[expect(clippy::cast_precision_loss, reason = "an approximation anyway")]
fn chance(clear: i64, count: i64) -> f64 {
    let (clear, count) = (clear as f64, count as f64);
    2.0 * (-6.0 * clear * clear / (count.powi(3) + count.powi(2))).exp()
}

/// Twice the rank of each value; what is alike shares the mean of its ranks.
fn doubled_ranks(lengths: &[Millis]) -> Vec<i64> {
    let mut order: Vec<usize> = (0..lengths.len()).collect();
    order.sort_by_key(|at| lengths[*at]);
    let mut ranks = vec![0; lengths.len()];
    for group in order.chunk_by(|a, b| lengths[*a] == lengths[*b]) {
        // Its first and last rank are both one more than the place.
        let first = order.partition_point(|at| lengths[*at] < lengths[group[0]]);
        let doubled = i64::try_from(2 * first + group.len() + 1).unwrap_or(i64::MAX);
        group.iter().for_each(|at| ranks[*at] = doubled);
    }
    ranks
}
