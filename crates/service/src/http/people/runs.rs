//! Runs: list, show, why, stop, once more. Starting one by hand is in `starting`.

use super::projects;
use super::views::{find_run, run_views, whole_run};
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::http::gate::unknown_project;
use crate::keeper::{AgainRefused, RunCommand, StartRefused, StopRefused};
use crate::occasions::{self, Looked, OccasionError, begin_again};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use ordotaxis_core::engine::State as RunState;
use ordotaxis_core::language::nearest;
use ordotaxis_store::{Project, RunKey, RunRow};
use ordotaxis_wire::plan::PlanView;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::{Again, StartJob, Stop};
use ordotaxis_wire::run::{JobWhyView, RunView, WhyView};
use serde::Deserialize;
use std::collections::HashSet;
use utoipa::IntoParams;

/// How many runs a page holds.
const PAGE: i64 = 50;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Page {
    /// Only this project's.
    project: Option<String>,
    /// Only this pipeline's.
    pipeline: Option<String>,
    /// Where the page begins, as the `Link` header of the last one said.
    cursor: Option<i64>,
}

/// Runs, newest first, without jobs.
#[utoipa::path(get, operation_id = "list_runs", path = "/api/v1/runs", params(Page), responses((status = 200, body = Vec<RunView>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    caller: Caller,
    Query(page): Query<Page>,
) -> Result<(HeaderMap, Json<Vec<RunView>>), ApiError> {
    if let Some(name) = &page.project
        && !app.records.project(name).await?.is_some_and(|project| caller.sees(&project))
    {
        return Err(unknown_project(&app, &caller, name).await?);
    }
    let hidden: Vec<i64> =
        app.records.projects().await?.into_iter().filter(|project| !caller.sees(project)).map(|project| project.id).collect();
    let rows = app.records.runs(page.project.as_deref(), page.pipeline.as_deref(), &hidden, page.cursor.unwrap_or(i64::MAX), PAGE).await?;
    let mut headers = HeaderMap::new();
    if let Some(last) = rows.last().filter(|_| i64::try_from(rows.len()) == Ok(PAGE)) {
        let named = [("project", &page.project), ("pipeline", &page.pipeline)];
        let named: String = named.iter().filter_map(|(key, value)| Some(format!("{key}={}&", value.as_ref()?))).collect();
        let next = format!("</api/v1/runs?{named}cursor={}>; rel=\"next\"", last.id);
        if let Ok(value) = HeaderValue::from_str(&next) {
            headers.insert(header::LINK, value);
        }
    }
    Ok((headers, Json(run_views(&app, rows).await?)))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct OnlyJobs {
    /// Only these jobs, an id a line: whoever knows the run asks again for what changed. None of them where it is empty.
    jobs: Option<String>,
}

/// One run with its jobs.
#[utoipa::path(get, operation_id = "show_run", path = "/api/v1/runs/{project}/{number}", params(("project" = String, Path), ("number" = i64, Path), OnlyJobs), responses((status = 200, body = RunView), (status = 404, body = Problem)))]
pub(crate) async fn show(
    State(app): State<App>,
    Path((project, number)): Path<(String, i64)>,
    Query(only): Query<OnlyJobs>,
) -> Result<Json<RunView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    let mut view = whole_run(&app, row).await?;
    if let Some(wanted) = only.jobs {
        let wanted: HashSet<&str> = wanted.lines().collect();
        view.jobs = view.jobs.map(|jobs| jobs.into_iter().filter(|job| wanted.contains(job.id.as_str())).collect());
    }
    Ok(Json(view))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Newest {
    /// Only of this pipeline.
    pipeline: Option<String>,
}

/// A project's newest run with its jobs.
#[utoipa::path(get, operation_id = "newest_run", path = "/api/v1/projects/{project}/newest-run", params(("project" = String, Path), Newest), responses((status = 200, body = RunView), (status = 404, body = Problem)))]
pub(crate) async fn newest(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(of): Query<Newest>,
) -> Result<Json<RunView>, ApiError> {
    projects::find(&app, &project).await?;
    let row = app.records.newest_run(&project, of.pipeline.as_deref()).await?;
    let none = || match &of.pipeline {
        Some(pipeline) => format!("{project} has no run of a pipeline {pipeline}; `ordotaxis runs {project}` lists what there is"),
        None => format!("{project} has no runs yet; push a commit, or `ordotaxis start {project}`"),
    };
    let row = row.ok_or_else(|| ApiError::not_found("run", none()))?;
    Ok(Json(whole_run(&app, row).await?))
}

/// The plan a run was made from.
#[utoipa::path(get, operation_id = "run_plan", path = "/api/v1/runs/{project}/{number}/plan", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = PlanView), (status = 404, body = Problem)))]
pub(crate) async fn plan(State(app): State<App>, Path((project, number)): Path<(String, i64)>) -> Result<Json<PlanView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    let plan = app.plan_of(row.id).await?;
    let plan =
        plan.ok_or_else(|| ApiError::not_found("plan", format!("{project}/{number} could not be planned; its diagnostics say why")))?;
    Ok(Json(PlanView::new(&plan)))
}

