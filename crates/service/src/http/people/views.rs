//! Builds the views of runs that people see from what is stored.

use super::projects;
use crate::about::counts;
use crate::app::App;
use crate::clock;
use crate::http::error::ApiError;

use crate::occasions::pipeline_of;
use crate::sentence::of_row;
use ordotaxis_core::engine::{Numbers, Paths, Run, State, sums, why_job, why_shut};
use ordotaxis_core::language::{Bound, Severity};
use ordotaxis_core::plan::{Event, Plan};
use ordotaxis_store::{AttemptRow, JobRow, RunRow, StoreError};
use ordotaxis_wire::moment;
use ordotaxis_wire::plan::DiagnosticView;
use ordotaxis_wire::run::{AttemptView, JobView, OccasionView, RunView, StateCount, TimeView, UncachedView};
use ordotaxis_wire::runner::CacheUse;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// A run by project and number, or a problem that says what there is.
pub(crate) async fn find_run(app: &App, project: &str, number: i64) -> Result<RunRow, ApiError> {
    if let Some(run) = app.records.run(project, number).await? {
        return Ok(run);
    }
    projects::find(app, project).await?;
    let newest = app.records.newest_run(project, None).await?;
    let age = app.settings.ages.runs.map(humantime::format_duration);
    let hint = match (newest, age) {
        (None, _) => "it has no runs yet".to_owned(),
        (Some(run), Some(age)) if (1..run.number).contains(&number) => format!("runs are kept for {age}, and some for longer"),
        (Some(run), _) => format!("the newest is {project}/{}", run.number),
    };
    Err(ApiError::not_found("run", format!("there is no run {project}/{number}; {hint}")))
}

/// The state of a stored word; one that is no state counts as failed.
pub(super) fn state_of(word: &str) -> State {
    State::from_word(word).unwrap_or(State::Failed)
}

/// Runs as lists show them, without jobs.
pub(crate) async fn run_views(app: &App, rows: Vec<RunRow>) -> Result<Vec<RunView>, ApiError> {
    let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let mut counts = counts(app, &rows).await?;
    let mut past = app.records.passed_durations(&ids).await?;
    let view = |row: RunRow| {
        let (counts, past) = (counts.remove(&row.id), past.remove(&row.id));
        run_view(row, counts.unwrap_or_default(), past.unwrap_or_default())
    };
    Ok(rows.into_iter().map(view).collect())
}

/// `past`: the durations of earlier runs that passed.
fn run_view(row: RunRow, counts: Vec<(State, i64)>, mut past: Vec<i64>) -> RunView {
    let state = state_of(&row.state);
    let diagnostics: Vec<DiagnosticView> = row.diagnostics.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let broken = diagnostics.iter().any(|found| found.severity == Severity::Error);
    let words = of_row(&row, &counts, broken, clock::now());
    past.sort_unstable();
    RunView {
        run: format!("{}/{}", row.project, row.number),
        project: row.project,
        number: row.number,
        pipeline: row.pipeline,
        title: row.title,
        state,
        why: if state == State::Passed { None } else { Some(row.why.unwrap_or_else(|| words.clone())) },
        sentence: words,
        commit: row.commit_id,
        commit_title: row.commit_title,
        commit_author: row.commit_author,
        branch: row.branch,
        occasion: OccasionView {
            event: event_of(&row.event),
            by: row.started_by,
            tag: row.tag,
            target: row.target,
            environment: row.environment,
            from: row.from_run,
        },
        created_at: moment(row.created_at),
        started_at: row.started_at.map(moment),
        ended_at: row.ended_at.map(moment),
        rest_ms: row.rest_ms,
        counts: counts.into_iter().map(|(state, jobs)| StateCount { state, jobs }).collect(),
        usual_ms: past.get(past.len() / 2).copied(),
        again_of: row.again_of,
        allowed_by: row.allowed_by,
        held: row.held,
        changes_pipeline: Vec::new(),
        jobs: None,
        numbers: Default::default(),
        uncached: Vec::new(),
        logs_dropped_at: None,
        time: None,
        diagnostics,
    }
}

