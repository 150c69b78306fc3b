//! Live streams that are open, counted by person.

use crate::http::error::ApiError;
use axum::http::StatusCode;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// How many streams one person may have open: a stream serves all tabs of a browser.
const STREAMS: usize = 32;

/// OpenStream streams, by person.
#[derive(Debug, Default, Clone)]
pub(crate) struct Streams(Arc<Mutex<HashMap<String, usize>>>);

/// One of them; counted until it is dropped.
pub(super) struct OpenStream(Streams, String);

impl Streams {
    /// One more live stream of a person; refused when there are too many. It counts until it is dropped.
    pub(super) fn open(&self, person: &str) -> Result<OpenStream, ApiError> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(person.to_owned()).or_default();
        if *count >= STREAMS {
            let detail = format!("{STREAMS} live streams are open already; close one");
            return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, "too-many-streams", detail));
        }
        *count += 1;
        Ok(OpenStream(self.clone(), person.to_owned()))
    }
}

impl Drop for OpenStream {
    fn drop(&mut self) {
        let mut open = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.1) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.1);
            }
        }
    }
}
