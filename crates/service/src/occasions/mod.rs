//! Works off occasions: fetch, read the pipelines at the commit, plan, write the run down. A mistake in the file is a
//! verdict too: a run that failed, with the diagnostics.
//!
//! - `complete`: what git knows of an occasion: the commit it means, its message, what changed;
//! - `files`: the pipelines of a commit, in the repository or kept by the service, and what they borrow;
//! - `begin`: the run written down;
//! - `order`: which commit of a branch is the newest;
//! - `rules`: schedules and listeners, as the main branch says.

mod begin;
mod complete;
mod files;
mod order;
mod rules;

pub(crate) use begin::{Begun, HELD, allow, begin, begin_again};
pub(crate) use complete::{Complete, complete};
pub use files::{NotLent, lend_from};
pub(crate) use files::{PipelineFile, lend_known, path_of, pipeline_files, pipeline_of};
pub(crate) use rules::{schedules, take_over};

use crate::app::App;
use crate::clock;
use crate::lanes::Lanes;
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::Occasion;
use ordotaxis_git::GitError;
use ordotaxis_store::{DueOccasion, Project, RunKey, StoreError};
use std::time::Duration;

#[derive(Debug, thiserror::Error)]
pub(crate) enum OccasionError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("`{borrow}` cannot be borrowed from {git} now: {source}")]
    Lender { pipeline: String, borrow: String, git: String, source: GitError },
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
    #[error("the repository has no branch {0}")]
    NoBranch(String),
    #[error("it does not merge into {target}: both changed {}", paths.join(", "))]
    Conflict { target: String, paths: Vec<String> },
}

/// What is not there is looked for so often: it may be on its way. The project's own repository is tried for much longer.
const A_FEW_TRIES: u32 = 5;
/// How many occasions of one project are worked off at the same time: they build on each other.
const AT_ONCE: usize = 1;
/// The longest pause before the next try.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

impl OccasionError {
    /// How often it is tried, of `most` times: whether it may be otherwise in a moment.
    fn tries(&self, most: u32) -> u32 {
        match self {
            OccasionError::Conflict { .. } => 1,
            // An address that was mistyped looks like a repository that is away: whoever wrote it should not wait for long.
            OccasionError::NoCommit(_) | OccasionError::NoBranch(_) | OccasionError::Lender { .. } => most.min(A_FEW_TRIES),
            OccasionError::Git(_) | OccasionError::Store(_) => most,
        }
    }

    /// What a run says of a commit that could not be read: that nobody could look decides nothing about it.
    fn verdict(&self) -> State {
        match self {
            OccasionError::Git(_) | OccasionError::Lender { .. } | OccasionError::Store(_) => State::Lost,
            OccasionError::NoCommit(_) | OccasionError::NoBranch(_) | OccasionError::Conflict { .. } => State::Failed,
        }
    }
}