fn event_of(word: &str) -> Event {
    Event::ALL.into_iter().find(|event| event.word() == word).unwrap_or_default()
}

/// One run with its jobs, each with why it is as it is.
pub(crate) async fn whole_run(app: &App, row: RunRow) -> Result<RunView, ApiError> {
    let id = row.id;
    let plan = app.plan_of(id).await?;
    let whys = app.keeper.snapshot().await?.whys(id);
    let project = app.records.project(&row.project).await?.map(|project| project.id);
    let usual = async {
        let Some(project) = project else { return Ok(HashMap::new()) };
        app.records.usual(project, &row.pipeline).await
    };
    // Side by side: of a large run each of them takes a while.
    let (jobs, attempts, usual) = tokio::try_join!(app.records.jobs(id), app.records.attempts(id), usual)?;
    let whys = match (whys, &plan) {
        (Some(whys), _) => whys,
        (None, Some(plan)) => left_whys(plan, &jobs, &row)?,
        (None, None) => Vec::new(),
    };
    let mut view = run_views(app, vec![row]).await?.remove(0);
    let Some(plan) = plan else { return Ok(RunView { jobs: Some(Vec::new()), ..view }) };
    let changed = plan.occasion.changed.iter().flatten();
    view.changes_pipeline = changed.filter(|path| pipeline_of(path).is_some()).cloned().collect();
    if view.held && !view.changes_pipeline.is_empty() {
        view.sentence = format!("{}; it changes {}", view.sentence, view.changes_pipeline.join(", "));
    }
    let whys = match project {
        Some(project) => with_gates(app, project, id, &plan, &jobs, whys).await?,
        None => whys,
    };
    view.logs_dropped_at = app.records.logs_dropped(id).await?.map(moment);
    view.time = Some(time(&plan, &attempts));
    view.numbers = values(&sums(jobs.iter().map(|job| numbers_of(&job.numbers))));
    let jobs = job_views(&plan, jobs, attempts, &whys, &usual);
    view.uncached = uncached(&jobs);
    view.jobs = Some(jobs);
    Ok(view)
}

/// Caches that the newest attempts could not save or use.
fn uncached(jobs: &[JobView]) -> Vec<UncachedView> {
    let newest = jobs.iter().filter_map(|job| Some((job, job.attempts.last()?)));
    let caches = newest.flat_map(|(job, attempt)| attempt.caches.iter().map(move |cache| (job, cache)));
    let told = |(job, cache): (&JobView, &'_ CacheUse)| {
        let (job, key) = (job.id.clone(), cache.key.clone());
        cache.trouble().map(|why| UncachedView { job: job.clone(), key: key.clone(), why: why.to_owned() }).collect::<Vec<_>>()
    };
    caches.flat_map(told).collect()
}

/// Why jobs of a run that has its verdict have not ended: nobody has started what starts by hand.
fn left_whys(plan: &Arc<Plan>, jobs: &[JobRow], row: &RunRow) -> Result<Vec<Option<String>>, StoreError> {
    if jobs.iter().all(|job| state_of(&job.state).is_end()) {
        return Ok(Vec::new());
    }
    if row.held {
        return Ok(vec![Some("its run comes from outside, and waits for someone to allow it".to_owned()); jobs.len()]);
    }
    let states = jobs.iter().cloned().map(JobRow::restore).collect::<Result<Vec<_>, _>>()?;
    let run = Run::restore(plan.clone(), states, state_of(&row.state));
    let name = format!("{}/{}", row.project, row.number);
    let why = |job| why_job(&run, job, &name, &clock::words, || "about to be taken".to_owned());
    Ok((0..jobs.len()).map(why).collect())
}

