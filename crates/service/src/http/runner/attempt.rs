//! Attempts as calls name them.

use crate::http::error::ApiError;
use crate::keeper::Stale;
use axum::http::StatusCode;
use ordotaxis_wire::runner::AttemptId;

/// The answer to a runner that speaks for what was given to another.
pub(super) fn stale(_: Stale) -> ApiError {
    ApiError::new(StatusCode::CONFLICT, "given-up", "this session or attempt was given up; nothing was changed")
}

/// Reads the name of an attempt from an address.
pub(super) fn attempt_id(text: &str) -> Result<AttemptId, ApiError> {
    text.parse().map_err(|_| ApiError::not_found("attempt", format!("{text} names no attempt")))
}
