//! What people say to environments: they approve or refuse, confirm an emergency, freeze one and let it thaw.

use super::around::{Around, Standing};
use super::change::change;
use crate::app::App;
use crate::clock;
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::delivery::{Environment, Event, Frozen, Word, why_not};
use ordotaxis_core::dispatch::Key;
use ordotaxis_store::{Entry, Project, RunRow, StoreError};
use std::collections::BTreeSet;

/// Why it was not done.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotSaid {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    No(String),
}

/// What someone says of what a job would put into an environment.
pub(crate) struct Said {
    /// None: of the only job that waits.
    pub(crate) job: Option<String>,
    pub(crate) agrees: bool,
    pub(crate) reason: Option<String>,
}

/// A job of a run that waits before an environment, or went past its rules.
struct Asked {
    environment: String,
    state: Environment,
    job: Key,
    called: String,
    /// None: of an emergency.
    artifacts: Option<BTreeSet<String>>,
}

/// Takes one person's word.
pub(crate) async fn said(app: &App, actor: &Actor, project: &Project, run: &RunRow, said: Said) -> Result<(), NotSaid> {
    let asked = one(asked(app, project, run).await?, run, &said)?;
    let standing = Standing::of(app, project).await?;
    let around = Around::of(app, project, &standing, &asked.environment, &asked.state, None).await?;
    let (by, now) = (actor.name().to_owned(), clock::now());
    let wish = asked.state.waiting().map(|(wish, _)| wish).find(|wish| wish.job == asked.job);
    let no = match wish {
        Some(wish) => around.at(now, |around| why_not(wish, &by, said.agrees, around)),
        None => not_confirmed_by(&asked, &by, said.agrees),
    };
    if let Some(why) = no {
        return Err(NotSaid::No(format!("{}: {why}", asked.called)));
    }
    let artifacts = asked.artifacts.unwrap_or_default();
    let after = serde_json::json!({
        "environment": asked.environment, "agrees": said.agrees, "reason": said.reason, "artifacts": artifacts,
    });
    let word = Word { by, agrees: said.agrees, reason: said.reason, at: now, artifacts };
    let mut tx = app.records.tx(actor, now).await?;
    change(&mut tx, (project.id, &asked.environment), &around, vec![Event::Said { job: asked.job, word }], None).await?;
    tx.note(Entry::new(Action::ApproveDeployment, asked.called).of(&project.name).after(after));
    Ok(tx.commit().await?)
}

/// Why a person does not confirm an emergency.
fn not_confirmed_by(asked: &Asked, person: &str, agrees: bool) -> Option<String> {
    if !agrees {
        return Some("it is there already: it can be confirmed, or rolled back".to_owned());
    }
    let own = asked.state.unconfirmed().iter().any(|one| one.job == asked.job && one.by == person);
    own.then(|| format!("{person} asked for this emergency: someone else must confirm it"))
}

/// Jobs of a run on which a word can be given.
async fn asked(app: &App, project: &Project, run: &RunRow) -> Result<Vec<Asked>, StoreError> {
    let mut found = Vec::new();
    for row in app.records.environments(project.id).await? {
        let state = row.machine()?;
        let waits = state.waiting().filter(|(wish, _)| wish.job.0 == run.id);
        let waits = waits.map(|(wish, _)| (wish.job, wish.called.clone(), Some(wish.artifacts.clone())));
        let past = state.unconfirmed().iter().filter(|one| one.job.0 == run.id).map(|one| (one.job, one.called.clone(), None));
        let all: Vec<_> = waits.chain(past).collect();
        found.extend(all.into_iter().map(|(job, called, artifacts)| Asked {
            environment: row.name.clone(),
            state: state.clone(),
            job,
            called,
            artifacts,
        }));
    }
    Ok(found)
}

/// The one that is meant.
fn one(mut all: Vec<Asked>, run: &RunRow, said: &Said) -> Result<Asked, NotSaid> {
    let name = format!("{}/{}", run.project, run.number);
    if let Some(job) = &said.job {
        let called = format!("{name} {job}");
        let at = all.iter().position(|one| one.called == called);
        return match at {
            Some(at) => Ok(all.swap_remove(at)),
            None => Err(NotSaid::No(format!("{called} does not wait to go into an environment"))),
        };
    }
    match all.len() {
        0 => Err(NotSaid::No(format!("no job of {name} waits to go into an environment"))),
        1 => Ok(all.swap_remove(0)),
        _ => {
            let jobs: Vec<&str> = all.iter().filter_map(|one| one.called.split_once(' ')).map(|(_, job)| job).collect();
            Err(NotSaid::No(format!("several jobs of {name} wait; say which: {}", jobs.join(", "))))
        }
    }
}

/// As the journal says it.
fn frost(frozen: Option<&Frozen>) -> serde_json::Value {
    let told = |one: &Frozen| serde_json::json!({ "by": one.by, "reason": one.reason, "until": one.until.map(ordotaxis_wire::moment) });
    frozen.map(told).unwrap_or_default()
}

/// Freezes an environment, or with none lets it thaw.
pub(crate) async fn frozen(app: &App, actor: &Actor, project: &Project, name: &str, frozen: Option<Frozen>) -> Result<(), StoreError> {
    let state = app.records.environment_state(project.id, name).await?;
    let standing = Standing::of(app, project).await?;
    let around = Around::of(app, project, &standing, name, &state, None).await?;
    let mut tx = app.records.tx(actor, clock::now()).await?;
    let entry = Entry::new(Action::FreezeEnvironment, format!("environment {name}")).of(&project.name);
    let entry = entry.before(frost(state.frozen.as_ref())).after(frost(frozen.as_ref()));
    change(&mut tx, (project.id, name), &around, vec![Event::Frozen(frozen)], None).await?;
    tx.note(entry);
    tx.commit().await
}
