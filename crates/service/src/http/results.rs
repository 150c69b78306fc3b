//! What attempts leave beside files: taken from runners, held against the run before, shown to people.

use super::auth::{AsRunner, Person};
use super::error::ApiError;
use super::extract::{Body, Path, Query};
use super::projects;
use super::protocol::{attempt_id, stale};
use super::views::{find_run, plan_of};
use crate::app::App;
use crate::keeper::{Command, Stale};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::engine::{Number, Numbers};
use ordotaxis_core::plan::Plan;
use ordotaxis_core::report::{Case, CaseEnd, Coverage, Finding, Level};
use ordotaxis_store::{FindingRow, HistoryRow, NewResult, ResultRow, ResultsOf, StoreError};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::runner::{AttemptId, Left, Merge, Taken};
use ordotaxis_wire::view::{CaseView, FindingView, FlakyView, HistoryView, NumberView, SeriesView, TestsView};
use serde::Deserialize;
use std::collections::BTreeMap;
use utoipa::IntoParams;

/// How many runs are looked at for tests that turn by themselves, and for numbers.
const RUNS: i64 = 200;
/// How many slow cases are told.
const SLOWEST: usize = 10;
/// How many cases that passed are told: with more, a page is none.
const PASSED_TOLD: usize = 2_000;

/// A run that results are of.
struct About {
    run_id: i64,
    project_id: i64,
    project: String,
    git_url: String,
    pipeline: String,
    commit: String,
    merge: Option<Merge>,
}

/// What an attempt left: written down, and added up for gates and for the next attempt's comparison.
pub(super) async fn left(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(left): Body<Left>,
) -> Result<Json<Taken>, ApiError> {
    let attempt = attempt_id(&attempt)?;
    if !app.keeper.holders.holds(&runner, attempt) {
        return Err(stale(Stale));
    }
    let stored = app.records.stored_run(attempt.run).await?.ok_or_else(|| stale(Stale))?;
    let project = app.records.project_by_id(stored.project_id).await?.ok_or_else(|| stale(Stale))?;
    let plan = plan_of(&app, attempt.run).await?.ok_or_else(|| stale(Stale))?;
    let about = About {
        run_id: attempt.run,
        project_id: project.id,
        project: project.name.clone(),
        git_url: app.git_url(&project),
        pipeline: plan.pipeline.clone(),
        commit: stored.commit_id,
        merge: stored.merged.as_deref().and_then(|text| serde_json::from_str(text).ok()),
    };
    let mut taken = Taken::default();
    let mut numbers: Numbers = left.numbers;
    let base = app.records.base_of(attempt.run).await?;
    if let Some(cases) = &left.cases {
        numbers.extend(tests(&app, &about, &plan, attempt, cases, base, &mut taken).await?);
    }
    if let Some(coverage) = &left.coverage {
        numbers.extend(coverage_numbers(&app, &about, coverage, &mut taken).await);
    }
    if let Some(found) = &left.findings {
        numbers.extend(findings(&app, attempt, found, base, &mut taken).await?);
    }
    app.keeper.ask(|reply| Command::Said { runner, attempt, facts: left.facts, numbers, reply }).await?.map_err(stale)?;
    Ok(Json(taken))
}

/// The job that a test belongs to: copies of a split share theirs.
fn job_of(plan: &Plan, number: usize) -> String {
    let Some(job) = plan.jobs.get(number) else { return String::new() };
    if job.extras.as_ref().is_some_and(|extras| extras.split.is_some()) { job.id.without_cell().to_owned() } else { job.id.to_string() }
}

