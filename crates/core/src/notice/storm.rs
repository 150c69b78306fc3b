//! A storm becomes one message: a few go out at once, what follows is gathered.

use crate::engine::Millis;

/// So many messages go to one receiver within a pause before what follows is gathered.
pub const FREELY: usize = 3;

/// When the next message may go to a receiver: none, at once. `sent`: when the last ones went, in order; `pause`: how long is
/// looked back.
///
/// ```
/// use ordotaxis_core::notice::rest;
/// assert_eq!(rest(&[100, 200], 600, 250), None, "two went out, a third may");
/// assert_eq!(rest(&[100, 200, 240], 600, 250), Some(700), "when the first of three is long ago");
/// assert_eq!(rest(&[100, 200, 240], 600, 700), None);
/// ```
pub fn rest(sent: &[Millis], pause: Millis, now: Millis) -> Option<Millis> {
    let lately: Vec<Millis> = sent.iter().copied().filter(|at| at.saturating_add(pause) > now).collect();
    let first_that_counts = lately.len().checked_sub(FREELY)?;
    lately.get(first_that_counts).map(|at| at.saturating_add(pause))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However notices come, no stretch of a pause sees more than three messages, and none waits longer than a pause.
        #[test]
        fn no_more_than_three_in_a_pause(mut came in prop::collection::vec(0_i64..5_000, 1..60), pause in 1_i64..1_000) {
            came.sort_unstable();
            let mut sent: Vec<Millis> = Vec::new();
            let mut at = 0;
            while at < came.len() {
                let now = came[at].max(sent.last().copied().unwrap_or(0));
                let when = rest(&sent, pause, now).unwrap_or(now);
                prop_assert!(when - now <= pause);
                // All that came until then go as one.
                at += came[at..].iter().take_while(|other| **other <= when).count();
                sent.push(when);
            }
            for (place, first) in sent.iter().enumerate() {
                let within = sent[place..].iter().filter(|other| **other < first + pause).count();
                prop_assert!(within <= FREELY, "{sent:?}");
            }
        }
    }
}
