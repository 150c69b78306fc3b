//! One pipeline of one commit: planned and written down as a run, or as a verdict that it cannot be run.

use super::files::{ROOT_FILE, fetch_borrowed};
use super::{Complete, OccasionError, PipelineFile, order};
use crate::app::App;
use crate::events::Of;
use crate::keeper::{Inputs, RunCommand, RunInfo, Shared, globs_of, ready};
use crate::sentence::{HELD, Summary, sentence};
use crate::{clock, events};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::digest::fitting;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::{Code, Diagnostic, Severity};
use ordotaxis_core::plan::{Event, Occasion, Plan, Planned, Source, plan, starts};
use ordotaxis_git::CommitInfo;
use ordotaxis_store::{Entry, NewRunRow, Project, RunKey, RunRow, StoreError, Tx};
use ordotaxis_wire::plan::{DiagnosticView, diagnostic_views};
use std::collections::BTreeSet;
use std::sync::Arc;

/// What happened to one pipeline of an occasion.
pub(crate) enum Begun {
    Run(RunKey),
    /// The same commit and pipeline have a run already.
    Known,
    /// No start rule wants it.
    Unwanted,
}

impl From<Option<RunKey>> for Begun {
    fn from(key: Option<RunKey>) -> Begun {
        key.map_or(Begun::Known, Begun::Run)
    }
}

/// Begins one pipeline, if its start rules want that; with mistakes in its file, the run is a failed one at once.
pub(crate) async fn begin(
    app: &App,
    actor: &Actor,
    project: &Project,
    known: &Complete,
    file: &PipelineFile,
) -> Result<Begun, OccasionError> {
    let (borrowed, moved) = fetch_borrowed(app, project, file).await?;
    let views = |diagnostics: &[Diagnostic]| diagnostic_views(&file.path, &file.text, diagnostics);
    match plan(Source { text: &file.text, name: &file.name, borrowed: &borrowed }, &known.occasion) {
        Err(diagnostics) => {
            let errors: Vec<Diagnostic> = diagnostics.into_iter().filter(|found| found.severity == Severity::Error).collect();
            Ok(broken(app, actor, project, known, &file.name, &views(&errors)).await?.into())
        }
        Ok(planned) if !starts(&planned.starts, &known.occasion) || goes_round(project, known, file) => Ok(Begun::Unwanted),
        Ok(planned) => Ok(run(app, actor, project, known, planned, &views(&moved)).await?.into()),
    }
}

/// The plan that a pipeline would have, with nothing begun; else what is wrong with its file.
pub(crate) async fn planned_by_hand(
    app: &App,
    project: &Project,
    known: &Complete,
    file: &PipelineFile,
) -> Result<Result<Plan, Vec<DiagnosticView>>, OccasionError> {
    let (borrowed, _) = fetch_borrowed(app, project, file).await?;
    let source = Source { text: &file.text, name: &file.name, borrowed: &borrowed };
    let planned = plan(source, &known.occasion).map_err(|found| diagnostic_views(&file.path, &file.text, &found));
    Ok(planned.map(|planned| planned.plan))
}

/// Pipelines that start each other by passing would never end.
fn goes_round(project: &Project, known: &Complete, file: &PipelineFile) -> bool {
    known.occasion.led_by.contains(&format!("{}/{}", project.name, file.name))
}

