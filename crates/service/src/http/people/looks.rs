//! First looks: a repository before it is a project. Nothing is created by them.

use super::hook::{hook_url, new_secret};
use super::logins;
use super::projects::{self, name_trouble};
use super::repository::host;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::looks::{FirstLook, first_file_of, see, view};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_wire::look::{FirstFileView, HeardView, LookView, NewLook};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use std::sync::Arc;

fn find(app: &App, caller: &Caller, id: &str) -> Result<Arc<FirstLook>, ApiError> {
    let gone = || ApiError::not_found("look", "this look is over: it was an hour ago, or the service was started anew; begin again");
    app.looks.of(id, caller.name()).ok_or_else(gone)
}

/// Look at a repository before it is a project: whether it can be read, and what it has. The answer holds what its forge
/// would be given; a project that names the look takes it over.
#[utoipa::path(post, operation_id = "look", path = "/api/v1/looks", request_body = NewLook, responses((status = 200, body = LookView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn look(State(app): State<App>, caller: Caller, Body(ask): Body<NewLook>) -> Result<Json<LookView>, ApiError> {
    crate::places::may_be_project(&app.settings, &ask.git_url).map_err(|why| ApiError::field("/git_url", why))?;
    if let Some(profile) = &ask.profile {
        projects::is_profile(&app, profile).map_err(|why| ApiError::field("/profile", why))?;
    }
    let login = ask.login.map(|login| logins::login(&ask.git_url, login)).transpose().map_err(|error| error.at("/login"))?;
    let look = match &ask.look {
        Some(id) => find(&app, &caller, id)?,
        None => app.looks.begin(caller.name(), new_secret())?,
    };
    look.call(&ask.name, ask.profile);
    let seen = see(&look, &ask.git_url, login).await;
    let (found, trouble) = match seen {
        Ok(found) => (Some(found), None),
        Err(why) => (None, Some(why)),
    };
    let known = std::fs::read_to_string(look.known_hosts()).unwrap_or_default();
    Ok(Json(LookView {
        look: look.id.clone(),
        ends_at: moment(look.ends_at()),
        key: look.key_made().map(|key| key.public),
        hosts: known.lines().filter_map(host).collect(),
        hook_url: hook_url(&app, &ask.name),
        hook_secret: look.hook_secret.clone(),
        name_trouble: name_trouble(&app, &ask.name).await?,
        trouble,
        found,
    }))
}

/// What has come for a look from its forge, the newest first.
#[utoipa::path(get, operation_id = "heard", path = "/api/v1/looks/{look}/deliveries", params(("look" = String, Path)), responses((status = 200, body = Vec<HeardView>), (status = 404, body = Problem)))]
pub(crate) async fn heard(State(app): State<App>, caller: Caller, Path(look): Path<String>) -> Result<Json<Vec<HeardView>>, ApiError> {
    let look = find(&app, &caller, &look)?;
    let view = |one: crate::looks::Heard| HeardView { at: moment(one.at), state: one.state.to_owned(), events: one.events, why: one.why };
    Ok(Json(look.heard().into_iter().map(view).collect()))
}

/// Forget a look.
#[utoipa::path(delete, operation_id = "end_look", path = "/api/v1/looks/{look}", params(("look" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn end(State(app): State<App>, caller: Caller, Path(look): Path<String>) -> Result<StatusCode, ApiError> {
    app.looks.end(&find(&app, &caller, &look)?.id);
    Ok(StatusCode::NO_CONTENT)
}

/// A pipeline file for a project that has none, written for what its main branch holds.
#[utoipa::path(get, operation_id = "first_file", path = "/api/v1/projects/{project}/first-file", params(("project" = String, Path)), responses((status = 200, body = FirstFileView), (status = 404, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn first_file(State(app): State<App>, Path(project): Path<String>) -> Result<Json<FirstFileView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let mirror = app.mirror(&project);
    let away = |error: ordotaxis_git::GitError| ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", error.to_string());
    mirror.fetch_all().await.map_err(away)?;
    let Some(commit) = mirror.resolve(&project.main_branch).await.map_err(away)? else {
        return Err(ApiError::field("/project", format!("{} has no branch {} yet", project.name, project.main_branch)));
    };
    Ok(Json(view(first_file_of(mirror, &commit, &project.main_branch).await.map_err(away)?)))
}
