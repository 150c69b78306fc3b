//! Projects: add, list, show, remove.

use super::hook::{hook_url, new_secret};
use super::logins;
use crate::app::App;
use crate::clock;
use crate::forge::PLAIN;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::keeper::RunCommand;
use crate::looks::FirstLook;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Seen};
use ordotaxis_core::language::nearest;
use ordotaxis_store::{Entry, Forge, PolledRow, Project};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::project::{BadgeView, ProjectView};
use ordotaxis_wire::project::{NewProject, SetOutside, SetPoll, SetSeen};
use serde::Deserialize;
use std::collections::HashMap;
use utoipa::IntoParams;

fn view(app: &App, project: &Project) -> ProjectView {
    ProjectView {
        name: project.name.clone(),
        git_url: project.git_url.clone(),
        main_branch: project.main_branch.clone(),
        hook_url: hook_url(app, &project.name),
        hook_secret: None,
        outside: project.outside.clone(),
        seen: project.seen,
        remark: None,
        trouble: app.polls.trouble(project.id).map(|why| format!("it could not be looked at: {why}")),
        poll_ms: None,
        looked_at: None,
        found: None,
        profile: project.forge.as_ref().map_or(PLAIN, |forge| forge.profile.as_str()).to_owned(),
        created_at: moment(project.created_at),
    }
}

/// Projects with what keeps each from being read, and how it is looked at.
async fn whole(app: &App, projects: Vec<Project>) -> Result<Vec<ProjectView>, ApiError> {
    let mut troubles: HashMap<i64, String> = app.records.troubles().await?.into_iter().collect();
    let mut polled: HashMap<i64, PolledRow> = app.records.polled().await?.into_iter().map(|row| (row.id, row)).collect();
    let whole = |project: Project| {
        let (mut view, poll) = (view(app, &project), polled.remove(&project.id));
        view.trouble = troubles.remove(&project.id).or(view.trouble);
        if let Some(poll) = poll {
            (view.poll_ms, view.looked_at, view.found) = (poll.poll_ms, poll.looked_at.map(moment), poll.found);
        }
        view
    };
    Ok(projects.into_iter().map(whole).collect())
}

/// The project, or a problem with the nearest name.
pub(crate) async fn find(app: &App, name: &str) -> Result<Project, ApiError> {
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

/// Projects that the caller sees, by name.
#[utoipa::path(get, operation_id = "list_projects", path = "/api/v1/projects", responses((status = 200, body = Vec<ProjectView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<ProjectView>>, ApiError> {
    let projects = app.records.projects().await?.into_iter().filter(|project| caller.sees(project));
    Ok(Json(whole(&app, projects.collect()).await?))
}

/// One project.
#[utoipa::path(get, operation_id = "show_project", path = "/api/v1/projects/{name}", params(("name" = String, Path)), responses((status = 200, body = ProjectView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path(name): Path<String>) -> Result<Json<ProjectView>, ApiError> {
    let project = find(&app, &name).await?;
    Ok(Json(whole(&app, vec![project]).await?.remove(0)))
}

/// Why a project cannot be called so.
fn unfit_name(name: &str) -> Option<String> {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    let unfit = name.is_empty() || name.len() > 64 || !name.chars().all(fits);
    unfit.then(|| "a project's name is lower-case letters, digits, `-` and `_`, at most 64".to_owned())
}

/// The same, also where there is one of that name already.
pub(super) async fn name_trouble(app: &App, name: &str) -> Result<Option<String>, ApiError> {
    if let Some(why) = unfit_name(name) {
        return Ok(Some(why));
    }
    Ok(app.records.project(name).await?.map(|_| format!("there is a project {name} already")))
}

/// In words, where there is no such forge profile.
pub(super) fn is_profile(app: &App, name: &str) -> Result<(), String> {
    if app.profiles.get(name).is_some() {
        return Ok(());
    }
    let known: Vec<&str> = app.profiles.names().collect();
    Err(format!("there is no forge profile {name}; there are: {}", known.join(", ")))
}