async fn run(
    app: &App,
    actor: &Actor,
    project: &Project,
    known: &Complete,
    planned: Planned,
    told: &[DiagnosticView],
) -> Result<Option<RunKey>, OccasionError> {
    let plan = if app.settings.rehearsal.is_some() { planned.plan.without_rests() } else { planned.plan };
    let title = plan.title.clone();
    let merged = known.merge.as_ref().and_then(|merge| serde_json::to_string(merge).ok());
    let told = if told.is_empty() { None } else { serde_json::to_string(told).ok() };
    let shared = shared(app, project, &plan).await?;
    let inputs = inputs(app, project, &plan, &known.commit.id).await?;
    let inputs_json = if inputs.is_empty() { None } else { serde_json::to_string(&inputs).ok() };
    let shared_json = if shared.is_empty() { None } else { serde_json::to_string(&shared).ok() };
    // Who asks to land something has seen it.
    let outside = known.occasion.is_from_outside() && known.occasion.trial().is_none();
    let held = outside && project.outside == "ask";
    let behind = match &known.newer {
        Some(_) if plan.keeps_older => Some(String::new()),
        Some(_) => Some(order::overtaken_by(app, project, &plan.pipeline, known).await?),
        None => None,
    };
    let row = NewRunRow {
        held,
        behind: behind.as_deref(),
        shared: shared_json.as_deref(),
        inputs: inputs_json.as_deref(),
        title: title.as_deref(),
        plan: Some(&plan),
        diagnostics: told.as_deref(),
        merged: merged.as_deref(),
        ..blank(project, &known.occasion, &known.commit, &plan.pipeline)
    };
    let jobs = i64::try_from(plan.jobs.len()).unwrap_or(i64::MAX);
    let summary = Summary { jobs, ..Summary::default() };
    let words = if held { HELD.to_owned() } else { sentence(State::Waiting, &summary, None, None) };
    let Some(key) = written(app, actor, project, &row, &known.told_on, &words).await? else { return Ok(None) };
    match behind.as_deref() {
        None if outside => overtake_held(app, project, &plan, &key).await?,
        Some(by) if held && !by.is_empty() => end_overtaken(app, project, key.id, by).await?,
        _ => {}
    }
    if held {
        return Ok(Some(key));
    }
    begin_stored(app, project, key.id, Some(plan), false).await?;
    Ok(Some(key))
}

/// Writes a run down: its row, its jobs, that it was begun, and by whom.
async fn written(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: &NewRunRow<'_>,
    told_on: &str,
    sentence: &str,
) -> Result<Option<RunKey>, StoreError> {
    let now = clock::now();
    let mut tx = app.records.tx(actor, now).await?;
    let Some(key) = tx.begin_run(row).await? else { return Ok(None) };
    let ended = row.state.is_end().then_some(now);
    let of = of(project, &key, row.pipeline, row.branch, told_on);
    tx.add_events(&[events::of_run(&of, row.state, sentence, ended, ended)]).await?;
    let after = serde_json::json!({ "pipeline": row.pipeline, "commit": row.commit_id, "event": row.event });
    tx.note(Entry::new(Action::StartRun, format!("{}/{}", project.name, key.number)).of(&project.name).after(after));
    tx.commit().await?;
    Ok(Some(key))
}

pub(super) fn of<'a>(project: &'a Project, key: &RunKey, pipeline: &'a str, branch: Option<&'a str>, told_on: &'a str) -> Of<'a> {
    Of { id: key.id, project_id: project.id, project: &project.name, number: key.number, pipeline, branch, told_on }
}

/// Digests of the files that jobs with `reuse` name, each list of globs once. Read off the commit: no runner is needed.
async fn inputs(app: &App, project: &Project, plan: &Plan, commit: &str) -> Result<Inputs, OccasionError> {
    let wanted: BTreeSet<String> = plan.jobs.iter().filter_map(globs_of).collect();
    if wanted.is_empty() {
        return Ok(Inputs::new());
    }
    let files = app.mirror(project).digests(commit).await?;
    Ok(wanted.into_iter().map(|globs| (globs.clone(), fitting(&globs.split('\n').collect::<Vec<_>>(), &files))).collect())
}

/// How long test files took so far, for jobs that share them out: as it is known now, so that all copies share alike.
async fn shared(app: &App, project: &Project, plan: &Plan) -> Result<Shared, OccasionError> {
    let mut shared = Shared::new();
    for job in plan.jobs.iter().filter(|job| job.extras.as_ref().is_some_and(|extras| extras.split.is_some())) {
        let name = job.id.without_cell();
        if !shared.contains_key(name) {
            shared.insert(name.to_owned(), app.records.usual_tests(project.id, &plan.pipeline, name).await?);
        }
    }
    Ok(shared)
}

