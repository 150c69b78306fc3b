//! For machines that watch: alive, ready, and numbers in the OpenMetrics text format.

use super::caller::{authenticate, not_signed_in};
use super::error::ApiError;
use super::known::Address;
use crate::app::App;
use crate::telemetry;
use axum::extract::FromRequestParts;
use axum::extract::State;
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use ordotaxis_core::access::Rights;

/// Answers as long as the process does.
pub(super) async fn alive() -> &'static str {
    "alive\n"
}

/// Whether the service can do work now: its keeper answers and its database is there.
pub(super) async fn ready(State(app): State<App>) -> (StatusCode, &'static str) {
    let keeper = app.keeper.snapshot().await.is_ok();
    if keeper && app.records.ready().await { (StatusCode::OK, "ready\n") } else { (StatusCode::SERVICE_UNAVAILABLE, "not ready\n") }
}

/// Whoever is signed in, or everybody where the configuration says so.
async fn may_see(app: &App, parts: &mut Parts, open: bool) -> Result<(), ApiError> {
    if !open {
        let address = Address::from_request_parts(parts, app).await.unwrap_or_else(|never| match never {});
        let caller = authenticate(app, &parts.headers, address).await?;
        if !matches!(caller.rights, Rights::Person(_)) {
            return Err(not_signed_in());
        }
    }
    Ok(())
}

/// The API's description.
pub(super) async fn description(State(app): State<App>, mut parts: Parts, text: String) -> Result<impl IntoResponse, ApiError> {
    may_see(&app, &mut parts, app.settings.open.description).await?;
    Ok(([(header::CONTENT_TYPE, "application/json")], text))
}

/// Numbers of the service in the OpenMetrics text format.
pub(super) async fn metrics(State(app): State<App>, mut parts: Parts) -> Result<impl IntoResponse, ApiError> {
    may_see(&app, &mut parts, app.settings.open.metrics).await?;
    let text = telemetry::metrics(&app).await?;
    Ok(([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], text))
}