/// Says of jobs behind a shut gate in which run each number last held.
async fn with_gates(
    app: &App,
    project_id: i64,
    run: i64,
    plan: &Plan,
    jobs: &[JobRow],
    mut whys: Vec<Option<String>>,
) -> Result<Vec<Option<String>>, StoreError> {
    let numbers = sums(jobs.iter().map(|job| numbers_of(&job.numbers)));
    for (at, why) in whys.iter_mut().enumerate() {
        let shut = jobs.get(at).is_some_and(|job| job.state == State::Gated.word());
        let gate = &plan.stages[plan.jobs[at].stage].gate;
        let Some(rule) = gate.iter().find(|rule| shut && why_shut(rule, &numbers).is_some()) else { continue };
        let Some(bound) = Bound::parse(&rule.wants) else { continue };
        let before = app.records.number_before(project_id, &plan.pipeline, &rule.number, run).await?;
        let held = before.iter().find(|(_, value)| bound.holds(*value));
        let project = plan.occasion.project.as_deref().unwrap_or_default();
        let since = match held {
            Some((number, _)) => format!("; it last held in {project}/{number}"),
            None if before.is_empty() => String::new(),
            None => format!("; it held in none of the last {} runs", before.len()),
        };
        *why = why.take().map(|why| format!("{why}{since}"));
    }
    Ok(whys)
}

/// What made the run as long as it is: attempts that still go on count up to now.
fn time(plan: &Plan, attempts: &[AttemptRow]) -> TimeView {
    let now = clock::now();
    let mut took = vec![0; plan.jobs.len()];
    let mut ended = vec![None; plan.jobs.len()];
    for row in attempts {
        let Some(job) = usize::try_from(row.job).ok().filter(|job| *job < took.len()) else { continue };
        let end = row.ended_at.unwrap_or(now);
        took[job] += end - row.started_at;
        ended[job] = ended[job].max(Some(end));
    }
    let paths = Paths::new(plan);
    TimeView {
        critical: paths.critical(|job| ended[job]).into_iter().map(|job| plan.jobs[job].id.clone()).collect(),
        unlimited_ms: paths.unlimited(|job| took[job]),
        runner_ms: took.iter().sum(),
    }
}

fn job_views(
    plan: &Plan,
    jobs: Vec<JobRow>,
    attempts: Vec<AttemptRow>,
    whys: &[Option<String>],
    usual: &HashMap<String, i64>,
) -> Vec<JobView> {
    let mut by_job: HashMap<i64, Vec<AttemptView>> = HashMap::new();
    for row in attempts {
        by_job.entry(row.job).or_default().push(attempt_view(row));
    }
    let view = |(job, row): (&ordotaxis_core::plan::PlannedJob, JobRow)| {
        let state = state_of(&row.state);
        let live = usize::try_from(row.number).ok().and_then(|number| whys.get(number)).cloned().flatten();
        JobView {
            id: job.id.clone(),
            stage: plan.stages[job.stage].name.clone(),
            state,
            why: if state.is_end() { row.why } else { live.or(row.why) },
            may_fail: job.may_fail,
            by_hand: job.extras.as_ref().is_some_and(|extras| extras.by_hand),
            deploys: usize::try_from(row.number).ok().and_then(|number| plan.environment(number)),
            started_by: row.started_by,
            inputs: row.inputs.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default(),
            usual_ms: usual.get(job.id.as_str()).copied(),
            since: moment(row.since),
            facts: row.facts.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default(),
            numbers: values(&numbers_of(&row.numbers)),
            reused_from: row.reused_from,
            not_reused: row.not_reused,
            attempts: by_job.remove(&row.number).unwrap_or_default(),
        }
    };
    plan.jobs.iter().zip(jobs).map(view).collect()
}

fn numbers_of(text: &Option<String>) -> Numbers {
    text.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default()
}

fn values(numbers: &Numbers) -> BTreeMap<String, f64> {
    numbers.iter().filter_map(|(name, number)| Some((name.clone(), number.value()?))).collect()
}

fn attempt_view(row: AttemptRow) -> AttemptView {
    AttemptView {
        number: row.number,
        runner: row.runner,
        state: state_of(&row.state),
        why: row.why,
        exit_code: row.exit_code,
        started_at: moment(row.started_at),
        ended_at: row.ended_at.map(moment),
        phases: serde_json::from_str(&row.phases).unwrap_or_default(),
        caches: serde_json::from_str(&row.caches).unwrap_or_default(),
    }
}
