//! Why a trial failed: by chance, by itself, or because of what is ahead of it.

use super::change::queue_of;
use crate::app::App;
use ordotaxis_core::engine::State;
use ordotaxis_core::landing::{Event, Queue};
use ordotaxis_core::report::CaseEnd;
use ordotaxis_store::{JobRow, Project, ResultRow, StoreError, TrialRun};
use std::collections::{HashMap, HashSet};

/// How many runs are searched for tests that turn by themselves.
const FLAKY_RUNS: i64 = 200;

fn is_bad(state: State) -> bool {
    matches!(state, State::Failed | State::Lost)
}

/// Whether all that failed in a run are tests that turned by themselves before.
pub(super) async fn is_flaky(app: &App, project: &Project, run: &TrialRun) -> Result<bool, StoreError> {
    if run.state != State::Failed.word() {
        return Ok(false);
    }
    let failed = app.records.results(run.id, None).await?.into_iter().filter(|case| case.ended == CaseEnd::Failed.word());
    let failed: Vec<ResultRow> = failed.collect();
    let jobs: HashSet<i64> = failed.iter().map(|case| case.job_number).collect();
    let bad = |job: &JobRow| State::from_word(&job.state).is_some_and(is_bad);
    let explained = app.records.jobs(run.id).await?.iter().filter(|job| bad(job)).all(|job| jobs.contains(&job.number));
    if failed.is_empty() || !explained {
        return Ok(false);
    }
    let known = app.records.flaky_tests(project.id, FLAKY_RUNS).await?;
    let is_known =
        |case: &ResultRow| known.iter().any(|flaky| (&flaky.job, &flaky.suite, &flaky.name) == (&case.job, &case.suite, &case.name));
    Ok(failed.iter().all(is_known))
}

/// Whether all that failed in a run of a trial has passed in the trial that it was put on top of: what is ahead of it is not
/// the reason.
pub(super) async fn is_own(app: &App, project: &Project, branch: &str, trial: u64, run: &TrialRun) -> Result<bool, StoreError> {
    let Some(queue) = queue_of(&app.records, project.id, branch).await? else { return Ok(false) };
    match queue.trials().iter().find(|known| known.number == trial) {
        Some(known) => passes_on(app, project, branch, &queue, &known.on, run).await,
        None => Ok(false),
    }
}

/// What is known by now to have failed by itself, since what is ahead of it went on.
pub(super) async fn cleared(app: &App, project: &Project, branch: &str, queue: &Queue) -> Result<Vec<Event>, StoreError> {
    let mut events = Vec::new();
    for (trial, on) in queue.unclear() {
        let runs = app.records.trial_runs(project.id, branch, trial).await?;
        let failed = runs.iter().find(|run| run.state == State::Failed.word() || run.state == State::Lost.word());
        if let Some(run) = failed
            && passes_on(app, project, branch, queue, on, run).await?
        {
            events.push(Event::Cleared { trial });
        }
    }
    Ok(events)
}

/// Whether all jobs that failed in a run have passed in the trial that made a commit.
async fn passes_on(app: &App, project: &Project, branch: &str, queue: &Queue, on: &str, run: &TrialRun) -> Result<bool, StoreError> {
    let Some(below) = queue.trials().iter().find(|known| known.commit().is_some_and(|commit| commit == on)) else { return Ok(false) };
    let below = app.records.trial_runs(project.id, branch, below.number).await?;
    let Some(below) = below.iter().find(|other| other.pipeline == run.pipeline) else { return Ok(false) };
    let (ours, theirs) = (states(app, run.id).await?, states(app, below.id).await?);
    let mut bad = ours.iter().filter(|(_, state)| is_bad(**state)).peekable();
    Ok(bad.peek().is_some() && bad.all(|(job, _)| matches!(theirs.get(job), Some(State::Passed | State::Reused))))
}

/// The jobs of a run with their states, by their names.
async fn states(app: &App, run: i64) -> Result<HashMap<String, State>, StoreError> {
    let Some(plan) = app.plan_of(run).await? else { return Ok(HashMap::new()) };
    let named = |job: JobRow| {
        let id = &plan.jobs.get(usize::try_from(job.number).ok()?)?.id;
        Some((id.to_string(), State::from_word(&job.state)?))
    };
    Ok(app.records.jobs(run).await?.into_iter().filter_map(named).collect())
}
