//! How calls of the forge are answered.

use axum::http::StatusCode;

/// How many proposals a page of a list holds.
pub(crate) const PAGE: usize = 20;

/// An answer, or a status with words.
pub(crate) type Answer<T> = Result<T, (StatusCode, String)>;
