//! The dialect that the forge speaks by itself.

use crate::answer::{Answer, PAGE};
use crate::book::{Release, Review};
use crate::forge::Forge;
use crate::letters::practice::about;
use crate::status::Status;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;

pub(super) fn router() -> Router<Forge> {
    Router::new()
        .route("/api/repositories/opened", get(opened))
        .route("/api/repositories/{name}/commits/{commit}/statuses", post(add_status).get(statuses))
        .route("/api/repositories/{name}/proposals/{number}/comments", post(comment))
        .route("/api/repositories/{name}/proposals/{number}/comments/{id}", put(comment_again))
        .route("/api/repositories/{name}/proposals", get(proposals))
        .route("/api/repositories/{name}/proposals/{number}", get(proposal))
        .route("/api/repositories/{name}/proposals/{number}/reviews", get(reviews))
        .route("/api/repositories/{name}/proposals/{number}/landed", post(landed))
        .route("/api/repositories/{name}/releases", get(releases))
        .route("/api/repositories/{name}/releases/{version}", put(release))
}

fn token(headers: &HeaderMap) -> Option<&str> {
    headers.get("authorization")?.to_str().ok()?.strip_prefix("Bearer ")
}

/// Whether a call brings the repository's token.
fn opens(forge: &Forge, name: &str, headers: &HeaderMap) -> Answer<()> {
    forge.opens(name, token(headers))
}

async fn opened(State(forge): State<Forge>, headers: HeaderMap) -> Json<Value> {
    let list: Vec<Value> = forge.opened(token(&headers)).into_iter().map(|(name, git)| json!({ "name": name, "git": git })).collect();
    Json(json!({ "repositories": list }))
}

async fn add_status(
    State(forge): State<Forge>,
    Path((name, commit)): Path<(String, String)>,
    headers: HeaderMap,
    Json(status): Json<Status>,
) -> Answer<StatusCode> {
    opens(&forge, &name, &headers)?;
    forge.set_status(&name, commit, status)?;
    Ok(StatusCode::CREATED)
}

async fn statuses(State(forge): State<Forge>, Path((name, commit)): Path<(String, String)>) -> Json<Vec<Status>> {
    Json(forge.statuses(&name, &commit))
}

#[derive(Deserialize)]
struct Written {
    text: String,
}

async fn comment(
    State(forge): State<Forge>,
    Path((name, number)): Path<(String, usize)>,
    headers: HeaderMap,
    Json(written): Json<Written>,
) -> Answer<Json<Value>> {
    opens(&forge, &name, &headers)?;
    Ok(Json(json!({ "id": forge.comment(&name, number, "ordotaxis", written.text)? })))
}

async fn comment_again(
    State(forge): State<Forge>,
    Path((name, _, id)): Path<(String, usize, usize)>,
    headers: HeaderMap,
    Json(written): Json<Written>,
) -> Answer<Json<Value>> {
    opens(&forge, &name, &headers)?;
    forge.comment_again(&name, id, written.text)?;
    Ok(Json(json!({ "id": id })))
}

#[derive(Deserialize)]
struct Page {
    #[serde(default)]
    page: usize,
}

async fn proposals(
    State(forge): State<Forge>,
    Path(name): Path<String>,
    Query(at): Query<Page>,
    headers: HeaderMap,
) -> Answer<Json<Value>> {
    opens(&forge, &name, &headers)?;
    let (page, more) = forge.page(&name, at.page, PAGE)?;
    let list: Vec<Value> = page.iter().map(|proposal| about(&forge.url, &name, proposal)).collect();
    let next = more.then(|| format!("{}/api/repositories/{name}/proposals?page={}", forge.url, at.page + 1));
    Ok(Json(json!({ "proposals": list, "next": next })))
}

async fn proposal(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &name, &headers)?;
    Ok(Json(about(&forge.url, &name, &forge.proposal(&name, number)?)))
}

async fn reviews(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, headers: HeaderMap) -> Answer<Json<Vec<Review>>> {
    opens(&forge, &name, &headers)?;
    Ok(Json(forge.proposal(&name, number)?.reviews))
}

async fn release(
    State(forge): State<Forge>,
    Path((name, version)): Path<(String, String)>,
    headers: HeaderMap,
    Json(release): Json<Release>,
) -> Answer<StatusCode> {
    opens(&forge, &name, &headers)?;
    forge.set_release(&name, version, release)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn releases(State(forge): State<Forge>, Path(name): Path<String>) -> Json<BTreeMap<String, Release>> {
    Json(forge.releases(&name))
}

#[derive(Deserialize)]
struct Landed {
    commit: String,
}

async fn landed(
    State(forge): State<Forge>,
    Path((name, number)): Path<(String, usize)>,
    headers: HeaderMap,
    Json(landed): Json<Landed>,
) -> Answer<StatusCode> {
    opens(&forge, &name, &headers)?;
    forge.land(&name, number, &landed.commit, "ordotaxis")?;
    Ok(StatusCode::NO_CONTENT)
}
