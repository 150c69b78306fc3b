//! A run made from an earlier run: some of its jobs are done once more with what that made, and nothing is built. So what is put
//! somewhere is what was tested.

use super::begin::of;
use crate::app::App;
use crate::clock;
use crate::events;
use crate::keeper::RunCommand;
use crate::sentence::{Summary, sentence};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::engine::{JobState, Run, State};
use ordotaxis_core::plan::{Carry, Cause, Occasion, Plan, Ref, carry};
use ordotaxis_store::{Entry, JobRow, NewRunRow, Project, RunKey, RunRow, StoreError, StoredRun};
use std::sync::Arc;

/// Why no such run is made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotCarried {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    No(String),
}

/// What is asked for.
pub(crate) struct Wanted<'a> {
    /// The earlier run.
    pub(crate) from: &'a RunRow,
    pub(crate) environment: &'a str,
    pub(crate) way: Carry,
    /// Only this job of the run; otherwise all that deploy there, or that close it.
    pub(crate) job: Option<usize>,
}

impl Wanted<'_> {
    fn run(&self) -> String {
        format!("{}/{}", self.from.project, self.from.number)
    }
}

/// An earlier run as it is now.
struct Before {
    stored: StoredRun,
    /// With the plan of the first run of its line, and for each job what became of it in the newest that did it.
    run: Run,
    /// For each job whether it ended well in the earlier run itself, or was carried over into it.
    well: Vec<bool>,
}

/// A run made from one that was made from another: so far back it is looked for the first.
const LINE: usize = 100;

/// Begins it, and gives its key.
pub(crate) async fn begin_carried(app: &App, actor: &Actor, project: &Project, wanted: &Wanted<'_>) -> Result<RunKey, NotCarried> {
    let before = before(app, wanted).await?;
    let jobs = jobs(&before.run, wanted)?;
    let well: Vec<bool> = before.well.iter().enumerate().map(|(job, well)| *well && !jobs.contains(&job)).collect();
    all_kept(app, &before.run, &jobs, &well, wanted).await?;
    let on = match (&wanted.from.tag, &wanted.from.branch) {
        (Some(tag), _) => Some(Ref::Tag(tag.clone())),
        (None, branch) => branch.clone().map(Ref::Branch),
    };
    let outside = before.run.plan().occasion.is_from_outside();
    let cause = Cause::Carried { way: wanted.way, outside, of: wanted.run(), environment: wanted.environment.to_owned(), on };
    let occasion = Occasion { by: Some(actor.name().to_owned()), ..Occasion::new(cause) };
    let plan = carry(before.run.plan(), &jobs, &well, occasion);
    let carried = (0i64..).zip(&well).filter(|(_, well)| **well).map(|(job, _)| job).collect::<Vec<i64>>();
    let key = written(app, actor, project, wanted, &before.stored, &plan, &carried).await?;
    // A keeper that is away is about to stop; the run is on disk and begins at the next start.
    let _ = app.keeper.tell(RunCommand::BringIn { run: key.id }).await;
    Ok(key)
}

fn is_well(state: State) -> bool {
    matches!(state, State::Passed | State::Reused)
}

async fn before(app: &App, wanted: &Wanted<'_>) -> Result<Before, NotCarried> {
    let unplanned = || NotCarried::No(format!("{} was never planned, or cannot be read back", wanted.run()));
    let stored = app.records.stored_run(wanted.from.id).await?.ok_or_else(unplanned)?;
    let mut plan = app.plan_of(wanted.from.id).await?.ok_or_else(unplanned)?;
    let mut states = states(app, wanted.from.id).await?;
    let well = states.iter().map(|job| is_well(job.state())).collect();
    for _ in 0..LINE {
        let Some((name, _)) = plan.occasion.carried_from() else { break };
        let Some(before) = named(app, name).await? else { return Err(unplanned()) };
        plan = app.plan_of(before.id).await?.ok_or_else(unplanned)?;
        // What was left out there is as it was before.
        for (state, older) in states.iter_mut().zip(self::states(app, before.id).await?) {
            if state.state() == State::Skipped {
                *state = older;
            }
        }
    }
    // What is only offered goes nowhere from there, but away.
    if wanted.way != Carry::Away && plan.occasion.branch().is_none() && plan.occasion.tag_name().is_none() {
        let what = plan.occasion.words();
        return Err(NotCarried::No(format!("{} is of {what}: only what is in a branch or a tag goes on from there", wanted.run())));
    }
    let run = Run::restore(Arc::clone(&plan), states, State::from_word(&wanted.from.state).unwrap_or(State::Failed));
    Ok(Before { stored, run, well })
}

