//! `Idempotency-Key`: an unsafe call that is repeated with the same key gets the first answer and does nothing more.
//!
//! A key belongs to who calls, the address and the body: the same key with another body is refused. Who calls is known before
//! anything is kept or waited for, and only calls with the same key wait for each other. Answers that hold something secret
//! (tokens, links, invitations) are not kept: a repeat is answered with an error that says so.

use super::caller::{Caller, bearer, session_cookie};
use super::error::ApiError;
use crate::app::App;
use crate::clock;
use axum::body::{Body, to_bytes};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use ordotaxis_store::{digest_of, digest_of_bytes};

/// The largest answer that is kept.
const ANSWER_LIMIT: usize = 1024 * 1024;
/// The longest key.
const KEY_LIMIT: usize = 256;

/// Whether an address answers with something that must lie nowhere in the clear.
fn answers_a_secret(path: &str) -> bool {
    let path = path.trim_start_matches("/api/v1/");
    matches!(path, "session" | "runner-invitations" | "projects" | "tokens") || path.ends_with("sign-in-links") || path.ends_with("/show")
}

/// Answers a call that is repeated under the same `Idempotency-Key` as it was answered first.
pub(super) async fn once(State(app): State<App>, request: Request, next: Next) -> Response {
    let key = request.headers().get("idempotency-key").and_then(|value| value.to_str().ok()).map(str::to_owned);
    let (Some(key), false) = (key, matches!(*request.method(), Method::GET | Method::HEAD)) else {
        return next.run(request).await;
    };
    match answered(&app, &key, request, next).await {
        Ok(answer) => answer,
        Err(error) => error.into_response(),
    }
}

/// Does the call, or answers as the first one with this key was answered.
async fn answered(app: &App, key: &str, request: Request, next: Next) -> Result<Response, ApiError> {
    if key.is_empty() || key.len() > KEY_LIMIT {
        let detail = format!("an Idempotency-Key is 1 to {KEY_LIMIT} characters");
        return Err(ApiError::new(StatusCode::BAD_REQUEST, "bad-key", detail));
    }
    let (mut parts, body) = request.into_parts();
    Caller::from_request_parts(&mut parts, app).await?;
    let too_large = |_| ApiError::new(StatusCode::PAYLOAD_TOO_LARGE, "bad-body", "the body is too large, or broke off");
    let bytes = to_bytes(body, super::body::LIMIT).await.map_err(too_large)?;
    let asked = digest_of_bytes(&bytes);
    let caller = bearer(&parts.headers).or_else(|| session_cookie(&parts.headers)).unwrap_or_default();
    let known_as = digest_of(&format!("{caller}\n{} {}\n{key}", parts.method, parts.uri));
    let lock = app.keyed_calls.of(&known_as);
    let _one_at_a_time = lock.lock().await;
    if let Some(kept) = app.records.answer(&known_as).await? {
        return repeated(kept, &asked);
    }
    let secret = answers_a_secret(parts.uri.path());
    let (parts, body) = next.run(Request::from_parts(parts, Body::from(bytes))).await.into_parts();
    let large = |_| ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "the answer is too large to be kept under a key");
    let bytes = to_bytes(body, ANSWER_LIMIT).await.map_err(large)?;
    if parts.status.is_success() {
        let text = if secret { None } else { Some(String::from_utf8_lossy(&bytes).into_owned()) };
        let mut tx = app.records.tx_by_rule("answers", clock::now()).await?;
        tx.keep_answer(&known_as, &asked, i64::from(parts.status.as_u16()), text.as_deref()).await?;
        tx.commit().await?;
    }
    Ok(Response::from_parts(parts, Body::from(bytes)))
}

fn repeated((status, asked_before, body): (i64, String, Option<String>), asked: &str) -> Result<Response, ApiError> {
    if asked_before != asked {
        let detail = "this Idempotency-Key was used for a call with another body; use a new one";
        return Err(ApiError::new(StatusCode::UNPROCESSABLE_ENTITY, "key-used", detail));
    }
    let Some(body) = body else {
        let detail = "this call was done before; its answer held something secret and was not kept. Make the call again with another key";
        return Err(ApiError::new(StatusCode::CONFLICT, "answer-not-kept", detail));
    };
    let status = u16::try_from(status).ok().and_then(|status| StatusCode::from_u16(status).ok()).unwrap_or(StatusCode::OK);
    Ok((status, [(header::CONTENT_TYPE, HeaderValue::from_static("application/json"))], body).into_response())
}
