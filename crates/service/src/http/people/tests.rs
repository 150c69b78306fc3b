//! Test cases of runs, as people see them: what fails, since when, and what is new of it.

use super::projects;
use super::views::find_run;
use crate::about::is_new;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::report::{CaseEnd, difference};
use ordotaxis_store::{HistoryRow, ResultRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::results::{CaseView, DifferenceView, FlakyView, HistoryView, TestsView};
use serde::Deserialize;
use utoipa::IntoParams;

/// How many runs are searched for flaky tests.
const RUNS: i64 = 200;
/// How many slow cases are shown.
const SLOWEST: usize = 10;
/// How many cases that passed are shown: a page with more could not be read.
const PASSED_SHOWN: usize = 2_000;

pub(super) fn case_view(row: &ResultRow, since: Option<String>) -> CaseView {
    CaseView {
        job: row.job.clone(),
        suite: row.suite.clone(),
        name: row.name.clone(),
        end: CaseEnd::from_word(&row.ended).unwrap_or(CaseEnd::Failed),
        before: row.before.as_deref().and_then(CaseEnd::from_word),
        wavered: row.wavered,
        ms: row.ms,
        file: row.file.clone(),
        line: row.line,
        difference: row.message.as_deref().and_then(difference).map(DifferenceView::from),
        message: row.message.clone(),
        since,
    }
}

/// The test cases of a run: what fails, what is new of that, what was mended, what is slow.
#[utoipa::path(get, operation_id = "run_tests", path = "/api/v1/runs/{project}/{number}/tests", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = TestsView), (status = 404, body = Problem)))]
pub(crate) async fn of_run(State(app): State<App>, Path((project, number)): Path<(String, i64)>) -> Result<Json<TestsView>, ApiError> {
    let run = find_run(&app, &project, number).await?;
    let base = app.records.base_of(run.id).await?;
    let rows = app.records.results(run.id, base.map(|(id, _)| id)).await?;
    let is = |end: CaseEnd| move |row: &&ResultRow| row.ended == end.word();
    let failing = |row: &&ResultRow| row.ended == CaseEnd::Failed.word();
    let mut view = TestsView {
        run: format!("{project}/{number}"),
        compared_with: base.map(|(_, number)| format!("{project}/{number}")),
        total: rows.len() as u64,
        passed: rows.iter().filter(is(CaseEnd::Passed)).count() as u64,
        failed: rows.iter().filter(failing).count() as u64,
        skipped: rows.iter().filter(is(CaseEnd::Skipped)).count() as u64,
        ms: rows.iter().filter_map(|row| row.ms).sum(),
        gone: match base {
            Some((id, _)) => app.records.results_gone(run.id, id).await?.unsigned_abs(),
            None => 0,
        },
        ..TestsView::default()
    };
    let first_failed = app.records.failing_since(run.id).await?;
    for row in rows.iter().filter(failing) {
        let since = first_failed.get(&row.test_id).map(|number| format!("{project}/{number}"));
        let list = if is_new(row) { &mut view.new } else { &mut view.known };
        list.push(case_view(row, since));
    }
    let mended = |row: &&ResultRow| row.ended == CaseEnd::Passed.word() && row.before.as_deref() == Some(CaseEnd::Failed.word());
    view.fixed = rows.iter().filter(mended).map(|row| case_view(row, None)).collect();
    view.wavered = rows.iter().filter(|row| row.wavered).map(|row| case_view(row, None)).collect();
    let mut slow: Vec<&ResultRow> = rows.iter().filter(|row| row.ms.is_some_and(|ms| ms > 0)).collect();
    slow.sort_by_key(|row| std::cmp::Reverse(row.ms));
    view.slowest = slow.into_iter().take(SLOWEST).map(|row| case_view(row, None)).collect();
    view.others = rows.iter().filter(|row| !failing(row)).take(PASSED_SHOWN).map(|row| case_view(row, None)).collect();
    Ok(Json(view))
}

/// Tests of a project that turn by themselves.
#[utoipa::path(get, operation_id = "flaky_tests", path = "/api/v1/projects/{project}/flaky-tests", params(("project" = String, Path)), responses((status = 200, body = Vec<FlakyView>), (status = 404, body = Problem)))]
pub(crate) async fn flaky(State(app): State<App>, Path(name): Path<String>) -> Result<Json<Vec<FlakyView>>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let rows = app.records.flaky_tests(project.id, RUNS).await?;
    let view = |row: ordotaxis_store::FlakyRow| FlakyView {
        job: row.job,
        suite: row.suite,
        name: row.name,
        times: row.times.unsigned_abs(),
        newest: format!("{name}/{}", row.newest),
    };
    Ok(Json(rows.into_iter().map(view).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Test {
    #[serde(default)]
    suite: String,
    name: String,
}

/// One test over a project's runs, the newest first.
#[utoipa::path(get, operation_id = "test_history", path = "/api/v1/projects/{project}/test-history", params(("project" = String, Path), Test), responses((status = 200, body = Vec<HistoryView>), (status = 404, body = Problem)))]
pub(crate) async fn history(
    State(app): State<App>,
    Path(name): Path<String>,
    Query(test): Query<Test>,
) -> Result<Json<Vec<HistoryView>>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let rows = app.records.test_history(project.id, &test.suite, &test.name, 100).await?;
    if rows.is_empty() {
        return Err(ApiError::not_found("test", format!("{name} has reported no test {} > {}", test.suite, test.name)));
    }
    let view = |row: HistoryRow| HistoryView {
        run: format!("{name}/{}", row.run_number),
        job: row.job,
        end: CaseEnd::from_word(&row.ended).unwrap_or(CaseEnd::Failed),
        wavered: row.wavered,
        ms: row.ms,
        commit: row.commit_id,
        branch: row.branch,
        at: moment(row.created_at),
        message: row.message,
    };
    Ok(Json(rows.into_iter().map(view).collect()))
}
