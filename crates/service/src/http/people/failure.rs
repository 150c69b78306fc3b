//! Why a job failed, in one answer: what a person would otherwise gather from the plan, the tests, the log and older runs.

use super::logs::{ERRORS, find_job};
use super::tests::case_view;
use super::views::{find_run, state_of};
use crate::about::is_new;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::engine::State as RunState;
use ordotaxis_core::language::JobId;
use ordotaxis_core::plan::PlannedJob;
use ordotaxis_store::{AttemptRow, LogId, ResultRow, RunRow};
use ordotaxis_wire::failure::{ExcerptView, FailedStepView, SinceView, SuspectView, WhyFailedView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::{PhaseKind, PhaseView};
use serde::Deserialize;
use utoipa::IntoParams;

/// How many failed tests are told; the page of tests has all.
const TESTS: usize = 50;
/// How far back it is looked for the run since which a job fails.
const RUNS: i64 = 50;
/// How many commits are listed as what may be the cause.
const SUSPECTS: usize = 10;
/// Lines of the log before the first error, and from it on.
const BEFORE: u64 = 8;
const AFTER: u64 = 16;
/// How long a told line or command may be, in characters: of a longer one the beginning is told.
const LONGEST_LINE: usize = 2_000;
const LONGEST_COMMAND: usize = 8_000;
/// How much of a log is read for the excerpt, in bytes: lines may be as long as they like.
const READ: usize = 256 * 1024;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// The newest when absent.
    attempt: Option<u32>,
}

/// Why a job failed: the step and its command, its failed tests, the log around the first error, and since when.
#[utoipa::path(get, operation_id = "why_failed", path = "/api/v1/runs/{project}/{number}/jobs/{job}/failure", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), Which), responses((status = 200, body = WhyFailedView), (status = 404, body = Problem)))]
pub(crate) async fn failure(
    State(app): State<App>,
    Path((project, number, job)): Path<(String, i64, String)>,
    Query(which): Query<Which>,
) -> Result<Json<WhyFailedView>, ApiError> {
    let (run_id, at) = find_job(&app, &project, number, &job).await?;
    let row = find_run(&app, &project, number).await?;
    let plan = app.plan_of(run_id).await?.ok_or_else(|| ApiError::not_found("job", "the run could not be planned: it has no jobs"))?;
    let planned = &plan.jobs[at];
    let at_number = i64::try_from(at).unwrap_or(i64::MAX);
    let mut attempts = app.records.attempts(run_id).await?.into_iter().filter(|attempt| attempt.job == at_number);
    let attempt = attempts.rfind(|attempt| which.attempt.is_none_or(|wanted| wanted == attempt.number));
    let attempt = attempt.ok_or_else(|| ApiError::not_found("attempt", format!("{job} of {project}/{number} has no such attempt")))?;
    let phases: Vec<PhaseView> = serde_json::from_str(&attempt.phases).unwrap_or_default();
    let failed = phases.iter().rposition(|phase| phase.failed && phase.kind == PhaseKind::Step);
    let tests = tests(&app, &row, at_number, attempt.number).await?;
    Ok(Json(WhyFailedView {
        run: format!("{project}/{number}"),
        job: planned.id.clone(),
        attempt: attempt.number,
        state: state_of(&attempt.state),
        why: attempt.why.clone(),
        step: failed.map(|failed| step(planned, &phases, failed)),
        since: since(&app, &row, &planned.id).await?,
        failed_tests: tests.0,
        tests: tests.1,
        excerpt: excerpt(&app, &row, at, &attempt, &phases, failed).await?,
    }))
}

/// The step that ended the job; the plan knows its command by its place among the steps.
fn step(planned: &PlannedJob, phases: &[PhaseView], failed: usize) -> FailedStepView {
    let phase = &phases[failed];
    let named = planned.steps.iter().find(|step| step.name == phase.name);
    FailedStepView {
        name: phase.name.clone(),
        command: named.map(|step| cut(&step.run, LONGEST_COMMAND)).unwrap_or_default(),
        dir: named.and_then(|step| step.dir.clone()),
        exit_code: phase.exit_code,
        duration_ms: phase.duration_ms,
    }
}

/// How many tests failed in the attempt, and the first of them: new failures before known ones.
async fn tests(app: &App, run: &RunRow, job: i64, attempt: u32) -> Result<(u64, Vec<ordotaxis_wire::results::CaseView>), ApiError> {
    let base = app.records.base_of(run.id).await?;
    let mut rows = app.records.failed_results(run.id, base.map(|(id, _)| id), job, attempt).await?;
    let all = rows.len() as u64;
    if all == 0 {
        return Ok((0, Vec::new()));
    }
    rows.sort_by_key(|row| !is_new(row));
    rows.truncate(TESTS);
    let since = app.records.failing_since(run.id).await?;
    let view = |row: &ResultRow| case_view(row, since.get(&row.test_id).map(|number| format!("{}/{number}", run.project)));
    Ok((all, rows.iter().map(view).collect()))
}

