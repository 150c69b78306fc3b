//! A shared word in a header, nouns and verbs, repositories by number, forms as requests, pages that the answer itself
//! leads to; what is gone is a conflict.

use super::{Letter, Signed};
use crate::acts::{Answer, PAGE};
use crate::announce::{Move, News, Turn};
use crate::book::{Offered, Proposal};
use crate::forge::Forge;
use crate::status::Status;
use axum::extract::{Form, Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};

/// Proposals have keys such as `m3`, comments such as `s12`.
fn key(proposal: &Proposal) -> String {
    format!("m{}", proposal.number)
}

fn number(key: &str, letter: char) -> Answer<usize> {
    let digits = key.strip_prefix(letter).and_then(|digits| digits.parse().ok());
    digits.ok_or_else(|| (StatusCode::NOT_FOUND, format!("there is no {key}\n")))
}

fn merge(url: &str, house: &str, proposal: &Proposal) -> Value {
    let state = match (proposal.state, proposal.draft) {
        (Offered::Landed, _) => "joined",
        (Offered::Closed, _) => "out",
        (Offered::Open, true) => "sketch",
        (Offered::Open, false) => "lit",
    };
    json!({
        "key": key(proposal),
        "title": proposal.title,
        "state": state,
        "joined": proposal.landed_as,
        "site": format!("{url}/{house}#proposal"),
        "from": { "line": proposal.source, "id": proposal.commit, "house": if proposal.outside { 7_000 } else { 1 } },
        "to": { "line": proposal.target, "house": 1 },
        "keeper": { "name": proposal.by },
    })
}

pub(super) fn letters(url: &str, house: &str, news: &News) -> Vec<Letter> {
    let letter = |mut body: Value, by: &str| {
        body["keeper"] = json!({ "name": null, "handle": by });
        Letter { kind: "", body }
    };
    match news {
        News::Moved { moves, by } => moves.iter().filter_map(|one| Some(letter(moved(one)?, by))).collect(),
        News::Proposal { proposal, turn, by } => {
            let verb = match turn {
                Turn::Offered => "lit",
                Turn::Changed => "moved",
                Turn::Closed => "out",
                Turn::Landed => "joined",
            };
            vec![letter(json!({ "noun": "merge", "verb": verb, "merge": merge(url, house, proposal) }), by)]
        }
        News::Comment { proposal, text, by } => {
            vec![letter(json!({ "noun": "saying", "verb": "lit", "saying": text, "merge": merge(url, house, proposal) }), by)]
        }
        News::Review { proposal, review } => {
            let verb = if review.approves { "yes" } else { "no" };
            vec![letter(json!({ "noun": "nod", "verb": verb, "merge": merge(url, house, proposal) }), &review.by)]
        }
    }
}

fn moved(one: &Move) -> Option<Value> {
    let verb = match (&one.before, &one.now) {
        (_, None) => "dark",
        (None, _) => "lit",
        _ => "moved",
    };
    match (one.name.strip_prefix("refs/heads/"), one.name.strip_prefix("refs/tags/")) {
        (Some(branch), _) => {
            Some(json!({ "noun": "line", "verb": verb, "line": { "name": branch, "tip": { "id": one.now, "before": one.before } } }))
        }
        (_, Some(tag)) => Some(json!({ "noun": "label", "verb": verb, "label": { "name": tag, "at": one.now } })),
        _ => None,
    }
}

pub(super) fn signed(letter: &Letter, secret: &str, id: &str) -> Signed {
    let mut body = letter.body.clone();
    body["flash"] = id.into();
    let headers = vec![("content-type", "application/json".to_owned()), ("x-beacon-word", secret.to_owned())];
    Signed { headers, body: body.to_string() }
}

pub(super) fn router() -> Router<Forge> {
    Router::new()
        .route("/beacon/lights", post(light))
        .route("/beacon/sayings", post(say))
        .route("/beacon/sayings/{key}", post(say_again))
        .route("/beacon/merges", get(merges))
        .route("/beacon/nods", get(nods))
        .route("/beacon/merges/{key}/joined", post(joined))
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

fn opens(forge: &Forge, of: &Of, headers: &HeaderMap) -> Answer<()> {
    forge.opens(&of.repository, headers.get("x-beacon-pass").and_then(|value| value.to_str().ok()))
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

async fn nods(State(forge): State<Forge>, Query(of): Query<Of>, headers: HeaderMap) -> Answer<Json<Value>> {
    opens(&forge, &of, &headers)?;
    let nod = |review: &crate::book::Review| json!({ "keeper": { "name": review.by }, "verb": if review.approves { "yes" } else { "no" }, "id": review.commit });
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
