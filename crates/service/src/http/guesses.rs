//! Wrong guesses (tokens, links, invitations, signatures) have a limit, by address and by what they are guessed for.

use super::error::ApiError;
use super::known::Address;
use axum::http::StatusCode;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How many wrong guesses an address has within [`WINDOW`], and how many may be made for one thing from anywhere before
/// addresses that have guessed wrongly at all are shut out.
const GUESSES: u32 = 20;
const GUESSES_FOR_ONE: u32 = 200;
const WINDOW: Duration = Duration::from_secs(60);
/// More are not remembered; the oldest go first.
const REMEMBERED: usize = 50_000;

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Guessed {
    By(&'static str, IpAddr),
    For(&'static str, String),
}

impl Guessed {
    /// What is guessed for comes from the caller: of a long one the beginning stands for it.
    fn of(route: &'static str, of: &str) -> Guessed {
        Guessed::For(route, of.chars().take(64).collect())
    }
}

/// Wrong guesses within the window.
#[derive(Debug, Default)]
pub(crate) struct Guesses(Mutex<HashMap<Guessed, (u32, Instant)>>);

impl Guesses {
    fn count(&self, what: &Guessed, now: Instant) -> u32 {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(what).filter(|(_, since)| now.duration_since(*since) < WINDOW).map_or(0, |(count, _)| *count)
    }

    /// Whether another guess may be made.
    pub(super) fn check(&self, route: &'static str, caller: Address, of: &str) -> Result<(), ApiError> {
        let now = Instant::now();
        let own = self.count(&Guessed::By(route, caller.0), now);
        let shut = own >= GUESSES || own > 0 && self.count(&Guessed::of(route, of), now) >= GUESSES_FOR_ONE;
        if shut {
            let detail = "too many wrong attempts came from this address; wait a minute, then try again";
            return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, "too-many-attempts", detail));
        }
        Ok(())
    }

    /// Notes a wrong one.
    pub(super) fn wrong(&self, route: &'static str, caller: Address, of: &str) {
        let now = Instant::now();
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= REMEMBERED {
            known.retain(|_, (_, since)| now.duration_since(*since) < WINDOW);
        }
        if known.len() >= REMEMBERED
            && let Some(oldest) = known.iter().min_by_key(|(_, (_, since))| *since).map(|(what, _)| what.clone())
        {
            known.remove(&oldest);
        }
        for what in [Guessed::By(route, caller.0), Guessed::of(route, of)] {
            let one = known.entry(what).or_insert((0, now));
            if now.duration_since(one.1) >= WINDOW {
                *one = (0, now);
            }
            one.0 = one.0.saturating_add(1);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wrong_guesses_have_a_limit() {
        let guesses = Guesses::default();
        let from = |last: u8| Address(IpAddr::from([10, 0, 1, last]));
        for _ in 0..GUESSES {
            guesses.check("sign-in", from(1), "x").unwrap();
            guesses.wrong("sign-in", from(1), "x");
        }
        assert!(guesses.check("sign-in", from(1), "x").is_err());
        guesses.check("sign-in", from(2), "x").unwrap();
        guesses.check("hooks", from(1), "x").unwrap();
        // Many addresses that each guess a little at one thing.
        for last in 0..200 {
            guesses.wrong("hooks", from(last), "tidegauge");
        }
        assert!(guesses.check("hooks", from(7), "tidegauge").is_err(), "who has guessed wrongly is shut out");
        guesses.check("hooks", from(250), "tidegauge").unwrap();
        let long = "tidegauge".repeat(20);
        (0..200).for_each(|last| guesses.wrong("enrol", from(last), &long));
        assert!(guesses.check("enrol", from(7), &long).is_err(), "a long name is counted like a short one");
    }
}
