//! Projects: add, list, show, remove.

use super::auth::Person;
use super::error::ApiError;
use super::extract::{Body, Path};
use crate::app::App;
use crate::clock;
use crate::keeper::Command;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use base64::Engine;
use ordotaxis_core::language::nearest;
use ordotaxis_store::{Forge, Project};
use ordotaxis_wire::ask::{NewProject, SetOutside};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::view::ProjectView;

fn view(app: &App, project: &Project) -> ProjectView {
    ProjectView {
        name: project.name.clone(),
        git_url: project.git_url.clone(),
        main_branch: project.main_branch.clone(),
        hook_url: format!("{}/hooks/v1/{}", app.public_url, project.name),
        hook_secret: None,
        outside: project.outside.clone(),
        trouble: None,
        created_at: moment(project.created_at),
    }
}

async fn view_now(app: &App, project: &Project) -> Result<ProjectView, ApiError> {
    Ok(ProjectView { trouble: app.records.trouble(project.id).await?, ..view(app, project) })
}

/// The project, or a problem with the nearest name.
pub(super) async fn find(app: &App, name: &str) -> Result<Project, ApiError> {
    if let Some(project) = app.records.project(name).await? {
        return Ok(project);
    }
    let all = app.records.projects().await?;
    let hint = match nearest(name, all.iter().map(|project| project.name.as_str())) {
        Some(near) => format!("did you mean {near}?"),
        None if all.is_empty() => "add one with `ordotaxis project add NAME --git URL`".into(),
        None => "`ordotaxis project list` shows all".into(),
    };
    Err(ApiError::not_found("project", format!("there is no project {name}; {hint}")))
}

/// All projects by name.
#[utoipa::path(get, operation_id = "list_projects", path = "/api/v1/projects", responses((status = 200, body = Vec<ProjectView>)))]
pub(super) async fn list(State(app): State<App>, _: Person) -> Result<Json<Vec<ProjectView>>, ApiError> {
    let projects = app.records.projects().await?;
    let mut views = Vec::with_capacity(projects.len());
    for project in &projects {
        views.push(view_now(&app, project).await?);
    }
    Ok(Json(views))
}

/// One project.
#[utoipa::path(get, operation_id = "show_project", path = "/api/v1/projects/{name}", params(("name" = String, Path)), responses((status = 200, body = ProjectView), (status = 404, body = Problem)))]
pub(super) async fn show(State(app): State<App>, _: Person, Path(name): Path<String>) -> Result<Json<ProjectView>, ApiError> {
    Ok(Json(view_now(&app, &find(&app, &name).await?).await?))
}

/// Add a project. The answer holds the secret that its forge must sign webhooks with; it is not shown again.
#[utoipa::path(post, operation_id = "add_project", path = "/api/v1/projects", request_body = NewProject, responses((status = 201, body = ProjectView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): State<App>,
    _: Person,
    Body(ask): Body<NewProject>,
) -> Result<(StatusCode, Json<ProjectView>), ApiError> {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    if ask.name.is_empty() || ask.name.len() > 64 || !ask.name.chars().all(fits) {
        return Err(ApiError::field("/name", "a project's name is lower-case letters, digits, `-` and `_`, at most 64"));
    }
    crate::places::may_be_project(&app.settings, &ask.git_url).map_err(|why| ApiError::field("/git_url", why))?;
    if let Some(forge) = &ask.forge
        && !app.profiles.contains_key(&forge.profile)
    {
        let known: Vec<&str> = app.profiles.keys().map(String::as_str).collect();
        return Err(ApiError::field(
            "/forge/profile",
            format!("there is no forge profile {}; there are: {}", forge.profile, known.join(", ")),
        ));
    }
    let key: [u8; 24] = rand::random();
    let hook_secret = format!("whsec_{}", base64::engine::general_purpose::STANDARD.encode(key));
    let token = ask.forge.as_ref().and_then(|forge| forge.token.clone());
    let forge = ask.forge.map(|forge| Forge { profile: forge.profile, url: forge.url, repository: forge.repository });
    let project = Project {
        id: 0,
        name: ask.name,
        git_url: ask.git_url,
        main_branch: ask.main_branch,
        sealed: None,
        forge,
        outside: "ask".to_owned(),
        created_at: clock::now(),
    };
    let id = app.records.add_project(&project).await?;
    let outward = crate::secrets::Outward { hook_secret: hook_secret.clone(), token, git_password: None };
    let sealed = app.seal.seal_outward(id, &outward).ok_or_else(|| ApiError::field("/forge/token", "the token could not be sealed"))?;
    app.records.seal_project(id, &sealed).await?;
    Ok((StatusCode::CREATED, Json(ProjectView { hook_secret: Some(hook_secret), ..view(&app, &project) })))
}

/// Remove a project with all its runs.
#[utoipa::path(delete, operation_id = "remove_project", path = "/api/v1/projects/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn remove(State(app): State<App>, _: Person, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let project = find(&app, &name).await?;
    app.keeper.ask(|reply| Command::Forget { project_id: project.id, reply }).await?;
    let runs = app.records.runs_of(project.id).await?;
    app.records.remove_project(&name).await?;
    // What is left has no name any more: nothing that comes later can be taken for it.
    {
        let mut plans = app.plans.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        runs.iter().for_each(|run| drop(plans.remove(run)));
    }
    let logs = app.logs.clone();
    tokio::task::spawn_blocking(move || logs.remove_runs(&runs)).await.map_err(std::io::Error::other)??;
    app.mirrors.remove(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Say what is done with proposals from outside: each is asked about (`ask`), run (`run`), or left (`never`).
#[utoipa::path(put, operation_id = "set_outside", path = "/api/v1/projects/{name}/outside", params(("name" = String, Path)), request_body = SetOutside, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_outside(
    State(app): State<App>,
    _: Person,
    Path(name): Path<String>,
    Body(ask): Body<SetOutside>,
) -> Result<StatusCode, ApiError> {
    if !matches!(ask.outside.as_str(), "ask" | "run" | "never") {
        return Err(ApiError::field("/outside", "proposals from outside are asked about (`ask`), run (`run`), or left (`never`)"));
    }
    let project = find(&app, &name).await?;
    app.records.set_outside(&project.name, &ask.outside).await?;
    Ok(StatusCode::NO_CONTENT)
}