/// Works until told to stop. A project's occasions are worked off in the order they came; projects side by side.
pub(crate) async fn work(app: App) {
    let mut lanes = Lanes::new(AT_ONCE);
    loop {
        let now = clock::now();
        let pause = match app.records.due_occasions(now).await {
            Ok(due) => {
                for occasion in due {
                    let (id, project, app) = (occasion.id, occasion.project_id, app.clone());
                    lanes.take(id, project, || async move { work_off(&app, &occasion).await });
                }
                next_pause(&app, now).await
            }
            Err(error) => {
                tracing::error!(%error, "occasions could not be read");
                Duration::from_secs(1)
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.occasions.notified() => {}
            () = lanes.changed() => {}
            () = tokio::time::sleep(pause) => {}
        }
    }
}

async fn next_pause(app: &App, now: i64) -> Duration {
    let next = app.records.next_occasion_at(now).await.ok().flatten();
    let wait = next.map_or(60_000, |at| (at - clock::now()).clamp(1, 60_000));
    Duration::from_millis(wait.unsigned_abs())
}

async fn work_off(app: &App, due: &DueOccasion) -> Result<(), StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(()) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&due.body) else {
        return app.records.occasion_done(due.id, "it could not be read", clock::now()).await;
    };
    match begin_all(app, &project, &occasion, due.id).await {
        Ok(begun) => app.records.occasion_done(due.id, &in_words(&begun), clock::now()).await,
        Err(OccasionError::Store(error)) => Err(error),
        Err(error) if due.tries + 1 < i64::from(error.tries(app.settings.fetch_tries)) => {
            let pause = app.settings.retry_pause.saturating_mul(1 << due.tries.clamp(0, 16)).min(LONGEST_PAUSE);
            let next = clock::now() + i64::try_from(pause.as_millis()).unwrap_or(60_000);
            app.records.occasion_again(due.id, &error.to_string(), next).await
        }
        Err(error) => {
            let tried = if due.tries > 0 { format!(" (tried {} times)", due.tries + 1) } else { String::new() };
            let why = format!("{error}{tried}");
            begin::unreadable(app, &project, &occasion, due.id, &error, &why).await?;
            app.records.occasion_given_up(due.id, &why, clock::now()).await
        }
    }
}

/// What came of an occasion that could be read.
pub(crate) enum Looked {
    /// The project takes nothing from outside.
    NotTaken,
    /// Without a file: the run that says so, if it is new.
    NoFile(Option<RunKey>),
    Begun(Vec<RunKey>),
}

fn in_words(looked: &Looked) -> String {
    match looked {
        Looked::NotTaken => "from outside; the project takes none".into(),
        Looked::NoFile(run) => {
            format!("no pipeline file; {}", run.as_ref().map_or("known already".into(), |run| format!("run {}", run.number)))
        }
        Looked::Begun(runs) if runs.is_empty() => "nothing to start".into(),
        Looked::Begun(runs) => runs.iter().map(|run| format!("run {}", run.number)).collect::<Vec<_>>().join(", "),
    }
}

/// Looks once more, now, at the occasion of a run that says its commit could not be read.
pub(crate) async fn look_again(app: &App, project: &Project, id: i64) -> Result<Option<Looked>, OccasionError> {
    let Some(kept) = app.records.occasion(id).await? else { return Ok(None) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&kept.body) else { return Ok(None) };
    let looked = begin_all(app, project, &occasion, id).await?;
    app.records.occasion_done(id, &in_words(&looked), clock::now()).await?;
    Ok(Some(looked))
}

/// Begins every pipeline of the commit that this occasion, the `arrived`th, starts.
async fn begin_all(app: &App, project: &Project, occasion: &Occasion, arrived: i64) -> Result<Looked, OccasionError> {
    if crate::secrets::from_outside(occasion) && project.outside == "never" {
        return Ok(Looked::NotTaken);
    }
    let mirror = app.mirror(project);
    let mut known = complete(&mirror, project, occasion).await?;
    let files = pipeline_files(app, project, &mirror, &known.occasion.commit).await?;
    known.newer = order::newer(app, project, &mirror, &known, arrived).await?;
    if files.is_empty() {
        return Ok(Looked::NoFile(begin::without_file(app, project, &known).await?));
    }
    if known.newer.is_none() {
        rules::follow_main(app, project, &known.occasion, &files).await?;
    }
    let (mut begun, mut missed) = (Vec::new(), None);
    for file in files.iter().filter(|file| occasion.meant.as_ref().is_none_or(|meant| *meant == file.name)) {
        match begin(app, project, &known, file).await {
            Ok(Begun::Run(run)) => begun.push(run),
            Ok(Begun::Known | Begun::Unwanted) => {}
            // One that cannot be read now keeps no other from beginning.
            Err(error) => missed = missed.or(Some(error)),
        }
    }
    missed.map_or(Ok(Looked::Begun(begun)), Err)
}