async fn tests(
    app: &App,
    about: &About,
    plan: &Plan,
    attempt: AttemptId,
    cases: &[Case],
    base: Option<(i64, i64)>,
    taken: &mut Taken,
) -> Result<Numbers, ApiError> {
    let job_number = i64::try_from(attempt.job).unwrap_or(i64::MAX);
    let job = job_of(plan, attempt.job);
    let of = ResultsOf {
        project_id: about.project_id,
        pipeline: &about.pipeline,
        run_id: about.run_id,
        job: &job,
        job_number,
        attempt: attempt.attempt,
    };
    let rows: Vec<NewResult> = cases.iter().map(row).collect();
    app.records.add_results(&of, &rows).await?;
    let all = app.records.results(about.run_id, base.map(|(id, _)| id)).await?;
    let own: Vec<&ResultRow> = all.iter().filter(|row| row.job_number == job_number).collect();
    let count = |end: CaseEnd| own.iter().filter(|row| row.ended == end.word()).count() as u64;
    let (passed, failed, skipped) = (count(CaseEnd::Passed), count(CaseEnd::Failed), count(CaseEnd::Skipped));
    let new: Vec<&&ResultRow> = own.iter().filter(|row| is_new(row)).collect();
    let first_new = new.first().map(|row| format!("first new: {}", named(row)));
    let first_known =
        own.iter().find(|row| row.ended == CaseEnd::Failed.word()).map(|row| format!("none of them new; first: {}", named(row)));
    let mut said = format!("{} tests: {passed} passed", own.len());
    for (count, word) in [(failed, "failed"), (skipped, "skipped")] {
        if count > 0 {
            said = format!("{said}, {count} {word}");
        }
    }
    if failed > 0 {
        taken.first = first_new.or(first_known).map(|first| format!("{failed} of {} tests failed, {first}", own.len()));
    }
    if let Some((_, number)) = base.filter(|_| !new.is_empty()) {
        said = format!("{said}; {} of the failures new since {}/{number}", new.len(), about.project);
    }
    taken.said.push(said);
    let numbers = [
        ("tests.total", own.len() as u64),
        ("tests.passed", passed),
        ("tests.failed", failed),
        ("tests.skipped", skipped),
        ("tests.new", new.len() as u64),
    ];
    Ok(numbers.into_iter().map(|(name, count)| (name.to_owned(), Number::count(count))).collect())
}

fn row(case: &Case) -> NewResult {
    NewResult {
        suite: case.suite.clone(),
        name: case.name.clone(),
        ended: case.end.word(),
        wavered: case.wavered,
        ms: case.ms,
        file: case.file.clone(),
        line: case.line,
        message: case.message.clone(),
    }
}

/// It fails, and in the run that this one is compared with it did not.
fn is_new(row: &ResultRow) -> bool {
    row.ended == CaseEnd::Failed.word() && row.before.as_deref() != Some(CaseEnd::Failed.word())
}

fn named(row: &ResultRow) -> String {
    if row.suite.is_empty() { row.name.clone() } else { format!("{} > {}", row.suite, row.name) }
}

/// Of all lines, and of those that the commit changed.
async fn coverage_numbers(app: &App, about: &About, coverage: &Coverage, taken: &mut Taken) -> Numbers {
    let (ran, all) = coverage.lines();
    let mut numbers = Numbers::from([("coverage.lines".to_owned(), Number::share(ran, all))]);
    let mut said = format!("coverage: {ran} of {all} lines");
    let mirror = app.mirrors.get(&about.project, &about.git_url);
    let from = match &about.merge {
        Some(merge) => Some(merge.base.clone()),
        None => mirror.parent(&about.commit).await.ok().flatten(),
    };
    let Some(from) = from else {
        // Of a first commit everything is new.
        numbers.insert("coverage.changed".to_owned(), Number::share(ran, all));
        taken.said.push(said);
        return numbers;
    };
    if let Ok(changed) = mirror.changed_lines(&from, &about.commit).await {
        let (ran, all) = coverage.of_lines(&changed);
        // A change without a line that could run is covered.
        let number = if all == 0 { Number::share(1, 1) } else { Number::share(ran, all) };
        numbers.insert("coverage.changed".to_owned(), number);
        said = format!("{said}, {ran} of {all} changed ones");
    }
    taken.said.push(said);
    numbers
}

