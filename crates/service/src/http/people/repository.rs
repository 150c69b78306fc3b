//! What a project's repository is read with: users and passwords by HTTP, a key by SSH; and which branch is its main one.
//! A password or private key goes in and never comes out here.

use super::logins::{is_branch, login};
use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::seal::{GitKey, GitLogin, Outward};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use base64::Engine;
use ordotaxis_core::access::Action;
use ordotaxis_git::Key;
use ordotaxis_store::{Entry, Project};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::project::{HostView, LoginView, NewLogin, RepositoryView, SetMainBranch};
use serde::Deserialize;
use sha2::{Digest, Sha256};

/// The most servers that a project has passwords for.
const LOGINS: usize = 16;

/// A project's repository, and what it is read with.
#[utoipa::path(get, operation_id = "show_repository", path = "/api/v1/projects/{project}/repository", params(("project" = String, Path)), responses((status = 200, body = RepositoryView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path(project): Path<String>) -> Result<Json<RepositoryView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(view(&app, &project)))
}

fn view(app: &App, project: &Project) -> RepositoryView {
    let outward = app.outward(project);
    let login = |login: GitLogin| LoginView { origin: login.origin, user: login.user };
    let known = std::fs::read_to_string(app.known_hosts(project)).unwrap_or_default();
    RepositoryView {
        address: project.git_url.clone(),
        main_branch: project.main_branch.clone(),
        main_follows: project.main_follows,
        logins: outward.logins.into_iter().map(login).collect(),
        key: outward.key.map(|key| key.public),
        hosts: known.lines().filter_map(host).collect(),
    }
}

/// `HOST KIND KEY`, as ssh keeps it; the fingerprint is that of the key's bytes (RFC 4253, as ssh shows it).
pub(super) fn host(line: &str) -> Option<HostView> {
    let mut words = line.split_ascii_whitespace();
    let (host, kind, key) = (words.next()?, words.next()?, words.next()?);
    let bytes = base64::engine::general_purpose::STANDARD.decode(key).ok()?;
    let digest = base64::engine::general_purpose::STANDARD_NO_PAD.encode(Sha256::digest(&bytes));
    Some(HostView { host: host.to_owned(), kind: kind.to_owned(), fingerprint: format!("SHA256:{digest}") })
}

/// Changes what a project is read with, sealed, and notes it.
async fn change(
    app: &App,
    caller: &Caller,
    project: &Project,
    after: serde_json::Value,
    change: impl FnOnce(&mut Outward),
) -> Result<(), ApiError> {
    let mut outward = app.outward(project);
    change(&mut outward);
    let sealed = app.seal.seal_outward(project.id, &outward).ok_or_else(|| ApiError::field("/password", "it could not be sealed"))?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.seal_project(project.id, &sealed).await?;
    tx.note(Entry::new(Action::SetRepository, &project.name).of(&project.name).after(after));
    Ok(tx.commit().await?)
}

/// Set the user and password for the repository's server, or for another that its submodules are on.
#[utoipa::path(put, operation_id = "set_repository_login", path = "/api/v1/projects/{project}/repository/login", params(("project" = String, Path)), request_body = NewLogin, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_login(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<NewLogin>,
) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    let login = login(&project.git_url, ask)?;
    if app.outward(&project).logins.iter().filter(|known| known.origin != login.origin).count() >= LOGINS {
        return Err(ApiError::field("/origin", format!("a project has passwords for {LOGINS} servers at most")));
    }
    let after = serde_json::json!({ "login": { "origin": login.origin, "user": login.user } });
    change(&app, &caller, &project, after, |outward| {
        outward.git_password = None;
        outward.logins.retain(|known| known.origin != login.origin);
        outward.logins.push(login);
    })
    .await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
pub(crate) struct Of {
    origin: String,
}

