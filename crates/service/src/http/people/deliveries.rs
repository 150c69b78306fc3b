//! What a project's forge sent: seen with how it was read and what came of it, and read once more. And the profiles.

use super::hook::{hook_url, new_secret};
use super::projects;
use crate::app::App;
use crate::clock;
use crate::forge::again as take_again;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, header};
use ordotaxis_core::access::Action;
use ordotaxis_store::{DeliveryRow, Entry, StoreError};
use ordotaxis_wire::delivery::{DeliveryView, OutcomeView, ProfileView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::project::HookSecretView;
use serde::Deserialize;
use std::collections::{BTreeMap, HashMap};
use utoipa::IntoParams;

/// How many deliveries a page holds.
const PAGE: i64 = 50;
const STATES: [&str; 4] = ["taken", "nothing", "unread", "refused"];

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Page {
    /// Only those of this state: `taken`, `nothing`, `unread` or `refused`.
    state: Option<String>,
    /// Where the page begins, as the `Link` header of the last one said.
    cursor: Option<i64>,
}

fn work_of(row: &DeliveryRow) -> Vec<i64> {
    serde_json::from_str(&row.work).unwrap_or_default()
}

fn view(row: DeliveryRow, said: &HashMap<i64, (String, Option<String>)>) -> DeliveryView {
    let outcome = |work: i64| {
        let (state, said) = said.get(&work).cloned().unwrap_or_else(|| ("done".into(), None));
        OutcomeView { work, state, said }
    };
    DeliveryView {
        outcomes: work_of(&row).into_iter().map(outcome).collect(),
        id: row.id,
        at: moment(row.at),
        given: row.given,
        state: row.state,
        why: row.said,
        events: serde_json::from_str(&row.events).unwrap_or_default(),
        times: row.times,
        size: row.size,
        address: row.address.filter(|address| !address.is_empty()),
        headers: BTreeMap::new(),
        body: None,
    }
}

async fn views(app: &App, rows: Vec<DeliveryRow>) -> Result<Vec<DeliveryView>, StoreError> {
    let ids: Vec<i64> = rows.iter().flat_map(work_of).collect();
    let said = app.records.work_said(&ids).await?.into_iter().map(|(id, state, said)| (id, (state, said))).collect();
    Ok(rows.into_iter().map(|row| view(row, &said)).collect())
}

/// What a project's forge sent, newest first; kept for a week.
#[utoipa::path(get, operation_id = "list_deliveries", path = "/api/v1/projects/{project}/deliveries", params(("project" = String, Path), Page), responses((status = 200, body = Vec<DeliveryView>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(page): Query<Page>,
) -> Result<(HeaderMap, Json<Vec<DeliveryView>>), ApiError> {
    let project = projects::find(&app, &project).await?;
    if let Some(state) = page.state.as_ref().filter(|state| !STATES.contains(&state.as_str())) {
        return Err(ApiError::field("/state", format!("there is no state {state}; there are {}", STATES.join(", "))));
    }
    let rows = app.records.deliveries(project.id, page.state.as_deref(), page.cursor.unwrap_or(i64::MAX), PAGE).await?;
    let mut headers = HeaderMap::new();
    if let Some(last) = rows.last().filter(|_| i64::try_from(rows.len()) == Ok(PAGE)) {
        let state = page.state.map(|state| format!("state={state}&")).unwrap_or_default();
        let next = format!("</api/v1/projects/{}/deliveries?{state}cursor={}>; rel=\"next\"", project.name, last.id);
        headers.extend(HeaderValue::from_str(&next).ok().map(|value| (header::LINK, value)));
    }
    Ok((headers, Json(views(&app, rows).await?)))
}

async fn find(app: &App, project_id: i64, id: i64) -> Result<DeliveryRow, ApiError> {
    let none = || ApiError::not_found("delivery", format!("there is no delivery {id}; they are kept for a week"));
    app.records.delivery(project_id, id).await?.ok_or_else(none)
}

async fn whole(app: &App, row: DeliveryRow) -> Result<DeliveryView, ApiError> {
    let headers = serde_json::from_str(&row.headers).unwrap_or_default();
    let body = String::from_utf8_lossy(&app.records.delivery_body(row.id).await?).into_owned();
    let view = views(app, vec![row]).await?.remove(0);
    Ok(DeliveryView { headers, body: Some(body), ..view })
}

/// One delivery, with its headers and body.
#[utoipa::path(get, operation_id = "show_delivery", path = "/api/v1/projects/{project}/deliveries/{id}", params(("project" = String, Path), ("id" = i64, Path)), responses((status = 200, body = DeliveryView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path((project, id)): Path<(String, i64)>) -> Result<Json<DeliveryView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let row = find(&app, project.id, id).await?;
    Ok(Json(whole(&app, row).await?))
}

/// Read a delivery once more, as the profile is now, and do what it says. One that was refused stays refused: nobody can
/// say that it is the forge's.
#[utoipa::path(post, operation_id = "delivery_again", path = "/api/v1/projects/{project}/deliveries/{id}/again", params(("project" = String, Path), ("id" = i64, Path)), responses((status = 200, body = DeliveryView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn again(
    State(app): State<App>,
    caller: Caller,
    Path((project, id)): Path<(String, i64)>,
) -> Result<Json<DeliveryView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let row = find(&app, project.id, id).await?;
    if row.state == "refused" {
        let detail = format!("delivery {id} was refused: {}; let the forge send it once more", row.said.unwrap_or_default());
        return Err(ApiError::new(axum::http::StatusCode::CONFLICT, "not-signed", detail));
    }
    take_again(&app, &caller.actor, &project, &row).await?;
    let row = find(&app, project.id, id).await?;
    Ok(Json(whole(&app, row).await?))
}

/// Make a new secret for the project's forge to sign with. The one before is of no use any more.
#[utoipa::path(post, operation_id = "make_hook_secret", path = "/api/v1/projects/{project}/hook-secret", params(("project" = String, Path)), responses((status = 200, body = HookSecretView), (status = 404, body = Problem)))]
pub(crate) async fn secret(State(app): State<App>, caller: Caller, Path(project): Path<String>) -> Result<Json<HookSecretView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let hook_secret = new_secret();
    let outward = crate::seal::Outward { hook_secret: hook_secret.clone(), ..app.outward(&project) };
    let sealed = app.seal.seal_outward(project.id, &outward).ok_or_else(|| ApiError::field("/", "the secret could not be sealed"))?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.seal_project(project.id, &sealed).await?;
    tx.note(Entry::new(Action::SetHookSecret, &project.name).of(&project.name));
    tx.commit().await?;
    Ok(Json(HookSecretView { hook_url: hook_url(&app, &project.name), hook_secret }))
}

/// The forge profiles that the service knows, with what each can do.
#[utoipa::path(get, operation_id = "list_profiles", path = "/api/v1/profiles", responses((status = 200, body = Vec<ProfileView>)))]
pub(crate) async fn profiles(State(app): State<App>) -> Json<Vec<ProfileView>> {
    let view = |name: &str| {
        let profile = app.profiles.get(name)?;
        let mut events: Vec<String> = profile.events.iter().map(|pattern| pattern.table.trim_start_matches("hook.").to_owned()).collect();
        events.dedup();
        Some(ProfileView { name: name.to_owned(), events, requests: profile.requests.keys().map(|kind| kind.word().to_owned()).collect() })
    };
    Json(app.profiles.names().filter_map(view).collect())
}