/// Since when the job fails on the run's branch; of a proposal on its target, where it may be well.
async fn since(app: &App, run: &RunRow, job: &JobId) -> Result<Option<SinceView>, ApiError> {
    let Some(project) = app.records.project(&run.project).await? else { return Ok(None) };
    let branch = run.target.as_ref().or(run.branch.as_ref()).unwrap_or(&project.main_branch);
    let (mut first, mut well) = (run.id, None);
    for (id, number) in app.records.ended_before(project.id, &run.pipeline, branch, run.id, RUNS).await? {
        match state_in(app, id, job).await? {
            Some(RunState::Passed | RunState::Reused) => {
                well = Some((id, number));
                break;
            }
            Some(RunState::Failed | RunState::Lost) => first = id,
            // It did not run there: that says nothing.
            _ => {}
        }
    }
    let found = app.records.runs_by_id(&[first]).await?.pop();
    let Some(first) = found else { return Ok(None) };
    let commits = match well {
        Some((id, _)) => suspects(app, &project, id, &first).await?,
        None => Vec::new(),
    };
    Ok(Some(SinceView {
        run: format!("{}/{}", first.project, first.number),
        more: commits.len() > SUSPECTS,
        commits: commits.into_iter().take(SUSPECTS).collect(),
        commit: first.commit_id,
        commit_title: first.commit_title,
        commit_author: first.commit_author,
        at: moment(first.created_at),
        passed_in: well.map(|(_, number)| format!("{}/{number}", run.project)),
    }))
}

/// How a job ended in another run; none where that has no such job.
async fn state_in(app: &App, run: i64, job: &JobId) -> Result<Option<RunState>, ApiError> {
    let Some(plan) = app.plan_of(run).await? else { return Ok(None) };
    let Some(at) = plan.jobs.iter().position(|planned| planned.id == *job) else { return Ok(None) };
    let state = app.records.job_state(run, i64::try_from(at).unwrap_or(i64::MAX)).await?;
    Ok(state.map(|(_, state)| state_of(&state)))
}

/// What was new since the job was well. A repository that cannot be read now leaves the list empty: the rest is told.
async fn suspects(app: &App, project: &ordotaxis_store::Project, well: i64, first: &RunRow) -> Result<Vec<SuspectView>, ApiError> {
    let Some(before) = app.records.runs_by_id(&[well]).await?.pop() else { return Ok(Vec::new()) };
    let between = app.mirror(project).between(Some(&before.commit_id), &first.commit_id, SUSPECTS + 1).await.unwrap_or_default();
    Ok(between.into_iter().map(|one| SuspectView { commit: one.id, title: one.title, author: one.author }).collect())
}

/// The log around the first line of the failed step that tells of an error; else the step's last lines.
async fn excerpt(
    app: &App,
    run: &RunRow,
    job: usize,
    attempt: &AttemptRow,
    phases: &[PhaseView],
    failed: Option<usize>,
) -> Result<Option<ExcerptView>, ApiError> {
    let begin = failed.map_or(0, |failed| phases[failed].log_line);
    let end = failed.and_then(|failed| phases.get(failed + 1)).map(|next| next.log_line);
    let (logs, id) = (app.logs.clone(), LogId::new(run.id, job, attempt.number));
    let read = tokio::task::spawn_blocking(move || {
        let end = match end {
            Some(end) => end,
            None => logs.lines(&id, 0, 0)?.total,
        };
        let pattern = regex::bytes::Regex::new(ERRORS).map_err(std::io::Error::other)?;
        // What the runner itself says at the end of a step tells that it failed, not why.
        let first = logs.search(&id, &pattern, begin, 1)?.found.into_iter().next();
        let found = first.filter(|found| found.line < end && !found.text.starts_with(b"ordotaxis: ")).map(|found| found.line);
        let first = found.map_or(end.saturating_sub(BEFORE + AFTER), |line| line.saturating_sub(BEFORE)).max(begin);
        let last = found.map_or(end, |line| (line + AFTER).min(end));
        let lines = logs.lines_within(&id, first, last.saturating_sub(first), READ)?;
        Ok::<_, std::io::Error>((first, found, lines.bytes))
    });
    let (first, error, bytes) = read.await.map_err(std::io::Error::other)??;
    let text = String::from_utf8_lossy(&bytes);
    let lines: Vec<String> = text.lines().map(|line| cut(line, LONGEST_LINE)).collect();
    Ok((!lines.is_empty()).then_some(ExcerptView { first, error, lines }))
}

/// The beginning of a text.
fn cut(text: &str, most: usize) -> String {
    match text.char_indices().nth(most) {
        Some((end, _)) => format!("{} …", &text[..end]),
        None => text.to_owned(),
    }
}