async fn states(app: &App, run: i64) -> Result<Vec<JobState>, StoreError> {
    app.records.jobs(run).await?.into_iter().map(JobRow::restore).collect()
}

/// A run by `PROJECT/NUMBER`.
async fn named(app: &App, name: &str) -> Result<Option<RunRow>, StoreError> {
    match name.rsplit_once('/').and_then(|(project, number)| Some((project, number.parse().ok()?))) {
        Some((project, number)) => app.records.run(project, number).await,
        None => Ok(None),
    }
}

/// The jobs that are done.
fn jobs(run: &Run, wanted: &Wanted<'_>) -> Result<Vec<usize>, NotCarried> {
    if let Some(job) = wanted.job {
        return Ok(vec![job]);
    }
    let away = wanted.way == Carry::Away;
    let there = |job: &usize| run.environment(*job).is_some_and(|name| name.as_deref() == Ok(wanted.environment));
    let goes_there = |job: &usize| run.plan().closes(*job) == away && there(job);
    let jobs: Vec<usize> = (0..run.jobs().len()).filter(goes_there).collect();
    if jobs.is_empty() {
        let does = if away { "closes" } else { "deploys to" };
        return Err(NotCarried::No(format!("{} has no job that {does} {}", wanted.run(), wanted.environment)));
    }
    if away {
        return Ok(jobs);
    }
    match jobs.iter().find(|job| !run.was_ready(**job)) {
        Some(job) => {
            let id = &run.plan().jobs[*job].id;
            Err(NotCarried::No(format!("{} {id} is not ready there: what comes before it has not ended well", wanted.run())))
        }
        None => Ok(jobs),
    }
}

/// Everything that these jobs take is still there. Nothing is built anew in its place.
async fn all_kept(app: &App, run: &Run, jobs: &[usize], well: &[bool], wanted: &Wanted<'_>) -> Result<(), NotCarried> {
    let kept = app.records.artifacts(wanted.from.id).await?;
    let plan = run.plan();
    for take in jobs.iter().flat_map(|job| &plan.jobs[*job].takes) {
        for (from, well) in well.iter().enumerate().skip(take.job).take(take.cells) {
            let there = kept.iter().any(|row| usize::try_from(row.job) == Ok(from) && row.name == take.artifact && row.tree.is_some());
            if !there || !well {
                let artifact = format!("{}/{}", plan.jobs[from].id, take.artifact);
                let why = "it was kept for its time and then swept away; start a run of that commit anew";
                return Err(NotCarried::No(format!("the artifact {artifact} of {} is not there any more: {why}", wanted.run())));
            }
        }
    }
    Ok(())
}

async fn written(
    app: &App,
    actor: &Actor,
    project: &Project,
    wanted: &Wanted<'_>,
    stored: &StoredRun,
    plan: &Plan,
    carried: &[i64],
) -> Result<RunKey, NotCarried> {
    let from = wanted.from;
    let row = NewRunRow {
        project_id: project.id,
        pipeline: &from.pipeline,
        title: from.title.as_deref(),
        state: State::Waiting,
        why: None,
        commit_id: &from.commit_id,
        commit_title: &from.commit_title,
        commit_author: &from.commit_author,
        commit_time: stored.commit_time,
        branch: from.branch.as_deref(),
        tag: from.tag.as_deref(),
        target: None,
        proposal: None,
        trial: None,
        merged: None,
        event: plan.occasion.event().word(),
        started_by: plan.occasion.by.as_deref(),
        plan: Some(plan),
        diagnostics: None,
        shared: stored.shared.as_deref(),
        inputs: stored.inputs.as_deref(),
        held: false,
        unread: None,
        behind: None,
    };
    let summary = Summary { jobs: i64::try_from(plan.jobs.len()).unwrap_or(i64::MAX), ..Summary::default() };
    let words = sentence(State::Waiting, &summary, None, None);
    let mut tx = app.records.tx(actor, clock::now()).await?;
    let known = || NotCarried::No("that is being done already".to_owned());
    let key = tx.begin_run(&row).await?.ok_or_else(known)?;
    tx.carry_over(key.id, (from.id, &wanted.run()), wanted.environment, carried).await?;
    let of = of(project, &key, &from.pipeline, from.branch.as_deref(), &from.commit_id);
    tx.add_events(&[events::of_run(&of, State::Waiting, &words, None, None)]).await?;
    let action = match wanted.way {
        Carry::On => Action::Promote,
        Carry::Back => Action::RollBack,
        Carry::Away => Action::CloseEnvironment,
    };
    let after = serde_json::json!({ "run": format!("{}/{}", project.name, key.number), "from": wanted.run() });
    tx.note(Entry::new(action, format!("environment {}", wanted.environment)).of(&project.name).after(after));
    tx.commit().await?;
    Ok(key)
}