/// A run of the same commit and plan once more. None where there is no plan.
pub(crate) async fn begin_again(
    app: &App,
    actor: &Actor,
    project: &Project,
    before: &RunRow,
    fresh: bool,
) -> Result<Option<RunKey>, StoreError> {
    let Some(stored) = app.records.stored_run(before.id).await? else { return Ok(None) };
    let info = RunInfo::of(project, &stored, fresh);
    let plan: Plan = serde_json::from_str(&stored.plan).map_err(|_| StoreError::Value("runs.plan"))?;
    let summary = Summary { jobs: i64::try_from(plan.jobs.len()).unwrap_or(i64::MAX), ..Summary::default() };
    let words = sentence(State::Waiting, &summary, None, None);
    let mut tx = app.records.tx(actor, clock::now()).await?;
    let Some(key) = tx.begin_again(before.id, actor.name(), fresh).await? else { return Ok(None) };
    let of = of(project, &key, &plan.pipeline, info.branch.as_deref(), &info.told_on);
    tx.add_events(&[events::of_run(&of, State::Waiting, &words, None, None)]).await?;
    let after = serde_json::json!({ "again_of": before.number, "fresh": fresh });
    tx.note(Entry::new(Action::RunAgain, format!("{}/{}", project.name, key.number)).of(&project.name).after(after));
    tx.commit().await?;
    begin_stored(app, project, key.id, Some(plan), fresh).await?;
    Ok(Some(key))
}

/// A run that is written down begins. False where it was never planned.
async fn begin_stored(app: &App, project: &Project, id: i64, plan: Option<Plan>, fresh: bool) -> Result<bool, StoreError> {
    let Some(stored) = app.records.stored_run(id).await? else { return Ok(false) };
    let plan = match plan {
        Some(plan) => plan,
        None => serde_json::from_str(&stored.plan).map_err(|_| StoreError::Value("runs.plan"))?,
    };
    let usual = app.records.usual(project.id, &plan.pipeline).await?;
    let info = RunInfo::of(project, &stored, fresh);
    let ready = ready(&app.records, &info, &plan).await?;
    // A keeper that is away is about to stop; the run is on disk and begins at the next start.
    let _ = app.keeper.tell(RunCommand::Begin { info: Box::new(info), plan: Arc::new(plan), usual, ready, carried: None }).await;
    Ok(true)
}

/// A run that waits for someone to allow it goes on. False when it does not wait (any more).
pub(crate) async fn allow(app: &App, actor: &Actor, project: &Project, run: &RunRow) -> Result<bool, StoreError> {
    let mut tx = app.records.tx(actor, clock::now()).await?;
    if !tx.allow_run(run.id, actor.name()).await? {
        return Ok(false);
    }
    let after = serde_json::json!({ "commit": run.commit_id });
    tx.note(Entry::new(Action::AllowRun, format!("{}/{}", project.name, run.number)).of(&project.name).after(after));
    tx.commit().await?;
    begin_stored(app, project, run.id, None, false).await
}

/// Ends a run that waits for someone to allow it. False when it does not wait (any more).
pub(crate) async fn end_held(app: &App, actor: &Actor, project: &Project, id: i64, state: State, why: &str) -> Result<bool, StoreError> {
    let Some(stored) = app.records.stored_run(id).await? else { return Ok(false) };
    let info = RunInfo::of(project, &stored, false);
    let plan: Plan = serde_json::from_str(&stored.plan).map_err(|_| StoreError::Value("runs.plan"))?;
    let now = clock::now();
    let mut tx: Tx = app.records.tx(actor, now).await?;
    if !tx.end_held_run(id, state, why).await? {
        return Ok(false);
    }
    tx.add_events(&[events::of_run(&Of::info(&info, &plan.pipeline), state, why, Some(now), Some(now))]).await?;
    tx.note(Entry::new(Action::StopRun, format!("{}/{}", project.name, info.number)).of(&project.name).after(why));
    tx.commit().await?;
    Ok(true)
}

/// Older runs of the same proposal that wait for someone to allow them: nobody need look at them any more.
async fn overtake_held(app: &App, project: &Project, plan: &Plan, key: &RunKey) -> Result<(), StoreError> {
    for held in app.records.held_runs(project.id).await?.into_iter().filter(|held| held.id < key.id) {
        let same = serde_json::from_str::<Plan>(&held.plan).is_ok_and(|other| {
            let (ours, theirs) = (&plan.occasion, &other.occasion);
            other.pipeline == plan.pipeline && theirs.source() == ours.source() && theirs.target() == ours.target()
        });
        if same {
            end_overtaken(app, project, held.id, &format!("{}/{}", project.name, key.number)).await?;
        }
    }
    Ok(())
}

