//! Back-off: each pause is twice as long as the one before, up to a limit, and a little longer or shorter by chance, so
//! that what failed together is not tried again together.

use std::time::Duration;

/// Pauses between tries: each twice as long as the one before, up to a longest one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Backoff {
    longest: Duration,
}

impl Backoff {
    /// Sets the longest pause.
    pub(crate) const fn up_to(longest: Duration) -> Backoff {
        Backoff { longest }
    }

    /// The pause after so many tries (one or more); `chance` is from 0 to 1.
    pub(crate) fn pause(self, first: Duration, tries: u32, chance: f64) -> Duration {
        let doubled = first.saturating_mul(1 << tries.saturating_sub(1).min(20));
        doubled.min(self.longest).mul_f64(0.8 + 0.4 * chance.clamp(0.0, 1.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn pauses_double_up_to_a_limit(first in 1u64..5_000, tries in 1u32..2_000, chance in 0.0f64..1.0) {
            let (first, longest) = (Duration::from_millis(first), Duration::from_secs(300));
            let pause = Backoff::up_to(longest).pause(first, tries, chance);
            let doubled = (0..tries - 1).try_fold(first, |pause, _| Some(pause * 2).filter(|pause| *pause < longest)).unwrap_or(longest);
            let wanted = doubled.min(longest);
            prop_assert!(pause >= wanted.mul_f64(0.8) && pause <= wanted.mul_f64(1.2), "{pause:?} for {wanted:?}");
        }
    }
}
