//! Releases of a project: what was made known, its notes and evidence, and what people do with it.

use super::projects;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::release::{NotDone, edit, publish, withdraw};
use axum::Json;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use ordotaxis_content::digest_text;
use ordotaxis_core::language::nearest;
use ordotaxis_core::release::compare;
use ordotaxis_store::{Project, ReleaseAsset, ReleaseEdit, ReleaseRow, StoreError};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::release::{
    AssetView, EditRelease, EditView, ReleasePage, ReleaseState, ReleaseView, ReleasesView, UnmadeView, WithdrawRelease,
};
use sha2::{Digest, Sha256};

/// A project's releases, the newest version first.
#[utoipa::path(get, operation_id = "list_releases", path = "/api/v1/projects/{project}/releases", params(("project" = String, Path)), responses((status = 200, body = ReleasesView), (status = 404, body = Problem)))]
pub(crate) async fn list(State(app): State<App>, Path(project): Path<String>) -> Result<Json<ReleasesView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let mut rows = app.records.releases(project.id).await?;
    rows.sort_by(|one, other| compare(&other.version, &one.version));
    let mut releases = Vec::with_capacity(rows.len());
    for row in rows {
        releases.push(view(&app, &project, row).await?);
    }
    let mut unmade = Vec::new();
    for (run, job, why, at) in app.records.unreleased(project.id).await? {
        let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { continue };
        let plan = app.plan_of(run).await?;
        let planned = plan.as_ref().and_then(|plan| plan.jobs.get(usize::try_from(job).ok()?));
        let job = planned.map(|job| job.id.to_string()).unwrap_or_default();
        unmade.push(UnmadeView { run: format!("{}/{}", row.project, row.number), job, why, at: moment(at) });
    }
    Ok(Json(ReleasesView { releases, unmade }))
}

/// One release, with every edit and what it rests on.
#[utoipa::path(get, operation_id = "show_release", path = "/api/v1/projects/{project}/releases/{version}", params(("project" = String, Path), ("version" = String, Path)), responses((status = 200, body = ReleasePage), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path((project, version)): Path<(String, String)>) -> Result<Json<ReleasePage>, ApiError> {
    let (project, row) = find(&app, &project, &version).await?;
    page(&app, &project, row).await
}

async fn page(app: &App, project: &Project, row: ReleaseRow) -> Result<Json<ReleasePage>, ApiError> {
    let edits = app.records.release_edits(row.id).await?.into_iter().map(edited).collect();
    let evidence_digest = digest_text(&Sha256::digest(&row.evidence).into());
    let evidence = serde_json::from_str(&row.evidence).unwrap_or_default();
    let release = view(app, project, row).await?;
    Ok(Json(ReleasePage { release, edits, evidence, evidence_digest }))
}

/// What a release rests on, byte for byte as it was made.
#[utoipa::path(get, operation_id = "fetch_evidence", path = "/api/v1/projects/{project}/releases/{version}/evidence", params(("project" = String, Path), ("version" = String, Path)), responses((status = 200, body = String, content_type = "application/json"), (status = 404, body = Problem)))]
pub(crate) async fn evidence(
    State(app): State<App>,
    Path((project, version)): Path<(String, String)>,
) -> Result<impl IntoResponse, ApiError> {
    let (_, row) = find(&app, &project, &version).await?;
    Ok(([(header::CONTENT_TYPE, "application/json"), (header::X_CONTENT_TYPE_OPTIONS, "nosniff")], row.evidence))
}

/// Change a release's title or notes; what they were is kept.
#[utoipa::path(put, operation_id = "edit_release", path = "/api/v1/projects/{project}/releases/{version}", params(("project" = String, Path), ("version" = String, Path)), request_body = EditRelease, responses((status = 200, body = ReleasePage), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change(
    State(app): State<App>,
    caller: Caller,
    Path((project, version)): Path<(String, String)>,
    Body(ask): Body<EditRelease>,
) -> Result<Json<ReleasePage>, ApiError> {
    let (project, row) = find(&app, &project, &version).await?;
    edit(&app, &caller.actor, &project, &row, ask).await.map_err(not_done)?;
    again(&app, &project, &row).await
}

