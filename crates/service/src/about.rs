//! What a run comes to, for those who are told of it elsewhere: its sentence, what fails in it that did not fail before, and
//! its numbers beside what they were.

use crate::app::App;
use crate::clock;
use crate::sentence::of_row;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::{Failure, Grown};
use ordotaxis_core::language::Severity;
use ordotaxis_core::plan::{Change, Plan, compare};
use ordotaxis_core::report::CaseEnd;
use ordotaxis_store::{ResultRow, RunRow, StoreError};
use ordotaxis_wire::plan::DiagnosticView;
use ordotaxis_wire::words;
use std::collections::HashMap;

/// How many jobs of each run are in which state.
pub(crate) async fn counts(app: &App, rows: &[RunRow]) -> Result<HashMap<i64, Vec<(State, i64)>>, StoreError> {
    let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let mut counts: HashMap<i64, Vec<(State, i64)>> = HashMap::new();
    for (run, state, jobs) in app.records.state_counts(&ids).await? {
        counts.entry(run).or_default().push((State::from_word(&state).unwrap_or(State::Failed), jobs));
    }
    Ok(counts)
}

/// The sentences of runs, in their order.
pub(crate) async fn sentences(app: &App, rows: &[RunRow]) -> Result<Vec<String>, StoreError> {
    let counts = counts(app, rows).await?;
    let sentence = |row: &RunRow| {
        let told: Vec<DiagnosticView> = row.diagnostics.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
        let mistaken = told.iter().any(|found| found.severity == Severity::Error);
        of_row(row, counts.get(&row.id).map(Vec::as_slice).unwrap_or_default(), mistaken, clock::now())
    };
    Ok(rows.iter().map(sentence).collect())
}

/// A case that fails, and did not in the run that its own is compared with.
pub(crate) fn is_new(row: &ResultRow) -> bool {
    row.ended == CaseEnd::Failed.word() && row.before.as_deref() != Some(CaseEnd::Failed.word())
}

/// `suite > name`
pub(crate) fn case_name(row: &ResultRow) -> String {
    if row.suite.is_empty() { row.name.clone() } else { format!("{} > {}", row.suite, row.name) }
}

/// What fails in a run.
#[derive(Debug, Default)]
pub(crate) struct Failing {
    /// By name, to be told apart over runs.
    pub(crate) all: Vec<(String, Failure)>,
    /// What did not fail in the run that it is compared with.
    pub(crate) new: Vec<Failure>,
}

/// Tests that fail; where none does, the job that failed first; where nothing was planned, why.
pub(crate) async fn failing(app: &App, row: &RunRow, plan: Option<&Plan>) -> Result<Failing, StoreError> {
    let base = app.records.base_of(row.id).await?;
    let cases = app.records.results(row.id, base.map(|(id, _)| id)).await?;
    let mut failing = Failing::default();
    for case in cases.iter().filter(|case| case.ended == CaseEnd::Failed.word()) {
        let failure = Failure {
            job: case.job.clone(),
            test: Some(case_name(case)),
            message: case.message.clone(),
            place: case.file.as_ref().map(|file| case.line.map_or_else(|| file.clone(), |line| format!("{file}:{line}"))),
        };
        failing.all.push((format!("{} {}", case.job, case_name(case)), failure.clone()));
        if is_new(case) {
            failing.new.push(failure);
        }
    }
    if failing.all.is_empty() {
        let first = app.records.first_failed(&[row.id]).await?.remove(&row.id);
        let id = first.as_ref().and_then(|job| plan?.jobs.get(usize::try_from(job.number).ok()?)).map(|job| job.id.to_string());
        let (job, message) = match (id, first) {
            (Some(id), Some(job)) => (id, job.why),
            _ => ("plan".to_owned(), row.why.clone()),
        };
        let failure = Failure { job: job.clone(), test: None, message, place: None };
        failing.all.push((job, failure.clone()));
        failing.new.push(failure);
    }
    Ok(failing)
}

