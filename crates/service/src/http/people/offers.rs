//! What people do with proposals here: offer a branch where the project has no forge, take it back, agree or refuse.

use super::projects;
use super::proposals::{find, whole};
use crate::app::App;
use crate::clock;
use crate::forge::offer;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::landing::{tick, told_of_proposal};
use crate::talk::comment_anew;
use crate::who::Who;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::forge::{Offer, short};
use ordotaxis_core::language::nearest;
use ordotaxis_git::GitError;
use ordotaxis_store::{Entry, Given, Project};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::proposal::{GiveReview, NewProposal, ProposalView};

fn conflict(detail: impl Into<String>) -> ApiError {
    ApiError::new(StatusCode::CONFLICT, "not-offered", detail)
}

/// Proposals of a project with a forge are made and ended there.
fn without_forge(project: &Project) -> Result<(), ApiError> {
    match &project.forge {
        None => Ok(()),
        Some(forge) => Err(conflict(format!("{} has a forge: offer and end its proposals there, at {}", project.name, forge.url))),
    }
}

/// A branch's commit. A name that is none is told with those that are near.
async fn tip(app: &App, project: &Project, branch: &str, pointer: &str) -> Result<String, ApiError> {
    let away = |error: GitError| ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", error.to_string());
    let mirror = app.mirror(project);
    let branches = mirror.branches().await.map_err(away)?;
    if !branches.iter().any(|known| known == branch) {
        let hint = match nearest(branch, branches.iter().map(String::as_str)) {
            Some(near) => format!("did you mean {near}?"),
            None => "push it first".to_owned(),
        };
        return Err(ApiError::field(pointer, format!("{} has no branch {branch}; {hint}", project.name)));
    }
    let gone = || ApiError::field(pointer, format!("{} has no branch {branch}", project.name));
    mirror.resolve(branch).await.map_err(away)?.ok_or_else(gone)
}

/// Offer a branch to another one, where the project has no forge.
#[utoipa::path(post, operation_id = "offer_proposal", path = "/api/v1/projects/{project}/proposals", params(("project" = String, Path)), request_body = NewProposal, responses((status = 201, body = ProposalView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn make(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<NewProposal>,
) -> Result<(StatusCode, Json<ProposalView>), ApiError> {
    let project = projects::find(&app, &project).await?;
    without_forge(&project)?;
    if ask.title.as_ref().is_some_and(|title| title.len() > 300 || title.chars().any(char::is_control)) {
        return Err(ApiError::field("/title", "a title is one line of at most 300 bytes"));
    }
    let mirror = app.mirror(&project);
    let away = |error: GitError| ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", error.to_string());
    mirror.fetch_all().await.map_err(away)?;
    let target = ask.target.unwrap_or_else(|| project.main_branch.clone());
    if target == ask.source {
        return Err(ApiError::field("/source", "a branch cannot be offered to itself"));
    }
    let head = tip(&app, &project, &ask.source, "/source").await?;
    tip(&app, &project, &target, "/target").await?;
    let title = match ask.title {
        Some(title) => title,
        None => mirror.commit(&head).await.map_err(away)?.title,
    };
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if let Some(known) = tx.proposals_from(project.id, &ask.source).await?.iter().find(|known| known.target == target) {
        return Err(conflict(format!("{} is offered to {target} already: proposal {}", ask.source, known.number)));
    }
    let number = tx.next_proposal(project.id).await?.to_string();
    let made = Offer {
        number: Some(number.clone()),
        title: Some(title),
        target,
        source: Some(ask.source),
        commit: head.clone(),
        outside: false,
        draft: ask.draft,
        by: Some(caller.name().to_owned()),
        link: None,
        open: true,
    };
    offer(&mut tx, &project, &number, made).await?;
    tx.note(Entry::new(Action::Propose, format!("proposal {number}")).of(&project.name).after(&head));
    tx.commit().await?;
    let row = find(&app, &project, &number).await?;
    Ok((StatusCode::CREATED, Json(whole(&app, &project, row).await?)))
}

/// Take a proposal back, where the project has no forge.
#[utoipa::path(delete, operation_id = "withdraw_proposal", path = "/api/v1/projects/{project}/proposals/{proposal}", params(("project" = String, Path), ("proposal" = String, Path)), responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn withdraw(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    without_forge(&project)?;
    let row = find(&app, &project, &number).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.end_proposal(project.id, &row.number, "closed", None).await? {
        return Err(conflict(format!("proposal {number} is {}: there is nothing to take back", row.state)));
    }
    told_of_proposal(&mut tx, project.id, &row.number, None, &format!("it was withdrawn by {}", caller.name())).await?;
    tx.note(Entry::new(Action::Propose, format!("proposal {number}")).of(&project.name).after("withdrawn"));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Agree with a proposal's newest commit, refuse it, or take one's word back.
#[utoipa::path(put, operation_id = "review_proposal", path = "/api/v1/projects/{project}/proposals/{proposal}/review", params(("project" = String, Path), ("proposal" = String, Path)), request_body = GiveReview, responses((status = 200, body = ProposalView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn review(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, String)>,
    Body(ask): Body<GiveReview>,
) -> Result<Json<ProposalView>, ApiError> {
    let person = caller.person_id()?;
    let project = projects::find(&app, &project).await?;
    let row = find(&app, &project, &number).await?;
    if row.state != "open" {
        return Err(conflict(format!("proposal {number} is {}", row.state)));
    }
    if !row.head.starts_with(&ask.commit) || ask.commit.len() < 7 {
        return Err(conflict(format!("its newest commit is {}: look at that one", short(&row.head))));
    }
    let who = Who::of(&app, &project).await?;
    let Some(login) = who.login_of(person) else {
        return Err(conflict(format!(
            "nobody knows what the forge calls you; an owner says it: ordotaxis person known {} --issuer … --subject …",
            caller.name()
        )));
    };
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_review(project.id, &row.number, (login, Given::Here), ask.approves, Some(&row.head)).await?;
    let word = match ask.approves {
        Some(true) => "approves",
        Some(false) => "refuses",
        None => "takes the word back on",
    };
    tx.note(Entry::new(Action::Approve, format!("proposal {number}")).of(&project.name).after(format!("{word} {}", row.head)));
    tx.add_work(&comment_anew(project.id, &row.number)).await?;
    tx.commit().await?;
    tick(&app, &project, &row.target).await?;
    let row = find(&app, &project, &number).await?;
    Ok(Json(whole(&app, &project, row).await?))
}
