//! What attempts leave beside files: taken from runners, compared with an earlier run, added up for gates.

use super::attempt::{attempt_id, stale};
use crate::about::{case_name, is_new};
use crate::app::App;
use crate::clock;
use crate::http::caller::AsRunner;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::keeper::{RunCommand, Stale};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::engine::{Number, Numbers};
use ordotaxis_core::language::counted;
use ordotaxis_core::plan::Plan;
use ordotaxis_core::report::{Case, CaseEnd, Coverage, Finding, Level};
use ordotaxis_git::Mirror;
use ordotaxis_store::{FindingRow, NewBill, NewResult, ResultRow, ResultsOf, StoreError};
use ordotaxis_wire::runner::{AttemptBill, AttemptId, AttemptReports, Merge, ReportsTaken};
use std::sync::Arc;

/// A run that results are of.
struct About {
    run_id: i64,
    project_id: i64,
    project: String,
    mirror: Arc<Mirror>,
    pipeline: String,
    commit: String,
    merge: Option<Merge>,
}

/// What an attempt left: written down, and added up for gates and for the next attempt's comparison.
pub(super) async fn left(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(left): Body<AttemptReports>,
) -> Result<Json<ReportsTaken>, ApiError> {
    let attempt = attempt_id(&attempt)?;
    if !app.keeper.holders.holds(&runner, attempt) {
        return Err(stale(Stale));
    }
    let stored = app.records.stored_run(attempt.run).await?.ok_or_else(|| stale(Stale))?;
    let project = app.records.project_by_id(stored.project_id).await?.ok_or_else(|| stale(Stale))?;
    let plan = app.plan_of(attempt.run).await?.ok_or_else(|| stale(Stale))?;
    let about = About {
        run_id: attempt.run,
        project_id: project.id,
        project: project.name.clone(),
        mirror: app.mirror(&project),
        pipeline: plan.pipeline.clone(),
        commit: stored.commit_id,
        merge: stored.merged.as_deref().and_then(|text| serde_json::from_str(text).ok()),
    };
    let mut taken = ReportsTaken::default();
    let mut numbers: Numbers = left.numbers;
    let base = app.records.base_of(attempt.run).await?;
    if let Some(cases) = &left.cases {
        numbers.extend(tests(&app, &about, &plan, attempt, cases, base, &mut taken).await?);
    }
    if let Some(coverage) = &left.coverage {
        numbers.extend(coverage_numbers(&about, coverage, &mut taken).await);
    }
    if let Some(found) = &left.findings {
        numbers.extend(findings(&app, attempt, found, base, &mut taken).await?);
    }
    if let Some(found) = left.bills {
        bills(&app, attempt, found, &mut taken).await?;
    }
    app.keeper.ask(|reply| RunCommand::Said { runner, attempt, facts: left.facts, numbers, reply }).await?.map_err(stale)?;
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
    taken: &mut ReportsTaken,
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
    let mut tx = app.records.tx_by_rule("results", clock::now()).await?;
    tx.add_results(&of, &rows).await?;
    tx.commit().await?;
    let all = app.records.results(about.run_id, base.map(|(id, _)| id)).await?;
    let own: Vec<&ResultRow> = all.iter().filter(|row| row.job_number == job_number).collect();
    let count = |end: CaseEnd| own.iter().filter(|row| row.ended == end.word()).count() as u64;
    let (passed, failed, skipped) = (count(CaseEnd::Passed), count(CaseEnd::Failed), count(CaseEnd::Skipped));
    let new: Vec<&&ResultRow> = own.iter().filter(|row| is_new(row)).collect();
    let first_new = new.first().map(|row| format!("first new: {}", case_name(row)));
    let first_known =
        own.iter().find(|row| row.ended == CaseEnd::Failed.word()).map(|row| format!("none of them new; first: {}", case_name(row)));
    let mut said = format!("{} tests: {passed} passed", own.len());
    for (count, word) in [(failed, "failed"), (skipped, "skipped")] {
        if count > 0 {
            said = format!("{said}, {count} {word}");
        }
    }
    if failed > 0 {
        taken.first = first_new.or(first_known).map(|first| format!("{failed} of {} failed, {first}", counted(own.len(), "test")));
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

/// Of all lines, and of those that the commit changed.
async fn coverage_numbers(about: &About, coverage: &Coverage, taken: &mut ReportsTaken) -> Numbers {
    let (ran, all) = coverage.lines();
    let mut numbers = Numbers::from([("coverage.lines".to_owned(), Number::share(ran, all))]);
    let mut said = format!("coverage: {ran} of {all} lines");
    let mirror = &about.mirror;
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

/// Bills of materials take the place of those of the job's earlier attempts.
async fn bills(app: &App, attempt: AttemptId, found: Vec<AttemptBill>, taken: &mut ReportsTaken) -> Result<(), StoreError> {
    let said = found.iter().map(|bill| format!("{} names {}", bill.file, counted(bill.components.len(), "component")));
    taken.said.extend(said);
    let new =
        |AttemptBill { file, form, components, document }| NewBill { file, form: form.word(), components, document: document.into_bytes() };
    let rows: Vec<NewBill> = found.into_iter().map(new).collect();
    let mut tx = app.records.tx_by_rule("results", clock::now()).await?;
    tx.set_bills(attempt.run, i64::try_from(attempt.job).unwrap_or(i64::MAX), &rows).await?;
    tx.commit().await
}

async fn findings(
    app: &App,
    attempt: AttemptId,
    found: &[Finding],
    base: Option<(i64, i64)>,
    taken: &mut ReportsTaken,
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
    let mut tx = app.records.tx_by_rule("results", clock::now()).await?;
    let new = tx.add_findings(attempt.run, job, base.map(|(id, _)| id), &rows).await?;
    tx.commit().await?;
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
