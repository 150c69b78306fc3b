//! Artifacts: what a run's jobs have given.

use super::auth::Person;
use super::error::ApiError;
use super::views::{find_run, plan_of};
use crate::app::App;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::IntoResponse;
use ordotaxis_store::StoredArtifact;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::view::ArtifactView;
use tokio_util::io::ReaderStream;

async fn of_run(app: &App, project: &str, number: i64) -> Result<Vec<(ArtifactView, StoredArtifact)>, ApiError> {
    let run = find_run(app, project, number).await?;
    let Some(plan) = plan_of(app, run.id).await? else { return Ok(Vec::new()) };
    let rows = app.records.artifacts(run.id).await?;
    let view = |row: StoredArtifact| {
        let job = plan.jobs.get(usize::try_from(row.job).ok()?)?;
        let view = ArtifactView {
            url: format!("/api/v1/runs/{project}/{number}/artifacts/{}/{}", job.id, row.name),
            job: job.id.clone(),
            name: row.name.clone(),
            digest: row.digest.clone(),
            bytes: row.bytes.unsigned_abs(),
            files: row.files.unsigned_abs(),
        };
        Some((view, row))
    };
    Ok(rows.into_iter().filter_map(view).collect())
}

/// What a run's jobs have given so far.
#[utoipa::path(get, operation_id = "list_artifacts", path = "/api/v1/runs/{project}/{number}/artifacts", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = Vec<ArtifactView>), (status = 404, body = Problem)))]
pub(super) async fn list(
    State(app): State<App>,
    _: Person,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<Vec<ArtifactView>>, ApiError> {
    Ok(Json(of_run(&app, &project, number).await?.into_iter().map(|(view, _)| view).collect()))
}

/// One artifact, as a tar archive compressed with zstd.
#[utoipa::path(get, operation_id = "fetch_artifact", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path)), responses((status = 200, description = "the archive", content_type = "application/zstd"), (status = 404, body = Problem)))]
pub(super) async fn fetch(
    State(app): State<App>,
    _: Person,
    Path((project, number, job, name)): Path<(String, i64, String, String)>,
) -> Result<impl IntoResponse, ApiError> {
    let all = of_run(&app, &project, number).await?;
    let Some((_, row)) = all.iter().find(|(view, _)| view.job.as_str() == job && view.name == name) else {
        let known: Vec<String> = all.iter().map(|(view, _)| format!("{}/{}", view.job, view.name)).collect();
        let known = if known.is_empty() { "none".into() } else { known.join(", ") };
        return Err(ApiError::not_found("artifact", format!("{project}/{number} has no artifact {job}/{name}; it has: {known}")));
    };
    let file = tokio::fs::File::open(app.blobs.path(&row.digest)?).await?;
    let headers = [
        (header::CONTENT_TYPE, "application/zstd".to_owned()),
        (header::CONTENT_LENGTH, row.bytes.to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{project}-{number}-{job}-{name}.tar.zst\"")),
        (header::ETAG, format!("\"{}\"", row.digest)),
    ];
    Ok((headers, Body::from_stream(ReaderStream::new(file))))
}
