//! `Idempotency-Key`: an unsafe call that is repeated with the same key gets the first answer and does nothing more.
//! Keys are kept per caller and address.

use super::auth::{bearer, session_cookie};
use crate::app::App;
use crate::clock;
use axum::body::{Body, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use ordotaxis_store::digest_of;

/// The largest answer that is kept.
const ANSWER_LIMIT: usize = 1024 * 1024;

pub(super) async fn once(State(app): State<App>, request: Request, next: Next) -> Response {
    let key = request.headers().get("idempotency-key").and_then(|value| value.to_str().ok());
    let (Some(key), false) = (key, matches!(*request.method(), Method::GET | Method::HEAD)) else {
        return next.run(request).await;
    };
    let caller = bearer(request.headers()).or_else(|| session_cookie(request.headers())).unwrap_or_default();
    let key = digest_of(&format!("{caller}\n{} {}\n{key}", request.method(), request.uri()));
    let _one_at_a_time = app.keyed_calls.lock().await;
    if let Ok(Some((status, body))) = app.records.answer(&key).await {
        let status = u16::try_from(status).ok().and_then(|status| StatusCode::from_u16(status).ok()).unwrap_or(StatusCode::OK);
        return (status, [(header::CONTENT_TYPE, HeaderValue::from_static("application/json"))], body).into_response();
    }
    let (parts, body) = next.run(request).await.into_parts();
    let Ok(bytes) = to_bytes(body, ANSWER_LIMIT).await else { return StatusCode::INTERNAL_SERVER_ERROR.into_response() };
    if parts.status.is_success() {
        let text = String::from_utf8_lossy(&bytes);
        if let Err(error) = app.records.keep_answer(&key, i64::from(parts.status.as_u16()), &text, clock::now()).await {
            tracing::error!(%error, "an answer could not be kept");
        }
    }
    Response::from_parts(parts, Body::from(bytes))
}