/// The servers that were met in a first look are pinned for the project.
fn keep_hosts(app: &App, project: &Project, look: &FirstLook) -> std::io::Result<()> {
    let Ok(met) = std::fs::read(look.known_hosts()) else { return Ok(()) };
    let path = app.known_hosts(project);
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    std::fs::write(path, met)
}

/// Add a project. The answer holds the secret that its forge must sign webhooks with; it is not shown again.
#[utoipa::path(post, operation_id = "add_project", path = "/api/v1/projects", request_body = NewProject, responses((status = 201, body = ProjectView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add(
    State(app): State<App>,
    caller: Caller,
    Body(ask): Body<NewProject>,
) -> Result<(StatusCode, Json<ProjectView>), ApiError> {
    if let Some(why) = unfit_name(&ask.name) {
        return Err(ApiError::field("/name", why));
    }
    crate::places::may_be_project(&app.settings, &ask.git_url).map_err(|why| ApiError::field("/git_url", why))?;
    if let Some(forge) = &ask.forge {
        is_profile(&app, &forge.profile).map_err(|why| ApiError::field("/forge/profile", why))?;
    }
    if ask.main_branch.as_deref().is_some_and(|branch| !logins::is_branch(branch)) {
        return Err(ApiError::field("/main_branch", "this cannot be the name of a branch"));
    }
    let login = ask.login.map(|login| logins::login(&ask.git_url, login)).transpose().map_err(|error| error.at("/login"))?;
    let look = match &ask.look {
        Some(id) => Some(app.looks.of(id, caller.name()).ok_or_else(|| ApiError::field("/look", "this look is over; begin again"))?),
        None => None,
    };
    let hook_secret = look.as_ref().map_or_else(new_secret, |look| look.hook_secret.clone());
    let key = look.as_ref().and_then(|look| look.key_made());
    let token = ask.forge.as_ref().and_then(|forge| forge.token.clone());
    let forge = ask.forge.map(|forge| Forge { profile: forge.profile, url: forge.url, repository: forge.repository });
    let project = Project {
        id: 0,
        name: ask.name,
        git_url: ask.git_url,
        main_follows: ask.main_branch.is_none(),
        main_branch: ask.main_branch.unwrap_or_else(|| "main".to_owned()),
        sealed: None,
        forge,
        outside: "ask".to_owned(),
        seen: Seen::All,
        badge_key: String::new(),
        created_at: clock::now(),
    };
    let mut tx = app.records.tx(&caller.actor, project.created_at).await?;
    let id = tx.add_project(&project).await?;
    let outward =
        crate::seal::Outward { hook_secret: hook_secret.clone(), token, logins: login.into_iter().collect(), key, ..Default::default() };
    let sealed = app.seal.seal_outward(id, &outward).ok_or_else(|| ApiError::field("/forge/token", "the token could not be sealed"))?;
    tx.seal_project(id, &sealed).await?;
    let after = serde_json::json!({ "git_url": project.git_url, "main_branch": project.main_branch, "forge": project.forge });
    tx.note(Entry::new(Action::AddProject, &project.name).of(&project.name).after(after));
    tx.commit().await?;
    // A mirror that an earlier project of this name left is another repository's.
    app.mirrors.remove(&project.name).await?;
    let project = find(&app, &project.name).await?;
    if let Some(look) = look {
        keep_hosts(&app, &project, &look)?;
        app.looks.end(&look.id);
    }
    let (project, remark) = app.follow_head(project).await?;
    Ok((StatusCode::CREATED, Json(ProjectView { hook_secret: Some(hook_secret), remark, ..view(&app, &project) })))
}

/// Remove a project with all its runs.
#[utoipa::path(delete, operation_id = "remove_project", path = "/api/v1/projects/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let project = find(&app, &name).await?;
    app.keeper.ask(|reply| RunCommand::Forget { project_id: project.id, reply }).await?;
    let runs = app.records.runs_of(project.id).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.remove_project(&name).await?;
    let before = serde_json::json!({ "git_url": project.git_url, "runs": runs.len() });
    tx.note(Entry::new(Action::RemoveProject, &name).of(&name).before(before));
    tx.commit().await?;
    // What is left has no name any more: nothing that comes later can be taken for it.
    app.plans.forget(&runs);
    let logs = app.logs.clone();
    tokio::task::spawn_blocking(move || logs.remove_runs(&runs)).await.map_err(std::io::Error::other)??;
    app.mirrors.remove(&name).await?;
    let _ = std::fs::remove_file(app.known_hosts(&project));
    Ok(StatusCode::NO_CONTENT)
}

