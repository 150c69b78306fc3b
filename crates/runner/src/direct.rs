//! Storage as this runner reaches it without the service, by addresses that the service gives it. Whatever goes wrong here
//! goes by way of the service instead, and for a while nothing more is tried. Addresses are secrets: no message has one.

use crate::call_error::CallError;
use crate::calls::calls_to;
use bytes::Bytes;
use ordotaxis_wire::runner::{PackPiece, PackPut};
use reqwest::header::RANGE;
use reqwest::{Client, Response, StatusCode};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

/// How long nothing is tried after it did not work.
const REST: Duration = Duration::from_secs(10 * 60);

/// The way to storage. Clones rest together.
#[derive(Clone, Default)]
pub(crate) struct Direct {
    /// Made with the first call: most runners never make one.
    http: Arc<OnceLock<Client>>,
    rests_until: Arc<Mutex<Option<Instant>>>,
}

impl Direct {
    /// Storage lies at one place: what the first address needs, all need.
    fn http(&self, url: &str) -> Result<&Client, CallError> {
        if let Some(http) = self.http.get() {
            return Ok(http);
        }
        // Nothing is followed: an address is good for one place only.
        let built = calls_to(url).connect_timeout(Duration::from_secs(3)).read_timeout(Duration::from_secs(30)).build();
        let built = built.map_err(CallError::NoCertificates)?;
        Ok(self.http.get_or_init(|| built))
    }

    /// Whether it is worth a try.
    pub(crate) fn is_open(&self) -> bool {
        let until = *self.rests_until.lock().unwrap_or_else(PoisonError::into_inner);
        until.is_none_or(|until| until < Instant::now())
    }

    /// It did not work, or the service knows of no such way.
    pub(crate) fn rest(&self, why: &str) {
        let before = self.rests_until.lock().unwrap_or_else(PoisonError::into_inner).replace(Instant::now() + REST);
        if before.is_none_or(|until| until < Instant::now()) {
            tracing::warn!(why, "packs go by way of the service for the next ten minutes");
        }
    }

    /// Puts a pack where the service said.
    pub(crate) async fn put(&self, at: &PackPut, pack: Bytes) -> Result<(), CallError> {
        let answer = self.http(&at.url)?.put(&at.url).body(pack).send().await.map_err(failed)?;
        fits(&answer, answer.status().is_success())
    }

    /// Begins to read a part of a pack.
    pub(crate) async fn get(&self, piece: &PackPiece) -> Result<Response, CallError> {
        let range = format!("bytes={}-{}", piece.from, piece.last);
        let answer = self.http(&piece.url)?.get(&piece.url).header(RANGE, range).send().await.map_err(failed)?;
        // Anything else than the range that was asked for is none of ours.
        fits(&answer, answer.status() == StatusCode::PARTIAL_CONTENT)?;
        Ok(answer)
    }
}

fn failed(error: reqwest::Error) -> CallError {
    CallError::Storage(crate::outgoing::chain(&error.without_url()))
}

fn fits(answer: &Response, wanted: bool) -> Result<(), CallError> {
    if wanted { Ok(()) } else { Err(CallError::Storage(format!("it answered {}", answer.status()))) }
}