/// Why a run, and each of its jobs that is not passed, is as it is.
#[utoipa::path(get, operation_id = "run_why", path = "/api/v1/runs/{project}/{number}/why", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = WhyView), (status = 404, body = Problem)))]
pub(crate) async fn why(State(app): State<App>, Path((project, number)): Path<(String, i64)>) -> Result<Json<WhyView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    let view = whole_run(&app, row).await?;
    let jobs = view.jobs.unwrap_or_default().into_iter();
    let jobs = jobs.filter_map(|job| Some(JobWhyView { id: job.id, state: job.state, why: job.why? })).collect();
    Ok(Json(WhyView { run: view.run, state: view.state, why: view.why.unwrap_or(view.sentence), jobs }))
}

/// A fault of the service's own is not the repository's.
pub(super) fn away(error: OccasionError) -> ApiError {
    match error {
        OccasionError::Store(error) => error.into(),
        error => ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", error.to_string()),
    }
}

/// Stop a run, or one job of it.
#[utoipa::path(post, operation_id = "stop_run", path = "/api/v1/runs/{project}/{number}/stop", params(("project" = String, Path), ("number" = i64, Path)), request_body = Stop, responses((status = 200, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn stop(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<Stop>,
) -> Result<Json<RunView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    if row.held && ask.job.is_none() {
        let (known, why) = (projects::find(&app, &project).await?, format!("stopped by {}", caller.name()));
        occasions::end_held(&app, &caller.actor, &known, row.id, RunState::Stopped, &why).await?;
        return Ok(Json(whole_run(&app, find_run(&app, &project, number).await?).await?));
    }
    let (job, by) = (ask.job.clone(), caller.actor);
    match app.keeper.ask(|reply| RunCommand::Stop { run: row.id, job, by, reply }).await? {
        Ok(()) => Ok(Json(whole_run(&app, find_run(&app, &project, number).await?).await?)),
        Err(StopRefused::RunEnded) => {
            let detail = format!("{project}/{number} has ended already ({}): there is nothing to stop", row.state);
            Err(ApiError::new(StatusCode::CONFLICT, "run-ended", detail))
        }
        Err(StopRefused::NoSuchJob(known)) => Err(unknown_job(&ask.job.unwrap_or_default(), &known)),
    }
}

/// The answer to a job's name that the run does not have, with the names that it has.
pub(super) fn unknown_job(name: &str, known: &[String]) -> ApiError {
    let hint = match nearest(name, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("it has: {}", known.iter().take(20).cloned().collect::<Vec<_>>().join(", ")),
    };
    ApiError::not_found("job", format!("the run has no job {name}; {hint}"))
}

