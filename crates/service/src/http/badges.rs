//! Badges, for READMEs: readable without signing in where the project is public, or the address carries its badge key.
//! Whatever else is asked for is `unknown`, with status 200: a picture that is missing helps nobody, and a stranger learns
//! nothing.

use super::caller::authenticate;
use super::extract::Query;
use super::known::Address;
use crate::app::App;
use crate::badge::{Says, svg};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use ordotaxis_core::access::Seen;
use ordotaxis_core::engine::State as RunState;
use ordotaxis_store::{Project, StoreError, digest_of, digest_of_bytes};
use serde::Deserialize;
use serde_json::json;

#[derive(Deserialize)]
pub(super) struct Asked {
    /// The main branch when absent.
    branch: Option<String>,
    /// All pipelines when absent.
    pipeline: Option<String>,
    key: Option<String>,
}

/// `PROJECT.svg` or `PROJECT.json`.
pub(super) async fn badge(
    State(app): State<App>,
    caller: Address,
    Path(file): Path<String>,
    Query(asked): Query<Asked>,
    headers: HeaderMap,
) -> Result<Response, super::error::ApiError> {
    let (name, json) = match (file.strip_suffix(".svg"), file.strip_suffix(".json")) {
        (Some(name), _) => (name, false),
        (None, Some(name)) => (name, true),
        (None, None) => return Ok(StatusCode::NOT_FOUND.into_response()),
    };
    let project = app.records.project(name).await?;
    let seen = match project {
        Some(project) if may_see(&app, &project, &asked, &headers, caller).await => Some(project),
        _ => None,
    };
    let (says, run) = match &seen {
        Some(project) => says(&app, project, &asked).await?,
        None => (Says::Unknown, None),
    };
    let about = match &asked.pipeline {
        Some(pipeline) => format!("{name}/{pipeline}"),
        None => name.to_owned(),
    };
    let (kind, body) = match json {
        true => {
            let branch = asked.branch.or_else(|| seen.map(|project| project.main_branch));
            let body = json!({ "project": name, "pipeline": asked.pipeline, "branch": branch, "state": says.word(), "run": run });
            ("application/json", body.to_string())
        }
        false => ("image/svg+xml", svg(&about, says)),
    };
    Ok(answer(&headers, kind, body))
}

/// Kept nowhere without being asked about: a badge that says what was is worse than none.
fn answer(headers: &HeaderMap, kind: &'static str, body: String) -> Response {
    let tag = format!("\"{}\"", &digest_of_bytes(body.as_bytes())[..16]);
    let known = headers.get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    let same = known.is_some_and(|known| known.split(',').any(|one| one.trim().trim_start_matches("W/") == tag));
    let mut response = if same { StatusCode::NOT_MODIFIED.into_response() } else { body.into_response() };
    let own = response.headers_mut();
    own.insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    own.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    own.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static("default-src 'none'"));
    // It is made to stand in pages of others.
    own.insert(HeaderName::from_static("cross-origin-resource-policy"), HeaderValue::from_static("cross-origin"));
    if let Ok(tag) = HeaderValue::from_str(&tag) {
        own.insert(header::ETAG, tag);
    }
    response
}

async fn may_see(app: &App, project: &Project, asked: &Asked, headers: &HeaderMap, caller: Address) -> bool {
    // Digests are compared: how long that takes says nothing about the key.
    let opens = |key: &String| digest_of(key) == digest_of(&project.badge_key);
    project.seen == Seen::Public
        || asked.key.as_ref().is_some_and(opens)
        || authenticate(app, headers, caller).await.is_ok_and(|caller| caller.sees(project))
}

/// How the branch is, and the newest run that says so.
async fn says(app: &App, project: &Project, asked: &Asked) -> Result<(Says, Option<String>), StoreError> {
    let branch = asked.branch.as_deref().unwrap_or(&project.main_branch);
    let newest = app.records.newest_verdicts(project.id, branch, asked.pipeline.as_deref()).await?;
    let states: Vec<RunState> = newest.iter().filter_map(|(_, state)| RunState::from_word(state)).collect();
    let says = Says::of(&states);
    let run = newest.iter().find(|(_, state)| state == says.word()).map(|(number, _)| format!("{}/{number}", project.name));
    Ok((says, run))
}
