//! Repositories of a forge, before they are projects.

use crate::app::App;
use crate::forge::{CallError, repositories};
use crate::http::error::ApiError;
use crate::http::extract::Body;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_store::{Forge, Project};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::project::{FindRepositories, FoundRepository};

/// List the repositories that a token opens at a forge, with the projects that they are already. Nothing is kept of it.
#[utoipa::path(post, operation_id = "find_repositories", path = "/api/v1/repositories", request_body = FindRepositories, responses((status = 200, body = Vec<FoundRepository>), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn find(State(app): State<App>, Body(ask): Body<FindRepositories>) -> Result<Json<Vec<FoundRepository>>, ApiError> {
    if !url::Url::parse(&ask.url).is_ok_and(|url| matches!(url.scheme(), "http" | "https")) {
        return Err(ApiError::field("/url", "a forge's address begins with https:// or http://"));
    }
    let at = Forge { profile: ask.profile, url: ask.url, repository: String::new() };
    let found = repositories(&app, &at, ask.token.unwrap_or_default()).await.map_err(|error| refused(&app, &error))?;
    let projects = app.records.projects().await?;
    let known = |name: &str, git: &str| projects.iter().find(|project| is_it(project, &at, name, git)).map(|project| project.name.clone());
    let view = found.into_iter().map(|one| FoundRepository { project: known(&one.name, &one.git), repository: one.name, git_url: one.git });
    Ok(Json(view.collect()))
}

/// Whether a project is this repository of a forge.
fn is_it(project: &Project, at: &Forge, name: &str, git: &str) -> bool {
    let same = |forge: &Forge| forge.url.trim_end_matches('/') == at.url.trim_end_matches('/') && forge.repository == name;
    project.git_url == git || project.forge.as_ref().is_some_and(same)
}

fn refused(app: &App, error: &CallError) -> ApiError {
    let detail = error.to_string();
    match error {
        CallError::NoProfile(_) => {
            let known: Vec<&str> = app.profiles.names().collect();
            ApiError::field("/profile", format!("{detail}; there are: {}", known.join(", ")))
        }
        CallError::NoRequest(_) | CallError::NotFilled(_) | CallError::Form(_) => ApiError::field("/profile", detail),
        _ => ApiError::new(StatusCode::BAD_GATEWAY, "forge-away", detail),
    }
}
