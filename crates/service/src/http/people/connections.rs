//! Connections of a project: users and passwords for registries and similar. A password goes in and never comes out here.

use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::seal::sealed_as_connection;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_store::{ConnectionRow, Entry};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::secret::ConnectionView;
use ordotaxis_wire::secret::NewConnection;

/// A project's connections by name.
#[utoipa::path(get, operation_id = "list_connections", path = "/api/v1/projects/{project}/connections", params(("project" = String, Path)), responses((status = 200, body = Vec<ConnectionView>), (status = 404, body = Problem)))]
pub(crate) async fn list(State(app): State<App>, Path(project): Path<String>) -> Result<Json<Vec<ConnectionView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let view = |row: ConnectionRow| ConnectionView {
        name: row.name,
        user: row.user,
        address: row.address,
        set_by: row.set_by,
        set_at: moment(row.set_at),
        reach: super::secrets::told(row.reach),
    };
    Ok(Json(app.records.connections(project.id).await?.into_iter().map(view).collect()))
}

/// Set a connection; jobs that name it get the new password from now on.
#[utoipa::path(put, operation_id = "set_connection", path = "/api/v1/projects/{project}/connections/{name}", params(("project" = String, Path), ("name" = String, Path)), request_body = NewConnection, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Body(ask): Body<NewConnection>,
) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    if name.is_empty() || name.len() > 128 || !name.chars().all(plain) {
        return Err(ApiError::field("/name", "a connection's name is letters, digits, `-`, `_` and `.`, at most 128"));
    }
    if ask.password.is_empty() || ask.password.len() > 64 * 1024 || ask.user.contains(':') {
        return Err(ApiError::field("/password", "a password is 1 to 65536 bytes, and a user's name holds no colon"));
    }
    if let Some(address) = &ask.address {
        unfit_address(address)?;
    }
    let sealed = app.seal.seal(project.id, &sealed_as_connection(&name), &ask.password);
    let sealed = sealed.ok_or_else(|| ApiError::field("/password", "the password could not be sealed"))?;
    let reach = super::secrets::reach(ask.reach.clone())?;
    let row =
        ConnectionRow { name, user: ask.user, address: ask.address, sealed, set_by: caller.name().to_owned(), set_at: clock::now(), reach };
    let mut tx = app.records.tx(&caller.actor, row.set_at).await?;
    tx.set_connection(project.id, &row).await?;
    let after = serde_json::json!({ "user": row.user, "address": row.address, "reach": ask.reach });
    tx.note(Entry::new(Action::SetConnection, &row.name).of(&project.name).after(after));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// An address is shown and goes into logs: it holds no password.
fn unfit_address(address: &str) -> Result<(), ApiError> {
    let wrong = |detail: &str| Err(ApiError::field("/address", detail.to_owned()));
    match reqwest::Url::parse(address) {
        _ if address.len() > 2048 => wrong("an address is at most 2048 bytes"),
        Err(error) => wrong(&format!("that is no address: {error}")),
        Ok(url) if url.password().is_some() || !url.username().is_empty() => {
            wrong("an address holds no user and no password: they are given apart")
        }
        Ok(_) => Ok(()),
    }
}

/// Remove a connection.
#[utoipa::path(delete, operation_id = "remove_connection", path = "/api/v1/projects/{project}/connections/{name}", params(("project" = String, Path), ("name" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    let known = projects::find(&app, &project).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.remove_connection(known.id, &name).await? {
        return Err(ApiError::not_found("connection", format!("{project} has no connection {name}")));
    }
    tx.note(Entry::new(Action::RemoveConnection, &name).of(&known.name));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