/// Say what is done with proposals from outside: each is asked about (`ask`), run (`run`), or left (`never`).
#[utoipa::path(put, operation_id = "set_outside", path = "/api/v1/projects/{name}/outside", params(("name" = String, Path)), request_body = SetOutside, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_outside(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<SetOutside>,
) -> Result<StatusCode, ApiError> {
    if !matches!(ask.outside.as_str(), "ask" | "run" | "never") {
        return Err(ApiError::field("/outside", "proposals from outside are asked about (`ask`), run (`run`), or left (`never`)"));
    }
    let project = find(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_outside(&project.name, &ask.outside).await?;
    tx.note(Entry::new(Action::SetProject, "outside").of(&project.name).before(&project.outside).after(&ask.outside));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Say how often a project's repository is looked at: pushes that no hook tells of are found by that.
#[utoipa::path(put, operation_id = "set_poll", path = "/api/v1/projects/{name}/poll", params(("name" = String, Path)), request_body = SetPoll, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_poll(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<SetPoll>,
) -> Result<StatusCode, ApiError> {
    if ask.poll_ms.is_some_and(|ms| ms != 0 && !(1_000..=86_400_000).contains(&ms)) {
        return Err(ApiError::field("/poll_ms", "a repository is looked at every second at most and once a day at least, or never: 0"));
    }
    let project = find(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_poll(project.id, ask.poll_ms).await?;
    tx.note(Entry::new(Action::SetProject, "poll").of(&project.name).after(ask.poll_ms));
    tx.commit().await?;
    app.polls.hurry(project.id);
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Badge {
    /// Of one pipeline; of all together when absent.
    pipeline: Option<String>,
    /// The main branch when absent.
    branch: Option<String>,
}

/// The address of a project's badge, and what shows it in a README. Where the project is not public, the address carries a
/// key that opens badges and nothing else.
#[utoipa::path(get, operation_id = "show_badge", path = "/api/v1/projects/{name}/badge", params(("name" = String, Path), Badge), responses((status = 200, body = BadgeView), (status = 404, body = Problem)))]
pub(crate) async fn badge(State(app): State<App>, Path(name): Path<String>, Query(of): Query<Badge>) -> Result<Json<BadgeView>, ApiError> {
    let project = find(&app, &name).await?;
    let key = (project.seen != Seen::Public).then(|| project.badge_key.clone());
    let mut address = url::Url::parse(&app.public_url).map_err(|_| ApiError::field("/", "the service's own address is none"))?;
    address.set_path(&format!("/badge/{}.svg", project.name));
    for (name, value) in [("pipeline", &of.pipeline), ("branch", &of.branch), ("key", &key)] {
        if let Some(value) = value {
            address.query_pairs_mut().append_pair(name, value);
        }
    }
    let (address, link) = (address.to_string(), format!("{}/projects/{}", app.public_url, project.name));
    Ok(Json(BadgeView {
        markdown: format!("[![{name}]({address})]({link})"),
        restructured_text: format!(".. image:: {address}\n   :target: {link}\n   :alt: {name}"),
        asciidoc: format!("image:{address}[{name},link={link}]"),
        html: format!("<a href=\"{link}\"><img src=\"{}\" alt=\"{name}\"></a>", address.replace('&', "&amp;")),
        address,
        link,
    }))
}

/// Say who sees a project: all who are signed in (`all`), whom it was granted (`granted`), or everybody (`public`).
#[utoipa::path(put, operation_id = "set_seen", path = "/api/v1/projects/{name}/seen", params(("name" = String, Path)), request_body = SetSeen, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_seen(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<SetSeen>,
) -> Result<StatusCode, ApiError> {
    let project = find(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_seen(project.id, ask.seen).await?;
    tx.note(Entry::new(Action::SetSeen, "seen").of(&project.name).before(project.seen).after(ask.seen));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
