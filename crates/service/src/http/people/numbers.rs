//! Numbers of runs over time, and what analyses found in one run.

use super::projects;
use super::views::find_run;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::report::Level;
use ordotaxis_store::FindingRow;
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::results::{FindingView, NumberView, SeriesView};
use serde::Deserialize;
use std::collections::BTreeMap;
use utoipa::IntoParams;

/// How many runs a series of numbers covers.
const RUNS: i64 = 200;

/// What analyses found in a run, new findings first.
#[utoipa::path(get, operation_id = "run_findings", path = "/api/v1/runs/{project}/{number}/findings", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = Vec<FindingView>), (status = 404, body = Problem)))]
pub(crate) async fn run_findings(
    State(app): State<App>,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<Vec<FindingView>>, ApiError> {
    let run = find_run(&app, &project, number).await?;
    let Some(plan) = app.plan_of(run.id).await? else { return Ok(Json(Vec::new())) };
    let view = |row: FindingRow| FindingView {
        job: usize::try_from(row.job).ok().and_then(|job| plan.jobs.get(job)).map(|job| job.id.to_string()).unwrap_or_default(),
        rule: row.rule,
        level: match row.level.as_str() {
            "error" => Level::Error,
            "note" => Level::Note,
            _ => Level::Warning,
        },
        message: row.message,
        file: row.file,
        line: row.line,
        new: !row.known,
    };
    Ok(Json(app.records.findings(run.id).await?.into_iter().map(view).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Of {
    /// `main` when absent.
    pipeline: Option<String>,
}

/// What the numbers of a pipeline's runs were over time.
#[utoipa::path(get, operation_id = "numbers", path = "/api/v1/projects/{project}/numbers", params(("project" = String, Path), Of), responses((status = 200, body = Vec<SeriesView>), (status = 404, body = Problem)))]
pub(crate) async fn numbers(
    State(app): State<App>,
    Path(name): Path<String>,
    Query(of): Query<Of>,
) -> Result<Json<Vec<SeriesView>>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let mut series: BTreeMap<String, Vec<NumberView>> = BTreeMap::new();
    for row in app.records.numbers(project.id, of.pipeline.as_deref().unwrap_or("main"), RUNS).await? {
        series.entry(row.name).or_default().push(NumberView {
            run: format!("{name}/{}", row.run_number),
            value: row.value,
            branch: row.branch,
            commit: row.commit_id,
            at: moment(row.created_at),
        });
    }
    Ok(Json(series.into_iter().map(|(name, points)| SeriesView { name, points }).collect()))
}