async fn findings(
    app: &App,
    attempt: AttemptId,
    found: &[Finding],
    base: Option<(i64, i64)>,
    taken: &mut Taken,
) -> Result<Numbers, StoreError> {
    let job = i64::try_from(attempt.job).unwrap_or(i64::MAX);
    let row = |finding: &Finding| FindingRow {
        job,
        key: finding.key.clone(),
        rule: finding.rule.clone(),
        level: finding.level.word().to_owned(),
        message: finding.message.clone(),
        file: finding.file.clone(),
        line: finding.line,
        known: false,
    };
    let rows: Vec<FindingRow> = found.iter().map(row).collect();
    let new = app.records.add_findings(attempt.run, job, base.map(|(id, _)| id), &rows).await?;
    let count = |level: Level| found.iter().filter(|finding| finding.level == level).count() as u64;
    taken.said.push(format!("{} findings, {new} new", found.len()));
    let numbers = [
        ("findings.error", count(Level::Error)),
        ("findings.warning", count(Level::Warning)),
        ("findings.note", count(Level::Note)),
        ("findings.new", new.unsigned_abs()),
    ];
    Ok(numbers.into_iter().map(|(name, count)| (name.to_owned(), Number::count(count))).collect())
}

fn case_view(row: &ResultRow, since: Option<String>) -> CaseView {
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
        message: row.message.clone(),
        since,
    }
}

/// The test cases of a run: what fails, what is new of that, what was mended, what is slow.
#[utoipa::path(get, operation_id = "run_tests", path = "/api/v1/runs/{project}/{number}/tests", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = TestsView), (status = 404, body = Problem)))]
pub(super) async fn of_run(
    State(app): State<App>,
    _: Person,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<TestsView>, ApiError> {
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
    for row in rows.iter().filter(failing) {
        let since = app.records.failing_since(row.test_id, run.id).await?.map(|number| format!("{project}/{number}"));
        let list = if is_new(row) { &mut view.new } else { &mut view.known };
        list.push(case_view(row, since));
    }
    let mended = |row: &&ResultRow| row.ended == CaseEnd::Passed.word() && row.before.as_deref() == Some(CaseEnd::Failed.word());
    view.fixed = rows.iter().filter(mended).map(|row| case_view(row, None)).collect();
    view.wavered = rows.iter().filter(|row| row.wavered).map(|row| case_view(row, None)).collect();
    let mut slow: Vec<&ResultRow> = rows.iter().filter(|row| row.ms.is_some_and(|ms| ms > 0)).collect();
    slow.sort_by_key(|row| std::cmp::Reverse(row.ms));
    view.slowest = slow.into_iter().take(SLOWEST).map(|row| case_view(row, None)).collect();
    view.others = rows.iter().filter(|row| !failing(row)).take(PASSED_TOLD).map(|row| case_view(row, None)).collect();
    Ok(Json(view))
}

/// Tests of a project that turn by themselves.
#[utoipa::path(get, operation_id = "flaky_tests", path = "/api/v1/projects/{project}/flaky-tests", params(("project" = String, Path)), responses((status = 200, body = Vec<FlakyView>), (status = 404, body = Problem)))]
pub(super) async fn flaky(State(app): State<App>, _: Person, Path(name): Path<String>) -> Result<Json<Vec<FlakyView>>, ApiError> {
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
pub(super) async fn history(
    State(app): State<App>,
    _: Person,
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

/// What analyses found in a run, new findings first.
#[utoipa::path(get, operation_id = "run_findings", path = "/api/v1/runs/{project}/{number}/findings", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = Vec<FindingView>), (status = 404, body = Problem)))]
pub(super) async fn run_findings(
    State(app): State<App>,
    _: Person,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<Vec<FindingView>>, ApiError> {
    let run = find_run(&app, &project, number).await?;
    let Some(plan) = plan_of(&app, run.id).await? else { return Ok(Json(Vec::new())) };
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
pub(super) async fn numbers(
    State(app): State<App>,
    _: Person,
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