/// What a run's plan does otherwise than the newest before it on the branch that it is for: a sentence each.
pub(crate) async fn plan_changes(app: &App, project_id: i64, row: &RunRow, plan: &Plan) -> Result<Vec<String>, StoreError> {
    let Some(target) = row.target.as_deref().or(row.branch.as_deref()) else { return Ok(Vec::new()) };
    let Some(base) = app.records.planned_before(project_id, &row.pipeline, target, row.id).await? else { return Ok(Vec::new()) };
    let Some(before) = app.plan_of(base).await? else { return Ok(Vec::new()) };
    // What one occasion skips and another does not is no change of the file.
    let changes: Vec<Change> = compare(&before, plan).into_iter().filter(|change| !is_skip(change)).collect();
    let mut lines: Vec<String> = changes.iter().take(CHANGES).map(|change| format!("{}: {}", row.pipeline, words_of(change))).collect();
    if changes.len() > CHANGES {
        lines.push(format!("{}: and {} more", row.pipeline, changes.len() - CHANGES));
    }
    Ok(lines)
}

/// So many changes of a plan are named.
const CHANGES: usize = 30;

fn is_skip(change: &Change) -> bool {
    matches!(change, Change::KeyChanged { key, .. } if key == "skipped")
}

fn words_of(change: &Change) -> String {
    match change {
        Change::JobCame { job } => format!("{job} is new"),
        Change::JobGone { job } => format!("{job} is gone"),
        Change::WaitCame { job, on } => format!("{job} waits for {on} now"),
        Change::WaitGone { job, on } => format!("{job} does not wait for {on} any more"),
        Change::KeyChanged { job, key, before, after } => {
            let word = |text: &str| if text.is_empty() { "nothing".to_owned() } else { text.chars().take(80).collect() };
            format!("{job}: {key} is {} in place of {}", word(after), word(before))
        }
    }
}

/// Numbers that say something: those that a gate looks at, coverage of what changed, and whatever is not as it was.
pub(crate) async fn grown(app: &App, run: i64, plan: &Plan) -> Result<Vec<Grown>, StoreError> {
    let base = app.records.base_of(run).await?.map(|(id, _)| id);
    let before: HashMap<String, f64> = match base {
        Some(base) => app.records.numbers_of(base).await?.into_iter().collect(),
        None => HashMap::new(),
    };
    let wants = |name: &str| {
        let mut rules = plan.stages.iter().flat_map(|stage| &stage.gate);
        rules.find(|rule| rule.number == name).map(|rule| rule.wants.clone())
    };
    let mut grown = Vec::new();
    for (name, now) in app.records.numbers_of(run).await? {
        let (was, wants) = (before.get(&name).copied(), wants(&name));
        let moved = was.is_some_and(|was| (was - now).abs() > 1e-9);
        let own = name == "coverage.changed" || (moved && !name.starts_with("tests."));
        if own || wants.is_some() {
            let before = was.filter(|_| name != "coverage.changed").map(rounded);
            grown.push(Grown { now: rounded(now), before, wants, name });
        }
    }
    grown.extend(sizes(app, run, base, plan).await?);
    Ok(grown)
}

/// Artifacts that are of another size than before.
async fn sizes(app: &App, run: i64, base: Option<i64>, plan: &Plan) -> Result<Vec<Grown>, StoreError> {
    let Some(base) = base else { return Ok(Vec::new()) };
    let Some(old_plan) = app.plan_of(base).await? else { return Ok(Vec::new()) };
    let id = |plan: &Plan, job: i64| usize::try_from(job).ok().and_then(|job| plan.jobs.get(job)).map(|job| job.id.to_string());
    let old = app.records.artifacts(base).await?;
    let old: HashMap<(String, String), i64> =
        old.into_iter().filter_map(|one| Some(((id(&old_plan, one.job)?, one.name), one.raw_bytes))).collect();
    let bytes = |count: i64| words::bytes(count.unsigned_abs());
    let sized = app.records.artifacts(run).await?.into_iter().filter_map(|one| {
        let of = (id(plan, one.job)?, one.name);
        let was = old.get(&of).copied().filter(|was| *was != one.raw_bytes)?;
        Some(Grown { name: format!("size of {} {}", of.0, of.1), now: bytes(one.raw_bytes), before: Some(bytes(was)), wants: None })
    });
    Ok(sized.collect())
}

/// At most one place after the point.
fn rounded(value: f64) -> String {
    let text = format!("{value:.1}");
    text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
}
