//! Works off occasions: fetch, read the pipelines at the commit, plan, write the run down. A mistake in the file is a
//! verdict too: a run that failed, with the diagnostics.
//!
//! - `complete`: what git knows of an occasion: the commit it means, its message, what changed;
//! - `files`: the pipelines of a commit, in the repository or kept by the service, and what they borrow;
//! - `begin`: the run written down;
//! - `rules`: schedules and listeners, as the main branch says.

mod begin;
mod complete;
mod files;
mod rules;

pub(crate) use begin::{Begun, HELD, allow, begin, begin_again};
pub(crate) use complete::{Complete, complete};
pub use files::lend_from;
pub(crate) use files::{PipelineFile, lend_known, path_of, pipeline_files};
pub(crate) use rules::{schedules, take_over};

use crate::app::App;
use crate::clock;
use ordotaxis_core::plan::Occasion;
use ordotaxis_git::GitError;
use ordotaxis_store::{DueOccasion, Project, StoreError};
use std::time::Duration;

#[derive(Debug, thiserror::Error)]
pub(crate) enum OccasionError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
    #[error("the repository has no branch {0}")]
    NoBranch(String),
    #[error("it does not merge into {target}: both changed {}", paths.join(", "))]
    Conflict { target: String, paths: Vec<String> },
}

impl OccasionError {
    /// Whether it may be otherwise in a moment.
    fn passes(&self) -> bool {
        !matches!(self, OccasionError::Conflict { .. })
    }
}

/// Works until told to stop. A project's occasions are worked off in the order they came; projects side by side.
pub(crate) async fn work(app: App) {
    loop {
        let pause = match app.records.due_occasions(clock::now()).await {
            Ok(due) if due.is_empty() => next_pause(&app).await,
            Ok(due) => {
                work_off(&app, due).await;
                continue;
            }
            Err(error) => {
                tracing::error!(%error, "occasions could not be read");
                Duration::from_secs(1)
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.occasions.notified() => {}
            () = tokio::time::sleep(pause) => {}
        }
    }
}

async fn next_pause(app: &App) -> Duration {
    let next = app.records.next_occasion_at().await.ok().flatten();
    let wait = next.map_or(60_000, |at| (at - clock::now()).clamp(1, 60_000));
    Duration::from_millis(wait.unsigned_abs())
}

async fn work_off(app: &App, due: Vec<DueOccasion>) {
    let mut projects: std::collections::BTreeMap<i64, Vec<DueOccasion>> = std::collections::BTreeMap::new();
    for occasion in due {
        projects.entry(occasion.project_id).or_default().push(occasion);
    }
    let mut tasks = tokio::task::JoinSet::new();
    for occasions in projects.into_values() {
        let app = app.clone();
        tasks.spawn(async move {
            for occasion in occasions {
                if let Err(error) = work_off_one(&app, &occasion).await {
                    tracing::error!(%error, occasion = occasion.id, "an occasion could not be worked off");
                }
            }
        });
    }
    while tasks.join_next().await.is_some() {}
}

async fn work_off_one(app: &App, due: &DueOccasion) -> Result<(), StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(()) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&due.body) else {
        return app.records.occasion_done(due.id, "it could not be read", clock::now()).await;
    };
    match begin_all(app, &project, &occasion).await {
        Ok(said) => app.records.occasion_done(due.id, &said, clock::now()).await,
        Err(OccasionError::Store(error)) => Err(error),
        Err(error) if error.passes() && due.tries + 1 < i64::from(app.settings.fetch_tries) => {
            let pause = app.settings.retry_pause.as_millis() << due.tries.clamp(0, 10);
            let next = clock::now() + i64::try_from(pause).unwrap_or(60_000);
            app.records.occasion_again(due.id, &error.to_string(), next).await
        }
        Err(error) => {
            let why = if error.passes() { format!("{error} (tried {} times)", due.tries + 1) } else { error.to_string() };
            begin::unreadable(app, &project, &occasion, &why).await?;
            app.records.occasion_done(due.id, &why, clock::now()).await
        }
    }
}

/// Begins every pipeline of the commit that this occasion starts. Says in words what came of it.
async fn begin_all(app: &App, project: &Project, occasion: &Occasion) -> Result<String, OccasionError> {
    if crate::secrets::from_outside(occasion) && project.outside == "never" {
        return Ok("from outside; the project takes none".to_owned());
    }
    let mirror = app.mirror(project);
    let known = complete(&mirror, project, occasion).await?;
    let files = pipeline_files(app, project, &mirror, &known.occasion.commit).await?;
    if files.is_empty() {
        let run = begin::without_file(app, project, &known).await?;
        return Ok(format!("no pipeline file; {}", run.map_or("known already".into(), |run| format!("run {}", run.number))));
    }
    rules::follow_main(app, project, &known.occasion, &files).await?;
    let mut said = Vec::new();
    for file in files.iter().filter(|file| occasion.meant.as_ref().is_none_or(|meant| *meant == file.name)) {
        if let Begun::Run(run) = begin(app, project, &known, file).await? {
            said.push(format!("run {}", run.number));
        }
    }
    Ok(if said.is_empty() { "nothing to start".into() } else { said.join(", ") })
}