/// Publish a draft, or what was withdrawn.
#[utoipa::path(post, operation_id = "publish_release", path = "/api/v1/projects/{project}/releases/{version}/publish", params(("project" = String, Path), ("version" = String, Path)), responses((status = 200, body = ReleasePage), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn make_known(
    State(app): State<App>,
    caller: Caller,
    Path((project, version)): Path<(String, String)>,
) -> Result<Json<ReleasePage>, ApiError> {
    let (project, row) = find(&app, &project, &version).await?;
    publish(&app, &caller.actor, &project, &row).await.map_err(not_done)?;
    again(&app, &project, &row).await
}

/// Say that nobody should use a release any more.
#[utoipa::path(post, operation_id = "withdraw_release", path = "/api/v1/projects/{project}/releases/{version}/withdraw", params(("project" = String, Path), ("version" = String, Path)), request_body = WithdrawRelease, responses((status = 200, body = ReleasePage), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn take_back(
    State(app): State<App>,
    caller: Caller,
    Path((project, version)): Path<(String, String)>,
    Body(ask): Body<WithdrawRelease>,
) -> Result<Json<ReleasePage>, ApiError> {
    let (project, row) = find(&app, &project, &version).await?;
    withdraw(&app, &caller.actor, &project, &row, &ask.reason).await.map_err(not_done)?;
    again(&app, &project, &row).await
}

async fn again(app: &App, project: &Project, row: &ReleaseRow) -> Result<Json<ReleasePage>, ApiError> {
    let (_, row) = find(app, &project.name, &row.version).await?;
    page(app, project, row).await
}

fn not_done(error: NotDone) -> ApiError {
    match error {
        NotDone::Store(error) => error.into(),
        NotDone::No(why) => ApiError::new(StatusCode::CONFLICT, "not-changed", why),
        NotDone::Field(field, why) => ApiError::field(field, why),
    }
}

async fn find(app: &App, project: &str, version: &str) -> Result<(Project, ReleaseRow), ApiError> {
    let project = projects::find(app, project).await?;
    if let Some(row) = app.records.release(project.id, version).await? {
        return Ok((project, row));
    }
    let known: Vec<String> = app.records.releases(project.id).await?.into_iter().map(|row| row.version).collect();
    let hint = match nearest(version, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None if known.is_empty() => "a job with `releases` makes one when it has passed".to_owned(),
        None => format!("there are {}", known.iter().take(10).cloned().collect::<Vec<_>>().join(", ")),
    };
    Err(ApiError::not_found("release", format!("{} has no release {version}; {hint}", project.name)))
}

async fn view(app: &App, project: &Project, row: ReleaseRow) -> Result<ReleaseView, StoreError> {
    let assets = app.records.release_assets(row.id).await?;
    let digests: Vec<String> = assets.iter().map(|asset| asset.digest.clone()).collect();
    let stays = app.records.stays_of(&digests).await?;
    let mut environments: Vec<String> =
        stays.into_iter().filter(|stay| stay.until.is_none() && stay.project == project.name).map(|stay| stay.environment).collect();
    environments.sort();
    environments.dedup();
    // What cannot be looked at is not said to have moved.
    let there = app.mirror(project).tag_commit(&row.tag).await.ok().flatten();
    let edits = app.records.release_edits(row.id).await?.len().saturating_sub(1) as u64;
    let time = |at: Option<i64>| at.map(moment);
    Ok(ReleaseView {
        project: project.name.clone(),
        state: match row.state.as_str() {
            "draft" => ReleaseState::Draft,
            "withdrawn" => ReleaseState::Withdrawn,
            _ => ReleaseState::Published,
        },
        tag_names: there.filter(|there| *there != row.commit_id),
        assets: assets.into_iter().map(|asset| of_asset(&row.run, asset)).collect(),
        version: row.version,
        title: row.title,
        commit: row.commit_id,
        tag: row.tag,
        run: row.run,
        job: row.job_id,
        notes: row.notes,
        made_at: moment(row.made_at),
        published_at: time(row.published_at),
        published_by: row.published_by,
        withdrawn_by: row.withdrawn_by,
        reason: row.reason,
        told: row.told,
        environments,
        edits,
    })
}

fn of_asset(run: &str, asset: ReleaseAsset) -> AssetView {
    AssetView {
        url: format!("/api/v1/runs/{run}/artifacts/{}/{}", asset.job_id, asset.name),
        job: asset.job_id,
        name: asset.name,
        digest: asset.digest,
        bytes: asset.bytes.unsigned_abs(),
        files: asset.files.unsigned_abs(),
    }
}

fn edited(row: ReleaseEdit) -> EditView {
    EditView { number: row.number, title: row.title, notes: row.notes, by: row.by, at: moment(row.at) }
}
