//! Who holds which role on what.

use super::persons::{find, keeps_an_owner};
use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Query};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Role};
use ordotaxis_store::{Entry, GrantRow, Holder, StoreError};
use ordotaxis_wire::moment;
use ordotaxis_wire::person::{GrantView, SetGrant};
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use utoipa::IntoParams;

/// Every role that was given, on the service and on projects that the caller sees.
#[utoipa::path(get, operation_id = "list_grants", path = "/api/v1/grants", responses((status = 200, body = Vec<GrantView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<GrantView>>, ApiError> {
    let seen: Vec<String> =
        app.records.projects().await?.into_iter().filter(|project| caller.sees(project)).map(|project| project.name).collect();
    let rows = app.records.grants().await?.into_iter();
    let rows = rows.filter(|row| row.project.as_ref().is_none_or(|project| seen.contains(project)));
    Ok(Json(rows.map(view).collect::<Result<_, _>>()?))
}

fn view(row: GrantRow) -> Result<GrantView, StoreError> {
    let role = row.role.parse().map_err(|_| StoreError::Value("grants.role"))?;
    Ok(GrantView { who: row.holder, project: row.project, role, given_by: row.given_by, given_at: moment(row.given_at) })
}

/// The holder, if there is one of that name.
async fn holder(app: &App, who: &str) -> Result<Holder, ApiError> {
    match Holder::parse(who) {
        Holder::Person(name) => Ok(Holder::Person(find(app, &name).await.map_err(|error| error.at("/who"))?.name)),
        Holder::Group(name) if app.records.groups().await?.iter().any(|group| group.name == name) => Ok(Holder::Group(name)),
        Holder::Group(name) => {
            Err(ApiError::field("/who", format!("there is no group @{name}; `ordotaxis group set {name} PERSON…` makes it")))
        }
    }
}

/// Give a role, in place of the one held there.
#[utoipa::path(put, operation_id = "set_grant", path = "/api/v1/grants", request_body = SetGrant, responses((status = 204), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(State(app): State<App>, caller: Caller, Body(ask): Body<SetGrant>) -> Result<StatusCode, ApiError> {
    change(&app, &caller, &ask.who, ask.project.as_deref(), Some(ask.role)).await
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// A person's name, or a group's with `@` before it.
    who: String,
    /// The service when absent.
    project: Option<String>,
}

/// Take a role away.
#[utoipa::path(delete, operation_id = "remove_grant", path = "/api/v1/grants", params(Which), responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Query(which): Query<Which>) -> Result<StatusCode, ApiError> {
    change(&app, &caller, &which.who, which.project.as_deref(), None).await
}

/// Sets or takes away a role, with the journal's row.
async fn change(app: &App, caller: &Caller, who: &str, project: Option<&str>, role: Option<Role>) -> Result<StatusCode, ApiError> {
    let holder = holder(app, who).await?;
    if let Some(project) = project {
        projects::find(app, project).await.map_err(|error| error.at("/project"))?;
    }
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let before = tx.set_grant(&holder, project, role, caller.name()).await?;
    if before.is_none() && role.is_none() {
        let on = project.unwrap_or("the service");
        return Err(ApiError::not_found("grant", format!("{who} was given no role on {on}")));
    }
    keeps_an_owner(&mut tx).await?;
    let action = if role.is_some() { Action::SetGrant } else { Action::RemoveGrant };
    let mut entry = Entry::new(action, who).before(before).after(role.map(Role::word));
    if let Some(project) = project {
        entry = entry.of(project);
    }
    tx.note(entry);
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