async fn end_overtaken(app: &App, project: &Project, held: i64, by: &str) -> Result<(), StoreError> {
    let why = format!("overtaken by {by}");
    end_held(app, &Actor::rule("overtake"), project, held, State::Overtaken, &why).await.map(drop)
}

/// A commit without any pipeline.
pub(super) async fn without_file(app: &App, actor: &Actor, project: &Project, known: &Complete) -> Result<Option<RunKey>, OccasionError> {
    let diagnostic = Diagnostic::error(Code::MissingFile, 0..0, "the commit has no pipeline file")
        .hint("add `ordotaxis.toml` in the root, or a file in the folder `ordotaxis`");
    broken(app, actor, project, known, "main", &diagnostic_views(ROOT_FILE, "", &[diagnostic])).await
}

/// A run that could not be planned: failed, with the diagnostics as its reason.
async fn broken(
    app: &App,
    actor: &Actor,
    project: &Project,
    known: &Complete,
    name: &str,
    diagnostics: &[DiagnosticView],
) -> Result<Option<RunKey>, OccasionError> {
    let why = mistakes(diagnostics);
    let row = blank(project, &known.occasion, &known.commit, name);
    Ok(ended(app, actor, project, NewRunRow { why: Some(&why), ..row }, &known.told_on, diagnostics).await?)
}

/// A run that is a verdict at once: nothing of it was planned.
async fn ended(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: NewRunRow<'_>,
    told_on: &str,
    diagnostics: &[DiagnosticView],
) -> Result<Option<RunKey>, StoreError> {
    let state = if row.state.is_end() { row.state } else { State::Failed };
    let json = serde_json::to_string(diagnostics).unwrap_or_default();
    let row = NewRunRow { state, diagnostics: Some(&json), ..row };
    let words = sentence(state, &Summary::default(), None, row.why);
    written(app, actor, project, &row, told_on, &words).await
}

/// The commit could not be read: recorded as a run, so that people see it where they look for runs. `again` reads it once more.
pub(super) async fn unreadable(
    app: &App,
    project: &Project,
    occasion: &Occasion,
    arrived: i64,
    error: &OccasionError,
    why: &str,
) -> Result<(), StoreError> {
    let id = occasion.told_on().unwrap_or_default().to_owned();
    let proposal = occasion.event() == Event::Proposal;
    let title = if proposal { "(the proposal could not be merged)" } else { "(the commit could not be read)" };
    let commit = CommitInfo { id: id.clone(), title: title.into(), message: String::new(), author: String::new(), time: 0 };
    let pipeline = if let OccasionError::Lender { pipeline, .. } = error { pipeline } else { "main" };
    let told = blank(project, occasion, &commit, pipeline);
    let row = NewRunRow { state: error.verdict(), why: Some(why), unread: Some(arrived), ..told };
    ended(app, &Actor::rule(occasion.event().word()), project, row, &id, &[]).await.map(drop)
}

/// The reason of a run whose file cannot be planned.
fn mistakes(diagnostics: &[DiagnosticView]) -> String {
    let Some(first) = diagnostics.first() else { return "the pipeline file cannot be run".into() };
    let place = if first.code == Code::MissingFile.word() { String::new() } else { format!("{}:{}: ", first.file, first.line) };
    match diagnostics.len() {
        1 => format!("{place}{}", first.message),
        more => format!("{place}{} (and {} more)", first.message, more - 1),
    }
}

fn blank<'a>(project: &Project, occasion: &'a Occasion, commit: &'a CommitInfo, pipeline: &'a str) -> NewRunRow<'a> {
    NewRunRow {
        project_id: project.id,
        pipeline,
        title: None,
        state: State::Waiting,
        why: None,
        commit_id: &commit.id,
        commit_title: &commit.title,
        commit_author: &commit.author,
        commit_time: commit.time,
        branch: occasion.branch(),
        tag: occasion.tag_name(),
        target: occasion.target(),
        proposal: occasion.proposal_number(),
        trial: occasion.trial().and_then(|trial| i64::try_from(trial).ok()),
        merged: None,
        event: occasion.event().word(),
        started_by: occasion.by.as_deref(),
        plan: None,
        diagnostics: None,
        shared: None,
        inputs: None,
        held: false,
        unread: None,
        behind: None,
    }
}
