//! Sign-ins that go on: kept until their answer comes, which counts once.

use openidconnect::{Nonce, PkceCodeVerifier};
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How long a provider's answer may take.
const PATIENCE_MS: i64 = 10 * 60 * 1000;
/// How many sign-ins may go on at once; the oldest are forgotten first.
const MOST: usize = 1000;

/// Sign-ins that go on, by their `state`.
#[derive(Default)]
pub(crate) struct SignIns(Mutex<HashMap<String, Begun>>);

/// A browser was sent to the provider and has not come back.
pub(super) struct Begun {
    pub(super) at: i64,
    pub(super) nonce: Nonce,
    pub(super) verifier: PkceCodeVerifier,
}

impl SignIns {
    /// Remembers a sign-in by its `state`; the oldest goes when there are too many.
    pub(super) fn keep(&self, state: String, begun: Begun) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.retain(|_, other| begun.at - other.at < PATIENCE_MS);
        if known.len() >= MOST
            && let Some(oldest) = known.iter().min_by_key(|(_, other)| other.at).map(|(state, _)| state.clone())
        {
            known.remove(&oldest);
        }
        known.insert(state, begun);
    }

    /// Each counts once.
    pub(super) fn take(&self, state: &str, now: i64) -> Option<Begun> {
        let begun = self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(state)?;
        (now - begun.at < PATIENCE_MS).then_some(begun)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_counts_once_and_in_its_time() {
        let sign_ins = SignIns::default();
        let begun = |at| Begun { at, nonce: Nonce::new("n".into()), verifier: PkceCodeVerifier::new("v".repeat(43)) };
        sign_ins.keep("a".into(), begun(1_000));
        assert!(sign_ins.take("b", 2_000).is_none());
        assert!(sign_ins.take("a", 2_000).is_some());
        assert!(sign_ins.take("a", 2_000).is_none(), "a replay is nothing");
        sign_ins.keep("a".into(), begun(1_000));
        assert!(sign_ins.take("a", 1_000 + PATIENCE_MS).is_none(), "too late");
        for n in 0..=MOST {
            sign_ins.keep(n.to_string(), begun(5_000 + n as i64));
        }
        assert!(sign_ins.take("0", 7_000).is_none(), "the oldest made way");
        assert!(sign_ins.take(&MOST.to_string(), 7_000).is_some());
    }
}
