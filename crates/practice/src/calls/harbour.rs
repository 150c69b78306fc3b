//! Forms with JSON in a field, a keyed digest over a header and the body, many moves in one delivery, pages that the `Link`
//! header leads to.

use crate::answer::{Answer, PAGE};
use crate::book::Review;
use crate::forge::Forge;
use crate::letters::harbour::passage;
use crate::status::Status;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, patch, put};
use axum::{Json, Router};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use serde_json::{Value, json};

pub(super) fn router() -> Router<Forge> {
    Router::new()
        .route("/harbour", get(berths))
        .route("/harbour/{berth}/marks/{commit}", put(mark))
        .route("/harbour/{berth}/passages/{no}/remark", put(remark))
        .route("/harbour/{berth}/remarks/{no}", patch(remark_again))
        .route("/harbour/{berth}/passages", get(passages))
        .route("/harbour/{berth}/passages/{no}", get(one_passage))
        .route("/harbour/{berth}/passages/{no}/leaves", get(leaves))
        .route("/harbour/{berth}/passages/{no}/mooring", put(mooring))
}

fn token(headers: &HeaderMap) -> Option<String> {
    let sent = headers.get("authorization")?.to_str().ok()?.strip_prefix("Basic ")?;
    String::from_utf8(STANDARD.decode(sent).ok()?).ok()
}

fn opens(forge: &Forge, berth: &str, headers: &HeaderMap) -> Answer<()> {
    forge.opens(berth, token(headers).as_deref())
}

async fn berths(State(forge): State<Forge>, headers: HeaderMap) -> Json<Vec<Value>> {
    Json(forge.opened(token(&headers).as_deref()).into_iter().map(|(name, git)| json!({ "berth": name, "rope": git })).collect())
}

#[derive(Deserialize)]
struct Mark {
    sign: Sign,
    words: Vec<String>,
    page: String,
}

#[derive(Deserialize)]
struct Sign {
    called: String,
    shows: String,
}

async fn mark(
    State(forge): State<Forge>,
    Path((berth, commit)): Path<(String, String)>,
    headers: HeaderMap,
    Json(mark): Json<Mark>,
) -> Answer<StatusCode> {
    opens(&forge, &berth, &headers)?;
    let status = Status { context: mark.sign.called, state: mark.sign.shows, text: mark.words.join(" "), link: mark.page };
    forge.set_status(&berth, commit, status)?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
struct Remark {
    remark: String,
    /// A number, and not the text of one.
    #[serde(default)]
    passage: Option<usize>,
    #[serde(default)]
    no: Option<usize>,
}

async fn remark(
    State(forge): State<Forge>,
    Path((berth, no)): Path<(String, usize)>,
    headers: HeaderMap,
    Json(remark): Json<Remark>,
) -> Answer<Json<Value>> {
    opens(&forge, &berth, &headers)?;
    if remark.passage != Some(no) {
        return Err((StatusCode::UNPROCESSABLE_ENTITY, "the remark is about another passage\n".into()));
    }
    Ok(Json(json!({ "remark": { "no": forge.comment(&berth, no, "ordotaxis", remark.remark)? } })))
}

async fn remark_again(
    State(forge): State<Forge>,
    Path((berth, no)): Path<(String, usize)>,
    headers: HeaderMap,
    Json(remark): Json<Remark>,
) -> Answer<StatusCode> {
    opens(&forge, &berth, &headers)?;
    if remark.no != Some(no) {
        return Err((StatusCode::UNPROCESSABLE_ENTITY, "this is another remark\n".into()));
    }
    forge.comment_again(&berth, no, remark.remark)?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
struct From {
    #[serde(default)]
    from: usize,
}

async fn passages(State(forge): State<Forge>, Path(berth): Path<String>, Query(at): Query<From>, headers: HeaderMap) -> Answer<Response> {
    opens(&forge, &berth, &headers)?;
    let (page, more) = forge.page(&berth, at.from, PAGE)?;
    let list: Vec<Value> = page.iter().map(|proposal| passage(&forge.url, &berth, proposal, None)).collect();
    let first = format!("</harbour/{berth}/passages>; rel=\"first\"");
    let link = if more { format!("{first}, </harbour/{berth}/passages?from={}>; rel=\"next\"", at.from + 1) } else { first };
    Ok(([("link", link)], Json(list)).into_response())
}

async fn one_passage(State(forge): State<Forge>, Path((berth, no)): Path<(String, usize)>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &berth, &headers)?;
    Ok(Json(passage(&forge.url, &berth, &forge.proposal(&berth, no)?, None)))
}

async fn leaves(State(forge): State<Forge>, Path((berth, no)): Path<(String, usize)>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &berth, &headers)?;
    let leave = |review: &Review| json!({ "hand": { "called": review.by }, "leave": if review.approves { "given" } else { "denied" }, "tip": review.commit });
    let leaves: Vec<Value> = forge.proposal(&berth, no)?.reviews.iter().map(leave).collect();
    Ok(Json(json!({ "leaves": leaves })))
}

#[derive(Deserialize)]
struct Mooring {
    moored_as: String,
}

async fn mooring(
    State(forge): State<Forge>,
    Path((berth, no)): Path<(String, usize)>,
    headers: HeaderMap,
    Json(mooring): Json<Mooring>,
) -> Answer<StatusCode> {
    opens(&forge, &berth, &headers)?;
    forge.land(&berth, no, &mooring.moored_as, "ordotaxis")?;
    Ok(StatusCode::NO_CONTENT)
}
