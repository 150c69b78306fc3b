//! The dialect that the forge speaks by itself.

use super::{Letter, Signed};
use crate::acts::{Answer, PAGE};
use crate::announce::{News, Turn};
use crate::book::{Proposal, Review};
use crate::forge::Forge;
use crate::hook::standard;
use crate::status::Status;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};

fn about(url: &str, repository: &str, proposal: &Proposal) -> Value {
    json!({
        "repository": repository,
        "number": proposal.number,
        "title": proposal.title,
        "source": proposal.source,
        "outside": proposal.outside,
        "draft": proposal.draft,
        "target": proposal.target,
        "commit": proposal.commit,
        "state": proposal.state,
        "by": proposal.by,
        "link": format!("{url}/{repository}#proposal-{}", proposal.number),
    })
}

/// A proposal's fields with some of an event's own.
fn event(word: &str, about: Value, more: Value) -> Letter {
    let mut body = json!({ "event": word });
    for part in [about, more] {
        if let (Value::Object(body), Value::Object(part)) = (&mut body, part) {
            body.extend(part);
        }
    }
    Letter { kind: "", body }
}

pub(super) fn letters(url: &str, repository: &str, news: &News) -> Vec<Letter> {
    let about = |proposal| about(url, repository, proposal);
    match news {
        News::Moved { moves, by } => moves
            .iter()
            .filter_map(|one| {
                let (word, key, short) = match (one.name.strip_prefix("refs/heads/"), one.name.strip_prefix("refs/tags/")) {
                    _ if one.now.is_none() => ("gone", "name", one.name.as_str()),
                    (Some(branch), _) => ("push", "branch", branch),
                    (_, Some(tag)) => ("tag", "tag", tag),
                    _ => return None,
                };
                let before = one.before.clone().unwrap_or_default();
                Some(event(
                    word,
                    json!({ key: short, "commit": one.now, "before": before, "repository": repository, "by": by }),
                    Value::Null,
                ))
            })
            .collect(),
        News::Proposal { proposal, turn, by } => {
            let (word, more) = match turn {
                Turn::Offered | Turn::Changed => ("proposal", json!({ "by": proposal.by })),
                Turn::Closed => ("closed", json!({ "by": by })),
                Turn::Landed => ("landed", json!({ "by": by, "commit": proposal.landed_as })),
            };
            vec![event(word, about(proposal), more)]
        }
        News::Comment { proposal, text, by } => vec![event("comment", about(proposal), json!({ "text": text, "by": by }))],
        News::Review { proposal, review } => {
            vec![event("review", about(proposal), json!({ "by": review.by, "approves": review.approves, "commit": review.commit }))]
        }
    }
}

pub(super) fn signed(letter: &Letter, secret: &str, id: &str) -> Signed {
    let body = letter.body.to_string();
    let time = jiff::Timestamp::now().as_second().to_string();
    let signature = standard(secret, id, &time, &body);
    let headers = vec![
        ("content-type", "application/json".to_owned()),
        ("webhook-id", id.to_owned()),
        ("webhook-timestamp", time),
        ("webhook-signature", signature),
    ];
    Signed { headers, body }
}

pub(super) fn router() -> Router<Forge> {
    Router::new()
        .route("/api/repositories/{name}/commits/{commit}/statuses", post(add_status).get(statuses))
        .route("/api/repositories/{name}/proposals/{number}/comments", post(comment))
        .route("/api/repositories/{name}/proposals/{number}/comments/{id}", put(comment_again))
        .route("/api/repositories/{name}/proposals", get(proposals))
        .route("/api/repositories/{name}/proposals/{number}/reviews", get(reviews))
        .route("/api/repositories/{name}/proposals/{number}/landed", post(landed))
}

/// Whether a call brings the repository's token.
fn opens(forge: &Forge, name: &str, headers: &HeaderMap) -> Answer<()> {
    let sent = headers.get("authorization").and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
    forge.opens(name, sent)
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

async fn reviews(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, headers: HeaderMap) -> Answer<Json<Vec<Review>>> {
    opens(&forge, &name, &headers)?;
    Ok(Json(forge.proposal(&name, number)?.reviews))
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
