//! Webhooks: verified over the raw body, written down once, answered at once. The work comes afterwards. And what a plain git
//! server asks before it takes a push.

use crate::app::App;
use crate::forge::{Came, Taken, is_signed, take};
use crate::http::error::ApiError;
use crate::http::extract::Path;
use crate::http::known::Address;
use crate::landing::{GateError, gate};
use crate::looks::hear;
use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use ordotaxis_core::forge::Reading;
use ordotaxis_wire::gate::{Asked, GateView};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// The largest delivery that is taken.
pub(super) const LIMIT: usize = 5 * 1024 * 1024;

/// Takes a webhook: verified, read, kept, written down as work, and answered before any of it is done.
pub(super) async fn receive(
    State(app): State<App>,
    caller: Address,
    Path(project): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<(StatusCode, Json<Value>), ApiError> {
    // One answer for an unknown project and a wrong signature: a stranger learns nothing.
    app.guesses.check("hooks", caller, &project)?;
    let refused = || {
        app.guesses.wrong("hooks", caller, &project);
        ApiError::new(StatusCode::UNAUTHORIZED, "bad-signature", "the signature does not fit; nothing was begun")
    };
    let came = Came { headers: texts(&headers), body: &body, address: caller.0.to_string() };
    let taken = match app.records.project(&project).await? {
        Some(known) => take(&app, &known, &came).await?,
        // Someone may be about to add it, and try the hook before.
        None => return prepared(hear(&app, &project, &came).ok_or_else(refused)?),
    };
    app.counters.hook(word(&taken));
    let why = taken.why().unwrap_or_else(|| "it will be looked at".into());
    match taken {
        Taken::New(events) => Ok((StatusCode::OK, Json(json!({ "accepted": true, "why": why, "events": events })))),
        Taken::Known => Ok((StatusCode::OK, Json(json!({ "accepted": false, "why": why, "events": [] })))),
        Taken::Nothing => Ok((StatusCode::ACCEPTED, Json(json!({ "accepted": false, "why": why, "events": [] })))),
        Taken::NoBody(_) => Err(ApiError::new(StatusCode::BAD_REQUEST, "not-json", why)),
        Taken::Unread(reading) => Err(unread(&reading, &why)),
        Taken::Refused(_) | Taken::NoProfile(_) => Err(refused()),
    }
}

/// What is told of a delivery for a project that someone prepares: how it was read; nothing is begun.
fn prepared(taken: Taken) -> Result<(StatusCode, Json<Value>), ApiError> {
    let why = "the project is not added yet: it was read, and nothing was begun";
    match taken {
        Taken::Unread(reading) => Err(unread(&reading, why)),
        Taken::New(events) => Ok((StatusCode::ACCEPTED, Json(json!({ "accepted": false, "why": why, "events": events })))),
        _ => Ok((StatusCode::ACCEPTED, Json(json!({ "accepted": false, "why": why, "events": [] })))),
    }
}

/// What became of a webhook, as it is counted.
fn word(taken: &Taken) -> &'static str {
    match taken {
        Taken::New(_) => "new",
        Taken::Known => "known",
        Taken::Nothing => "nothing",
        Taken::NoBody(_) | Taken::Unread(_) => "unread",
        Taken::Refused(_) | Taken::NoProfile(_) => "refused",
    }
}

/// Headers by lower-case name.
fn texts(headers: &HeaderMap) -> BTreeMap<String, String> {
    headers.iter().filter_map(|(name, value)| Some((name.as_str().to_owned(), value.to_str().ok()?.to_owned()))).collect()
}

/// The event was recognised, and something is missing in it: each with its place in the body.
fn unread(reading: &Reading, why: &str) -> ApiError {
    let missing = reading.misses.iter().take(20).map(|miss| (miss.looked_for.clone(), miss.to_string()));
    ApiError::fields(why, missing)
}

/// Says whether a push to a plain git server may go on. Signed as its deliveries are; nothing is written down.
pub(super) async fn ask(
    State(app): State<App>,
    caller: Address,
    Path(project): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Json<GateView>, ApiError> {
    app.guesses.check("hooks", caller, &project)?;
    let refused = || {
        app.guesses.wrong("hooks", caller, &project);
        ApiError::new(StatusCode::UNAUTHORIZED, "bad-signature", "the signature does not fit")
    };
    let known = app.records.project(&project).await?.ok_or_else(refused)?;
    if !is_signed(&app, &known, &texts(&headers), &body) {
        return Err(refused());
    }
    let asked: Asked = serde_json::from_slice(&body)
        .map_err(|error| ApiError::new(StatusCode::BAD_REQUEST, "not-json", format!("what is asked cannot be read: {error}")))?;
    match gate(&app, &known, &asked).await {
        Ok(refused) => Ok(Json(GateView { refused })),
        Err(GateError::Store(error)) => Err(error.into()),
        Err(GateError::Away(why)) => Err(ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "rules-away", why)),
    }
}
