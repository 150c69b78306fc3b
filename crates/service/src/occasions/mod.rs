//! Works off occasions: fetch, read the pipelines at the commit, plan, write the run down. A mistake in the file is a
//! verdict too: a run that failed, with the diagnostics.
//!
//! - `complete`: what git knows of an occasion: the commit it means, its message, what changed;
//! - `files`: the pipelines of a commit, in the repository or kept by the service, and what they borrow;
//! - `begin`: the run written down;
//! - `carried`: a run made from an earlier run;
//! - `order`: which commit of a branch is the newest;
//! - `rules`: schedules and listeners, as the main branch says.

mod begin;
mod carried;
mod complete;
mod error;
mod files;
mod order;
mod rules;

pub(crate) use begin::{Begun, allow, begin, begin_again, end_held, planned_by_hand};
pub(crate) use carried::{NotCarried, Wanted, begin_carried};
pub(crate) use complete::{Complete, complete};
pub(crate) use error::OccasionError;
pub use files::{NotBorrowed, read_borrowed};
pub(crate) use files::{PipelineFile, fetch_missing_borrowed, in_repository, path_of, pipeline_files, pipeline_of};
pub(crate) use rules::{schedules, take_over};

use crate::app::App;
use crate::clock;
use crate::landing::told_of_proposal;
use crate::work::Outcome;
use ordotaxis_core::access::Actor;
use ordotaxis_core::plan::{Cause, Occasion};
use ordotaxis_store::{DueWork, Project, RunKey, StoreError};

/// Begins the runs of an occasion. What cannot be read is tried again; after the last try it is
/// recorded as a run, so that people see it where they look for runs.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&due.body) else {
        return Ok(Outcome::Hopeless("the occasion cannot be read".into()));
    };
    let error = match begin_all(app, &Actor::rule(occasion.event().word()), &project, &occasion, due.id).await {
        Ok(begun) => return Ok(Outcome::Done(Some(in_words(&begun)))),
        Err(OccasionError::Store(error)) => return Err(error),
        Err(error) => error,
    };
    let (tried, tries) = (due.tries + 1, error.tries(app.settings.fetch_tries));
    if tried < i64::from(tries) {
        return Ok(Outcome::Failed { why: error.to_string(), tries, after: None });
    }
    let often = if tried > 1 { format!(" (tried {tried} times)") } else { String::new() };
    let why = format!("{error}{often}");
    begin::unreadable(app, &project, &occasion, due.id, &error, &why).await?;
    Ok(Outcome::Hopeless(why))
}

/// What an occasion led to, once it could be read.
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
pub(crate) async fn look_again(app: &App, actor: &Actor, project: &Project, id: i64) -> Result<Option<Looked>, OccasionError> {
    let Some(kept) = app.records.work(id).await? else { return Ok(None) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&kept.body) else { return Ok(None) };
    let looked = begin_all(app, actor, project, &occasion, id).await?;
    let mut tx = app.records.tx_by_rule("occasion", clock::now()).await?;
    tx.work_done(id, Some(&in_words(&looked))).await?;
    tx.commit().await?;
    Ok(Some(looked))
}

/// A project whose main branch is there, as far as its mirror knows. One that was taken for `main` when nobody could say, or
/// is called otherwise by now, is asked for again.
pub(crate) async fn main_branch_there(app: &App, project: Project) -> Result<Project, OccasionError> {
    if !project.main_follows || app.mirror(&project).resolve(&project.main_branch).await?.is_some() {
        return Ok(project);
    }
    Ok(app.follow_head(project).await?.0)
}

/// A proposal offers this commit, as far as anybody knows: it leaves a queue in which it stands with another. What is known to
/// be an older one changes nothing.
async fn tell_queues(app: &App, project: &Project, occasion: &Occasion) -> Result<(), StoreError> {
    let Cause::Proposal { number: Some(number), .. } = &occasion.cause else { return Ok(()) };
    let mut tx = app.records.tx_by_rule("occasion", clock::now()).await?;
    told_of_proposal(&mut tx, project.id, number, occasion.told_on(), "it offers another commit now: ask again").await?;
    tx.commit().await
}

/// Begins every pipeline of the commit that this occasion, the `arrived`th, starts.
async fn begin_all(app: &App, actor: &Actor, project: &Project, occasion: &Occasion, arrived: i64) -> Result<Looked, OccasionError> {
    if occasion.is_from_outside() && project.outside == "never" {
        tell_queues(app, project, occasion).await?;
        return Ok(Looked::NotTaken);
    }
    let mirror = app.mirror(project);
    let mut known = match complete(&mirror, project, occasion).await {
        Ok(known) => known,
        Err(error) => {
            tell_queues(app, project, occasion).await?;
            return Err(error);
        }
    };
    let project = &main_branch_there(app, project.clone()).await?;
    let files = pipeline_files(app, project, &mirror, &known.commit.id).await?;
    known.newer = order::newer(app, project, &mirror, &known, arrived).await?;
    if known.newer.is_none() {
        tell_queues(app, project, occasion).await?;
    }
    if files.is_empty() {
        return Ok(Looked::NoFile(begin::without_file(app, actor, project, &known).await?));
    }
    if known.newer.is_none() {
        rules::follow_main(app, project, &known.occasion, &files).await?;
    }
    let (mut begun, mut missed) = (Vec::new(), None);
    for file in files.iter().filter(|file| occasion.meant.as_ref().is_none_or(|meant| *meant == file.name)) {
        match begin(app, actor, project, &known, file).await {
            Ok(Begun::Run(run)) => begun.push(run),
            Ok(Begun::Known | Begun::Unwanted) => {}
            // One that cannot be read now keeps no other from beginning.
            Err(error) => missed = missed.or(Some(error)),
        }
    }
    missed.map_or(Ok(Looked::Begun(begun)), Err)
}
