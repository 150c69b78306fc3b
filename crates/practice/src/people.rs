//! What people do at the forge, as calls: for the demo, the tests, and whoever tries it by hand. Whatever dialect the forge
//! speaks, these stay the same.

use crate::answer::Answer;
use crate::book::{Hook, Proposal, Repository};
use crate::fault::Fault;
use crate::forge::Forge;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::{delete, post, put};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};

pub(crate) fn router() -> Router<Forge> {
    Router::new()
        .route("/api/repositories", post(create))
        .route("/api/repositories/{name}/hook", put(set_hook))
        .route("/api/repositories/{name}/proposals", post(propose))
        .route("/api/people/{name}/proposals/{number}/review", post(review))
        .route("/api/people/{name}/proposals/{number}/comment", post(comment))
        .route("/api/people/{name}/proposals/{number}/close", post(close))
        .route("/api/people/{name}/proposals/{number}/comments/{id}", delete(forget))
        .route("/api/faults", post(faults))
}

#[derive(Deserialize)]
struct NewRepository {
    name: String,
    #[serde(default)]
    private: bool,
    /// Its token, say that of another repository which the same people may read; a new one when absent.
    #[serde(default)]
    token: Option<String>,
}

#[derive(Serialize)]
struct RepositoryView {
    name: String,
    git_url: String,
    page: String,
    token: String,
}

async fn create(State(forge): State<Forge>, Json(ask): Json<NewRepository>) -> Answer<Json<RepositoryView>> {
    let plain = !ask.name.is_empty() && ask.name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    if !plain {
        return Err((StatusCode::UNPROCESSABLE_ENTITY, "a repository's name is letters, digits, - and _\n".into()));
    }
    let dir = forge.folder.join(format!("{}.git", ask.name));
    if !dir.exists() {
        let made =
            tokio::process::Command::new("git").args(["init", "--quiet", "--bare", "--initial-branch=main"]).arg(&dir).status().await;
        if !made.is_ok_and(|status| status.success()) {
            return Err((StatusCode::INTERNAL_SERVER_ERROR, "git init failed\n".into()));
        }
    }
    let mut book = forge.book();
    let token = ask.token.unwrap_or_else(|| format!("practice-{:016x}", rand::random::<u64>()));
    let known =
        book.repositories.entry(ask.name.clone()).or_insert_with(|| Repository { token, private: ask.private, ..Repository::default() });
    let view = RepositoryView {
        git_url: forge.git_url(&ask.name),
        page: format!("{}/{}", forge.url, ask.name),
        token: known.token.clone(),
        name: ask.name,
    };
    forge.save(&book);
    Ok(Json(view))
}

async fn set_hook(State(forge): State<Forge>, Path(name): Path<String>, Json(hook): Json<Hook>) -> Answer<StatusCode> {
    let mut book = forge.book();
    let known = book.repositories.get_mut(&name).ok_or_else(|| (StatusCode::NOT_FOUND, format!("there is no repository {name}\n")))?;
    known.hook = Some(hook);
    forge.save(&book);
    Ok(StatusCode::NO_CONTENT)
}

/// Offers a branch to another one, and calls the webhook.
async fn propose(State(forge): State<Forge>, Path(name): Path<String>, Json(mut proposal): Json<Proposal>) -> Answer<Json<Proposal>> {
    let refs = forge.refs(&name).await;
    let tip = |branch: &str| refs.get(&format!("refs/heads/{branch}")).cloned();
    let missing = |branch: &str| (StatusCode::UNPROCESSABLE_ENTITY, format!("there is no branch {branch}\n"));
    proposal.commit = tip(&proposal.source).ok_or_else(|| missing(&proposal.source))?;
    tip(&proposal.target).ok_or_else(|| missing(&proposal.target))?;
    if proposal.by.is_empty() {
        proposal.by = forge.committer(&name, &proposal.commit).await;
    }
    Ok(Json(forge.offer(&name, proposal)?))
}

#[derive(Deserialize)]
struct Word {
    by: String,
    #[serde(default)]
    approves: bool,
    #[serde(default)]
    text: String,
}

async fn review(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, Json(word): Json<Word>) -> Answer<StatusCode> {
    forge.review(&name, number, &word.by, word.approves)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn comment(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, Json(word): Json<Word>) -> Answer<StatusCode> {
    forge.comment(&name, number, &word.by, word.text)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn close(State(forge): State<Forge>, Path((name, number)): Path<(String, usize)>, Json(word): Json<Word>) -> Answer<StatusCode> {
    forge.close(&name, number, &word.by)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn forget(State(forge): State<Forge>, Path((name, number, id)): Path<(String, usize, usize)>) -> Answer<StatusCode> {
    forge.comment_gone(&name, number, id)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn faults(State(forge): State<Forge>, Json(faults): Json<Vec<Fault>>) -> StatusCode {
    forge.will_fail(faults);
    StatusCode::NO_CONTENT
}
