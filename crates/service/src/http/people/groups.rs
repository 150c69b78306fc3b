//! Groups: named lists of persons, written `@NAME`.

use super::persons::{find, is_person_name, keeps_an_owner};
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_store::{Entry, GroupRow};
use ordotaxis_wire::person::{GroupView, SetGroup};
use ordotaxis_wire::problem::Problem;

/// All groups by name.
#[utoipa::path(get, operation_id = "list_groups", path = "/api/v1/groups", responses((status = 200, body = Vec<GroupView>)))]
pub(crate) async fn list(State(app): State<App>) -> Result<Json<Vec<GroupView>>, ApiError> {
    let view = |group: GroupRow| GroupView { name: group.name, members: group.members };
    Ok(Json(app.records.groups().await?.into_iter().map(view).collect()))
}

async fn members_of(app: &App, name: &str) -> Result<Option<Vec<String>>, ApiError> {
    Ok(app.records.groups().await?.into_iter().find(|group| group.name == name).map(|group| group.members))
}

/// Make a group, or replace who is in it.
#[utoipa::path(put, operation_id = "set_group", path = "/api/v1/groups/{name}", params(("name" = String, Path)), request_body = SetGroup, responses((status = 204), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<SetGroup>,
) -> Result<StatusCode, ApiError> {
    if !is_person_name(&name) {
        return Err(ApiError::field("/name", "a group's name is lower-case letters, digits, `-`, `_` and `.`, at most 64"));
    }
    let mut members = Vec::new();
    for member in &ask.members {
        members.push(find(&app, member).await.map_err(|error| error.at("/members"))?.id);
    }
    let before = members_of(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_group(&name, &members).await?;
    keeps_an_owner(&mut tx).await?;
    tx.note(Entry::new(Action::SetGroup, format!("@{name}")).before(before).after(&ask.members));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a group, and with it its roles.
#[utoipa::path(delete, operation_id = "remove_group", path = "/api/v1/groups/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let before = members_of(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.remove_group(&name).await? {
        return Err(ApiError::not_found("group", format!("there is no group @{name}; `ordotaxis group list` shows all")));
    }
    keeps_an_owner(&mut tx).await?;
    tx.note(Entry::new(Action::RemoveGroup, format!("@{name}")).before(before));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
