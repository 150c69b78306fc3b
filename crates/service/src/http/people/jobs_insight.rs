//! What the history of jobs comes to: of one project, of all, and as a table.

use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use crate::insight::{self, Days};
use axum::Json;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderName, header};
use ordotaxis_core::access::{Action, Object, allowed};
use ordotaxis_wire::insight::{ProjectInsight, ServiceInsight};
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use std::collections::HashSet;

/// Over which time.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Asked {
    /// 1 to 730; 30 when absent.
    days: Option<i64>,
}

impl Asked {
    fn days(&self) -> Result<Days, ApiError> {
        Days::until(clock::now(), self.days).ok_or_else(|| ApiError::field("/days", "1 to 730 days"))
    }
}

/// How long jobs and steps take and wait, what got slower since when, how branches do, what trying again costs, what was saved.
#[utoipa::path(get, operation_id = "project_insight", path = "/api/v1/projects/{project}/insight/jobs", params(("project" = String, Path), Asked), responses((status = 200, body = ProjectInsight), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn of_project(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(asked): Query<Asked>,
) -> Result<Json<ProjectInsight>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(insight::project(&app, &project, asked.days()?).await?))
}

/// Every attempt that has ended, as a table: a line each.
#[utoipa::path(get, operation_id = "export_attempts", path = "/api/v1/projects/{project}/insight/attempts.csv", params(("project" = String, Path), Asked), responses((status = 200, description = "a line an attempt, the oldest first", content_type = "text/csv"), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn export(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(asked): Query<Asked>,
) -> Result<([(HeaderName, String); 2], Body), ApiError> {
    let project = projects::find(&app, &project).await?;
    let since = asked.days()?.since;
    let name = format!("attachment; filename=\"{}-attempts.csv\"", project.name);
    let headers = [(header::CONTENT_TYPE, "text/csv; charset=utf-8; header=present".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, Body::from_stream(insight::sheet(app, project.id, since))))
}

/// What each project takes of runners, how long its jobs queue, and what that costs.
#[utoipa::path(get, operation_id = "service_insight", path = "/api/v1/insight", params(Asked), responses((status = 200, body = ServiceInsight), (status = 422, body = Problem)))]
pub(crate) async fn of_service(
    State(app): State<App>,
    caller: Caller,
    Query(asked): Query<Asked>,
) -> Result<Json<ServiceInsight>, ApiError> {
    let days = asked.days()?;
    let seen = app.records.projects().await?.into_iter().filter(|project| caller.sees(project));
    let seen: HashSet<String> = seen.map(|project| project.name).collect();
    // What nobody used is about pools, which are the owners'.
    let whole = allowed(&caller.rights, Action::SetPool, Object::Service).is_ok();
    Ok(Json(insight::service(&app, days, |project| seen.contains(project), whole).await?))
}
