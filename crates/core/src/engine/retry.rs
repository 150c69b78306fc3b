//! Trying again: which ends `retry` forgives, how often, and after what pause.

use super::Millis;
use super::event::Outcome;
use crate::language::Retry;

/// The pause before the first further try; each later one is twice as long.
const FIRST_PAUSE: Millis = 1_000;
const LONGEST_PAUSE: Millis = 60_000;

/// How an attempt ended, as far as `retry` cares.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ended {
    pub(super) outcome: Outcome,
    pub(super) exit_code: Option<i32>,
}

impl Ended {
    /// The words of `retry.on` that mean this end.
    pub(super) fn words(self) -> Vec<String> {
        match self.outcome {
            Outcome::TimedOut => vec!["timeout".to_owned()],
            _ => ["failed".to_owned()].into_iter().chain(self.exit_code.map(|code| format!("exit:{code}"))).collect(),
        }
    }
}

/// How long to wait before the next try; None when there is none. A lost job goes to another runner at once: nothing that
/// is busy elsewhere needs time to recover.
pub(super) fn again_in(retry: &Retry, outcomes: &[String], retries: u32) -> Option<Millis> {
    let forgiven = retry.on.iter().any(|word| outcomes.contains(word));
    if !forgiven || retries >= retry.times {
        return None;
    }
    let lost = outcomes.iter().any(|word| word == "lost");
    Some(if lost { 0 } else { FIRST_PAUSE.saturating_mul(1 << retries.min(16)).min(LONGEST_PAUSE) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_and_end() {
        let retry = Retry { times: 10, on: vec!["failed".into(), "lost".into()] };
        let pauses: Vec<_> = (0..11).map(|retries| again_in(&retry, &["failed".into()], retries)).collect();
        let seconds = [1, 2, 4, 8, 16, 32, 60, 60, 60, 60].map(|s| Some(s * 1_000));
        assert_eq!(pauses, [&seconds[..], &[None]].concat());
        assert_eq!(again_in(&retry, &["lost".into()], 3), Some(0));
        assert_eq!(again_in(&retry, &["timeout".into()], 0), None);
    }

    #[test]
    fn an_exit_code_can_be_named_alone() {
        let words = Ended { outcome: Outcome::Failed, exit_code: Some(75) }.words();
        let on = |word: &str| again_in(&Retry { times: 1, on: vec![word.into()] }, &words, 0).is_some();
        assert!(on("exit:75") && on("failed") && !on("exit:7") && !on("timeout"));
    }
}