/// The same commit once more: as a new run, or within this one what failed or some jobs.
#[utoipa::path(post, operation_id = "again", path = "/api/v1/runs/{project}/{number}/again", params(("project" = String, Path), ("number" = i64, Path)), request_body = Again, responses((status = 200, body = RunView), (status = 201, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn again(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<Again>,
) -> Result<(StatusCode, Json<RunView>), ApiError> {
    let row = find_run(&app, &project, number).await?;
    if ask.failed && !ask.jobs.is_empty() {
        return Err(ApiError::field("/jobs", "either what failed is done again or some jobs are, not both"));
    }
    let unplanned = || {
        let detail = format!(
            "{project}/{number} could not be planned, or not be read back: there is nothing to do again; push a corrected file, or `ordotaxis start {project}`"
        );
        ApiError::new(StatusCode::CONFLICT, "not-planned", detail)
    };
    if let Some(occasion) = row.unread {
        let known = projects::find(&app, &project).await?;
        let key = look_again(&app, &caller, &known, &row, occasion).await?;
        let row = find_run(&app, &project, key.number).await?;
        return Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)));
    }
    if !ask.failed && ask.jobs.is_empty() {
        let known = projects::find(&app, &project).await?;
        let key = begin_again(&app, &caller.actor, &known, &row, ask.fresh).await?.ok_or_else(unplanned)?;
        let row = find_run(&app, &project, key.number).await?;
        return Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)));
    }
    let (Again { jobs, fresh, .. }, by) = (ask, caller.actor);
    let conflict = |kind, detail: String| Err(ApiError::new(StatusCode::CONFLICT, kind, detail));
    match app.keeper.ask(|reply| RunCommand::Again { run: row.id, jobs, by, fresh, reply }).await? {
        Ok(()) => Ok((StatusCode::OK, Json(whole_run(&app, find_run(&app, &project, number).await?).await?))),
        Err(AgainRefused::NoSuchRun) => Err(unplanned()),
        Err(AgainRefused::NoSuchJob(name, known)) => Err(unknown_job(&name, &known)),
        Err(AgainRefused::NotEnded) => conflict("not-ended", "that job has not ended; stop it first, or wait for its end".into()),
        Err(AgainRefused::NothingFailed) => {
            conflict("nothing-failed", format!("nothing of {project}/{number} failed; `again` without `--failed` does all of it once more"))
        }
    }
}

/// Reads once more the commit of a run that could not be read then.
async fn look_again(app: &App, caller: &Caller, project: &Project, of: &RunRow, occasion: i64) -> Result<RunKey, ApiError> {
    let name = format!("{}/{}", project.name, of.number);
    let conflict = |kind, detail: String| ApiError::new(StatusCode::CONFLICT, kind, detail);
    let looked = match occasions::look_again(app, &caller.actor, project, occasion).await {
        Ok(looked) => looked,
        Err(OccasionError::Store(error)) => return Err(error.into()),
        Err(error) => return Err(conflict("not-readable", format!("the commit of {name} still cannot be read: {error}"))),
    };
    let begun = match looked {
        None => return Err(conflict("not-planned", format!("what began {name} is not kept any more; push again"))),
        Some(Looked::NotTaken) => Vec::new(),
        Some(Looked::NoFile(run)) => run.into_iter().collect(),
        Some(Looked::Begun(runs)) => runs,
    };
    let nothing =
        || conflict("nothing-to-start", format!("the commit of {name} was read; nothing of it is to start, or it has its runs already"));
    begun.into_iter().next().ok_or_else(nothing)
}

/// Let a run go on that comes from outside: this commit of it, and no other.
#[utoipa::path(post, operation_id = "allow_run", path = "/api/v1/runs/{project}/{number}/allow", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn allow(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<RunView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    let known = projects::find(&app, &project).await?;
    if !crate::occasions::allow(&app, &caller.actor, &known, &row).await? {
        let detail = format!("{project}/{number} does not wait for anybody to allow it");
        return Err(ApiError::new(StatusCode::CONFLICT, "not-held", detail));
    }
    Ok(Json(whole_run(&app, find_run(&app, &project, number).await?).await?))
}

/// Start a job that starts by hand only.
#[utoipa::path(post, operation_id = "start_job", path = "/api/v1/runs/{project}/{number}/start", params(("project" = String, Path), ("number" = i64, Path)), request_body = StartJob, responses((status = 200, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn start_job(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<StartJob>,
) -> Result<Json<RunView>, ApiError> {
    let row = find_run(&app, &project, number).await?;
    let StartJob { job, inputs } = ask;
    let (name, by) = (job.clone(), caller.actor);
    match app.keeper.ask(|reply| RunCommand::StartJob { run: row.id, job, by, inputs, reply }).await? {
        Ok(()) => Ok(Json(whole_run(&app, find_run(&app, &project, number).await?).await?)),
        Err(StartRefused::NoSuchRun) => Err(unknown_job(&name, &[])),
        Err(StartRefused::NoSuchJob(known)) => Err(unknown_job(&name, &known)),
        Err(StartRefused::Inputs(detail)) => Err(ApiError::field("/inputs", detail)),
        Err(StartRefused::Shut(gate)) => {
            let detail = format!("{name} of {project}/{number} cannot start: {gate}");
            Err(ApiError::new(StatusCode::CONFLICT, "gate-shut", detail))
        }
        Err(StartRefused::NotByHand) => {
            let detail = format!("{name} of {project}/{number} cannot be started by hand: it starts by itself, was started, or has ended");
            Err(ApiError::new(StatusCode::CONFLICT, "not-by-hand", detail))
        }
    }
}
