//! How outside systems find the keys with which the service signs: identities of jobs (OpenID Connect Discovery 1.0), and
//! statements of artifacts.

use super::error::ApiError;
use crate::app::App;
use crate::identity;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderName, header};
use serde_json::Value;

/// A rotated key is known elsewhere within this.
const KEPT: [(HeaderName, &str); 1] = [(header::CACHE_CONTROL, "public, max-age=300")];

/// The discovery document of the issuer of jobs' identities (OpenID Connect Discovery 1.0).
pub(super) async fn discovery(State(app): State<App>) -> ([(HeaderName, &'static str); 1], Json<Value>) {
    (KEPT, Json(identity::discovery(&app)))
}

/// The public keys that jobs' identities are verified with (JWK set, RFC 7517).
pub(super) async fn keys(State(app): State<App>) -> Result<([(HeaderName, &'static str); 1], Json<Value>), ApiError> {
    Ok((KEPT, Json(identity::jwks(&app).await?)))
}

/// The public keys that statements of artifacts are verified with (JWK set).
pub(super) async fn statement_keys(State(app): State<App>) -> Result<([(HeaderName, &'static str); 1], Json<Value>), ApiError> {
    Ok((KEPT, Json(identity::statement_keys(&app).await?)))
}
