//! A shared word in a header, nouns and verbs, repositories by number, forms as requests, pages that the answer itself
//! leads to; what is gone is a conflict.

use crate::answer::{Answer, PAGE};
use crate::book::Review;
use crate::forge::Forge;
use crate::letters::beacon::merge;
use crate::status::Status;
use axum::extract::{Form, Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};

pub(super) fn router() -> Router<Forge> {
    Router::new()
        .route("/beacon/houses", get(houses))
        .route("/beacon/lights", post(light))
        .route("/beacon/sayings", post(say))
        .route("/beacon/sayings/{key}", post(say_again))
        .route("/beacon/merges", get(merges))
        .route("/beacon/merges/{key}", get(one_merge))
        .route("/beacon/nods", get(nods))
        .route("/beacon/merges/{key}/joined", post(joined))
}

fn number(key: &str, letter: char) -> Answer<usize> {
    let digits = key.strip_prefix(letter).and_then(|digits| digits.parse().ok());
    digits.ok_or_else(|| (StatusCode::NOT_FOUND, format!("there is no {key}\n")))
}

#[derive(Deserialize)]
struct Of {
    repository: String,
    #[serde(default)]
    commit: String,
    #[serde(default)]
    proposal: String,
    #[serde(default)]
    page: usize,
}

fn pass(headers: &HeaderMap) -> Option<&str> {
    headers.get("x-beacon-pass")?.to_str().ok()
}

fn opens(forge: &Forge, of: &Of, headers: &HeaderMap) -> Answer<()> {
    forge.opens(&of.repository, pass(headers))
}

async fn houses(State(forge): State<Forge>, headers: HeaderMap) -> Json<Value> {
    let house = |(name, git): (String, String)| json!({ "house": { "called": name }, "door": git });
    Json(json!({ "houses": forge.opened(pass(&headers)).into_iter().map(house).collect::<Vec<_>>(), "more": { "at": "" } }))
}

#[derive(Deserialize)]
struct Light {
    light: String,
    colour: String,
    says: String,
    more: String,
}

async fn light(State(forge): State<Forge>, Query(of): Query<Of>, headers: HeaderMap, Form(light): Form<Light>) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let status = Status { context: light.light, state: light.colour, text: light.says, link: light.more };
    forge.set_status(&of.repository, of.commit, status)?;
    Ok(Json(json!({ "seen": true })))
}

#[derive(Deserialize)]
struct Saying {
    saying: String,
}

async fn say(State(forge): State<Forge>, Query(of): Query<Of>, headers: HeaderMap, Form(saying): Form<Saying>) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let id = forge.comment(&of.repository, number(&of.proposal, 'm')?, "ordotaxis", saying.saying)?;
    Ok(Json(json!({ "made": { "saying": format!("s{id}") } })))
}

async fn say_again(
    State(forge): State<Forge>,
    Path(key): Path<String>,
    Query(of): Query<Of>,
    headers: HeaderMap,
    Form(saying): Form<Saying>,
) -> Answer<StatusCode> {
    opens(&forge, &of, &headers)?;
    let gone = |(_, why)| (StatusCode::CONFLICT, why);
    forge.comment_again(&of.repository, number(&key, 's')?, saying.saying).map_err(gone)?;
    Ok(StatusCode::OK)
}

async fn merges(State(forge): State<Forge>, Query(of): Query<Of>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let (page, more) = forge.page(&of.repository, of.page, PAGE)?;
    let list: Vec<Value> = page.iter().map(|proposal| merge(&forge.url, &of.repository, proposal)).collect();
    let at = if more { format!("?repository={}&page={}", of.repository, of.page + 1) } else { String::new() };
    Ok(Json(json!({ "merges": list, "more": { "at": at } })))
}

async fn one_merge(State(forge): State<Forge>, Path(key): Path<String>, Query(of): Query<Of>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let proposal = forge.proposal(&of.repository, number(&key, 'm')?)?;
    Ok(Json(json!({ "found": merge(&forge.url, &of.repository, &proposal) })))
}

async fn nods(State(forge): State<Forge>, Query(of): Query<Of>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let nod = |review: &Review| json!({ "keeper": { "name": review.by }, "verb": if review.approves { "yes" } else { "no" }, "id": review.commit });
    let nods: Vec<Value> = forge.proposal(&of.repository, number(&of.proposal, 'm')?)?.reviews.iter().map(nod).collect();
    Ok(Json(json!({ "nods": nods })))
}

#[derive(Deserialize)]
struct Joined {
    joined: String,
}

async fn joined(
    State(forge): State<Forge>,
    Path(key): Path<String>,
    Query(of): Query<Of>,
    headers: HeaderMap,
    Form(joined): Form<Joined>,
) -> Answer<StatusCode> {
    opens(&forge, &of, &headers)?;
    forge.land(&of.repository, number(&key, 'm')?, &joined.joined, "ordotaxis")?;
    Ok(StatusCode::OK)
}
