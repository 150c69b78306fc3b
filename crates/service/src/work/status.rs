//! Tells a forge how a commit's run is, as its profile says.

use super::Outcome;
use super::jobs;
use super::link::link;
use crate::app::App;
use crate::forge::{CallError, Forge};
use crate::react::Message;
use ordotaxis_core::forge::Kind;
use ordotaxis_store::{DueWork, Project, StoreError, WorkKind};
use std::collections::BTreeMap;
use std::time::Duration;

/// After so many tries, about three days, it is given up.
pub(super) const MOST_TRIES: u32 = 900;
/// How often, while one waits for that, something newer is looked for.
const LOOK: Duration = Duration::from_millis(100);
/// Sends one status to a project's forge. A repeat sets the same status again; one that a newer one waits behind is left out.
pub(super) async fn send(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(message) = serde_json::from_str::<Message>(&due.body) else {
        return Ok(Outcome::Hopeless("the message cannot be read".into()));
    };
    let of = (project.id, due.lane.clone(), message.pipeline.clone());
    loop {
        if app.records.newer_status(WorkKind::Status, due, &message.pipeline).await? {
            return Ok(Outcome::Done(Some("a newer one was told in its place".into())));
        }
        match app.told.rest(&of) {
            Some(rest) if !message.state.is_end() => tokio::time::sleep(rest.min(LOOK)).await,
            _ => break,
        }
    }
    let done = call(app, &project, &due.lane, &message).await?;
    app.told.note(of);
    Ok(ended(done))
}

/// What the end of a call means for the work that made it.
pub(crate) fn ended(done: Result<(), CallError>) -> Outcome {
    match done {
        Ok(()) => Outcome::Done(None),
        Err(error) if error.is_final() => Outcome::Hopeless(error.to_string()),
        Err(error) => Outcome::Failed { after: error.after(), why: error.to_string(), tries: MOST_TRIES },
    }
}

/// Sets the status of the pipeline, and of jobs that have one of their own.
async fn call(app: &App, project: &Project, commit: &str, message: &Message) -> Result<Result<(), CallError>, StoreError> {
    let forge = match Forge::of(app, project) {
        Some(Ok(forge)) if forge.can(Kind::Status) => forge,
        Some(Err(error)) => return Ok(Err(error)),
        Some(Ok(_)) | None => return Ok(Ok(())),
    };
    let values = BTreeMap::from([
        ("commit", commit.to_owned()),
        ("context", format!("ordotaxis/{}", message.pipeline)),
        ("state", message.state.word().to_owned()),
        ("word", forge.word(message.state.word())),
        ("sentence", message.sentence.clone()),
        ("link", link(app, message)),
    ]);
    match forge.ask(Kind::Status, values).await {
        Ok(_) if message.page.is_none() => jobs::tell(app, &forge, project, commit, message).await,
        Ok(_) => Ok(Ok(())),
        Err(error) => Ok(Err(error)),
    }
}
