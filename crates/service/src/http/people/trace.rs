//! Where things come from and where they went: chains, signed statements, components.

use super::artifacts::{Named, row_of};
use super::views::find_run;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use crate::trace::{NotFound, envelope, find};
use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use ordotaxis_core::provenance::Envelope;
use ordotaxis_core::release::compare;
use ordotaxis_store::{ComponentRow, StoreError};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::trace::{BillView, ComponentView, TraceView};
use serde::Deserialize;
use std::cmp::Ordering;

/// So many rows of components are looked at.
const ROWS: i64 = 2_000;
/// Names that are near what was asked for.
const NEAR: i64 = 5;

/// What is asked for.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Thing {
    /// A commit or its beginning, a digest, or `PROJECT/` and a run's number, an environment or a version.
    thing: String,
}

/// Where a thing comes from and where it went.
#[utoipa::path(get, operation_id = "trace", path = "/api/v1/trace", params(Thing), responses((status = 200, body = TraceView), (status = 404, body = Problem)))]
pub(crate) async fn trace(State(app): State<App>, caller: Caller, Query(ask): Query<Thing>) -> Result<Json<TraceView>, ApiError> {
    match find(&app, ask.thing.trim(), |project| caller.sees(project)).await {
        Ok(view) => Ok(Json(view)),
        Err(NotFound::Store(error)) => Err(error.into()),
        Err(NotFound::No(why)) => Err(ApiError::not_found("thing", why)),
    }
}

/// What the service says of an artifact, signed: an in-toto statement with SLSA provenance in a DSSE envelope.
#[utoipa::path(get, operation_id = "show_provenance", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/provenance", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path)), responses((status = 200, body = Envelope), (status = 404, body = Problem)))]
pub(crate) async fn provenance(State(app): State<App>, Path(named): Path<Named>) -> Result<Json<Envelope>, ApiError> {
    let row = row_of(&app, &named).await?;
    let none = || ApiError::not_found("statement", format!("nothing is known of how artifact {} was made", row.name));
    Ok(Json(envelope(&app, &row).await?.ok_or_else(none)?))
}

/// Which components are looked for.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Wanted {
    /// As the bill calls it.
    name: String,
    /// Only versions before this one.
    below: Option<String>,
    /// What runs made, in place of what is in environments.
    #[serde(default)]
    runs: bool,
}

/// Which environments hold a component, or which runs made something of it.
#[utoipa::path(get, operation_id = "find_components", path = "/api/v1/components", params(Wanted), responses((status = 200, body = Vec<ComponentView>), (status = 404, body = Problem)))]
pub(crate) async fn components(
    State(app): State<App>,
    caller: Caller,
    Query(ask): Query<Wanted>,
) -> Result<Json<Vec<ComponentView>>, ApiError> {
    let name = ask.name.trim();
    let mut rows = if ask.runs { app.records.components_made(name, ROWS).await? } else { app.records.components_there(name, ROWS).await? };
    let seen: Vec<String> =
        app.records.projects().await?.into_iter().filter(|project| caller.sees(project)).map(|project| project.name).collect();
    rows.retain(|row| seen.contains(&row.project));
    if rows.is_empty() && app.records.components_made(name, 1).await?.is_empty() {
        return Err(unknown(&app, name).await?);
    }
    if let Some(below) = &ask.below {
        rows.retain(|row| !row.version.is_empty() && compare(&row.version, below) == Ordering::Less);
    }
    let mut views = Vec::with_capacity(rows.len());
    for row in rows {
        views.push(view(&app, row).await?);
    }
    Ok(Json(views))
}

async fn unknown(app: &App, name: &str) -> Result<ApiError, StoreError> {
    let near = if name.is_empty() { Vec::new() } else { app.records.component_names(name, NEAR).await? };
    let hint =
        if near.is_empty() { "bills come from jobs with `reports.sbom`".to_owned() } else { format!("known are {}", near.join(", ")) };
    Ok(ApiError::not_found("component", format!("no bill of materials names `{name}`; {hint}")))
}

async fn job_of(app: &App, run: i64, job: i64) -> Result<String, StoreError> {
    let plan = app.plan_of(run).await?;
    let planned = plan.as_ref().and_then(|plan| plan.jobs.get(usize::try_from(job).ok()?));
    Ok(planned.map(|job| job.id.to_string()).unwrap_or_default())
}

async fn view(app: &App, row: ComponentRow) -> Result<ComponentView, StoreError> {
    Ok(ComponentView {
        job: job_of(app, row.run_id, row.job).await?,
        name: row.name,
        version: row.version,
        purl: row.purl,
        run: format!("{}/{}", row.project, row.run),
        file: row.file,
        form: row.form,
        environment: row.environment,
    })
}

/// A run's bills of materials.
#[utoipa::path(get, operation_id = "list_bills", path = "/api/v1/runs/{project}/{number}/bills", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = Vec<BillView>), (status = 404, body = Problem)))]
pub(crate) async fn bills(State(app): State<App>, Path((project, number)): Path<(String, i64)>) -> Result<Json<Vec<BillView>>, ApiError> {
    let run = find_run(&app, &project, number).await?;
    let mut views = Vec::new();
    for (job, file, form, components, kept) in app.records.bills(run.id).await? {
        views.push(BillView { job: job_of(&app, run.id, job).await?, file, form, components, kept });
    }
    Ok(Json(views))
}

/// Which of a run's bills.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct OneBill {
    job: String,
    file: String,
}

/// A bill of materials as its job wrote it.
#[utoipa::path(get, operation_id = "fetch_bill", path = "/api/v1/runs/{project}/{number}/bill", params(("project" = String, Path), ("number" = i64, Path), OneBill), responses((status = 200, body = String, content_type = "application/json"), (status = 404, body = Problem)))]
pub(crate) async fn bill(
    State(app): State<App>,
    Path((project, number)): Path<(String, i64)>,
    Query(ask): Query<OneBill>,
) -> Result<impl IntoResponse, ApiError> {
    let run = find_run(&app, &project, number).await?;
    let plan = app.plan_of(run.id).await?;
    let job = plan.as_ref().and_then(|plan| plan.jobs.iter().position(|job| job.id.as_str() == ask.job));
    let job = job.and_then(|job| i64::try_from(job).ok()).unwrap_or(-1);
    let none =
        || ApiError::not_found("bill", format!("{project}/{number} has no bill {} of {}, or it is not kept any more", ask.file, ask.job));
    let document = app.records.bill(run.id, job, &ask.file).await?.ok_or_else(none)?;
    Ok(([(header::CONTENT_TYPE, "application/json"), (header::X_CONTENT_TYPE_OPTIONS, "nosniff")], document))
}
