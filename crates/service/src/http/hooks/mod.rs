//! Webhooks: verified over the raw body, written down once, answered at once. The work comes afterwards.

use crate::app::App;
use crate::clock;
use crate::http::error::ApiError;
use crate::http::extract::Path;
use crate::http::known::Address;
use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use ordotaxis_core::access::{Actor, Way, Who};
use ordotaxis_store::{NewWork, WorkKind};
use serde_json::{Value, json};

/// Takes a webhook: verified, read, written down as work, and answered before any of it is done.
pub(super) async fn receive(
    State(app): State<App>,
    caller: Address,
    Path(project): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Json<Value>, ApiError> {
    // One answer for an unknown project and a wrong signature: a stranger learns nothing.
    app.guesses.check("hooks", caller, &project)?;
    let name = project.clone();
    let refused = || {
        app.guesses.wrong("hooks", caller, &name);
        ApiError::new(StatusCode::UNAUTHORIZED, "bad-signature", "the signature does not fit; nothing was stored")
    };
    let project = app.records.project(&project).await?.ok_or_else(refused)?;
    let forge = project.forge.as_ref().ok_or_else(refused)?;
    let profile = app.profiles.get(&forge.profile).ok_or_else(refused)?;
    let header = |name: &str| headers.get(name)?.to_str().ok().map(str::to_owned);
    let now = clock::now();
    let delivery = profile.verified(header, &body, &app.hook_secret(&project), now / 1000).ok_or_else(refused)?;
    let body: Value = serde_json::from_slice(&body)
        .map_err(|error| ApiError::new(StatusCode::BAD_REQUEST, "not-json", format!("the body is not JSON: {error}")))?;
    let Some(occasion) = profile.occasion(&body) else {
        return Ok(Json(json!({ "accepted": false, "why": "not an event that starts anything" })));
    };
    if occasion.commit.as_ref().is_none_or(|commit| commit.chars().all(|c| c == '0')) {
        return Ok(Json(json!({ "accepted": false, "why": "the branch or tag was removed" })));
    }
    let text = serde_json::to_string(&occasion).unwrap_or_default();
    let actor = Actor { who: Who::Nobody, way: Way::Hook, address: Some(caller.0.to_string()) };
    let mut tx = app.records.tx(&actor, now).await?;
    let work = NewWork { kind: WorkKind::Occasion, project_id: project.id, lane: String::new(), once: Some(delivery), body: text };
    let new = tx.add_work(&work).await?;
    tx.commit().await?;
    Ok(Json(json!({ "accepted": new, "why": if new { "it will be looked at" } else { "this delivery came before" } })))
}