/// Remove the user and password for a server.
#[utoipa::path(delete, operation_id = "remove_repository_login", path = "/api/v1/projects/{project}/repository/login", params(("project" = String, Path), ("origin" = String, Query, description = "`https://HOST`")), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_login(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Query(of): Query<Of>,
) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    if !app.outward(&project).logins.iter().any(|known| known.origin == of.origin) {
        return Err(ApiError::not_found("login", format!("{} has no password for {}", project.name, of.origin)));
    }
    let after = serde_json::json!({ "removed": of.origin });
    change(&app, &caller, &project, after, |outward| outward.logins.retain(|known| known.origin != of.origin)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make the key that the repository is read with by SSH, unless there is one. Its public half is in the answer.
#[utoipa::path(post, operation_id = "make_repository_key", path = "/api/v1/projects/{project}/repository/key", params(("project" = String, Path)), responses((status = 200, body = RepositoryView), (status = 404, body = Problem)))]
pub(crate) async fn make_key(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
) -> Result<Json<RepositoryView>, ApiError> {
    let mut project = projects::find(&app, &project).await?;
    if app.outward(&project).key.is_none() {
        let made = Key::make(&format!("ordotaxis-{}", project.name)).await;
        let (private, public) =
            made.map_err(|error| ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "no-key", format!("no key could be made: {error}")))?;
        let after = serde_json::json!({ "key": public });
        change(&app, &caller, &project, after, |outward| outward.key = Some(GitKey { private, public })).await?;
        project = projects::find(&app, &project.name).await?;
    }
    Ok(Json(view(&app, &project)))
}

/// Remove the key that the repository is read with by SSH.
#[utoipa::path(delete, operation_id = "remove_repository_key", path = "/api/v1/projects/{project}/repository/key", params(("project" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_key(State(app): State<App>, caller: Caller, Path(project): Path<String>) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    if app.outward(&project).key.is_none() {
        return Err(ApiError::not_found("key", format!("{} has no key", project.name)));
    }
    change(&app, &caller, &project, serde_json::json!({ "key": null }), |outward| outward.key = None).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Forget the keys of servers that were pinned: the next one that is met is pinned anew.
#[utoipa::path(delete, operation_id = "forget_repository_hosts", path = "/api/v1/projects/{project}/repository/hosts", params(("project" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn forget_hosts(State(app): State<App>, caller: Caller, Path(project): Path<String>) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    let before: Vec<HostView> = view(&app, &project).hosts;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.note(Entry::new(Action::SetRepository, &project.name).of(&project.name).before(before).after("hosts forgotten"));
    tx.commit().await?;
    match std::fs::remove_file(app.known_hosts(&project)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
        _ => Ok(StatusCode::NO_CONTENT),
    }
}

/// Say which branch is the main one: by name, or the one that the repository itself names.
#[utoipa::path(put, operation_id = "set_main_branch", path = "/api/v1/projects/{project}/repository/main-branch", params(("project" = String, Path)), request_body = SetMainBranch, responses((status = 200, body = RepositoryView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_main_branch(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<SetMainBranch>,
) -> Result<Json<RepositoryView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let branch = match &ask.branch {
        Some(branch) => branch.clone(),
        None => app.head_branch(&project).await.map_err(|why| ApiError::field("/branch", why))?,
    };
    if !is_branch(&branch) {
        return Err(ApiError::field("/branch", format!("`{branch}` cannot be the name of a branch")));
    }
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_main_branch(project.id, &branch, ask.branch.is_none()).await?;
    tx.note(Entry::new(Action::SetRepository, &project.name).of(&project.name).before(&project.main_branch).after(&branch));
    tx.commit().await?;
    let project = projects::find(&app, &project.name).await?;
    Ok(Json(view(&app, &project)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pinned_key_is_shown_as_ssh_shows_it() {
        let key = "AAAAC3NzaC1lZDI1NTE5AAAAIMVYdvXpwmzOVBnQZrHkRqKyJEw0DVkQWpMWBhNgsCnB";
        let shown = host(&format!("[127.0.0.1]:2222 ssh-ed25519 {key}")).unwrap();
        assert_eq!((shown.host.as_str(), shown.kind.as_str()), ("[127.0.0.1]:2222", "ssh-ed25519"));
        assert!(shown.fingerprint.starts_with("SHA256:") && shown.fingerprint.len() == 50, "{shown:?}");
        assert!(host("half line").is_none() && host("a b !").is_none());
    }
}
