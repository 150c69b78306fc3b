//! The state of a run is reported to its commit: to the forge at each change, to the repository's git notes at the end.

use crate::app::App;
use ordotaxis_core::engine::State;
use ordotaxis_store::{NewWork, RunEvent, StoreError, WorkKind};
use serde::{Deserialize, Serialize};

/// A report about a run, stored as the body of its work row. Its lane is the commit.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Message {
    /// `PROJECT/NUMBER`
    pub(crate) run: String,
    pub(crate) pipeline: String,
    pub(crate) state: State,
    pub(crate) sentence: String,
    pub(crate) branch: Option<String>,
    pub(crate) started_at: Option<i64>,
    pub(crate) ended_at: Option<i64>,
    /// The page that tells more, where that is not the run's.
    #[serde(default)]
    pub(crate) page: Option<String>,
}

/// A note that someone leaves on a run's commit; the body of such work, too.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Remark {
    /// `PROJECT/NUMBER`
    pub(crate) run: String,
    pub(crate) by: String,
    pub(crate) note: String,
}

/// A status for a commit, unless the project has no forge to send it to.
pub(super) async fn status(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if is_trial(app, run, event).await? {
        return Ok(Vec::new());
    }
    let project = app.records.project_by_id(event.project_id).await?;
    let has_forge = project.is_some_and(|project| project.forge.is_some());
    Ok(if has_forge { vec![told(WorkKind::Status, event)] } else { Vec::new() })
}

/// A note at the commit in git, when a run has ended.
pub(super) async fn note(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.ended_at.is_none() || is_trial(app, run, event).await? {
        return Ok(Vec::new());
    }
    Ok(if event.ended_at.is_some() { vec![told(WorkKind::Note, event)] } else { Vec::new() })
}

/// The commit of a trial is nowhere but here: nobody can be told of it. When it lands, its push has a run of its own.
async fn is_trial(app: &App, run: i64, event: &RunEvent) -> Result<bool, StoreError> {
    Ok(event.branch.is_none() && app.records.trial_of(run).await?.is_some())
}

fn told(kind: WorkKind, event: &RunEvent) -> NewWork {
    let message = Message {
        run: event.run.clone(),
        pipeline: event.pipeline.clone(),
        state: event.state,
        sentence: event.sentence.clone(),
        branch: event.branch.clone(),
        started_at: event.started_at,
        ended_at: event.ended_at,
        page: None,
    };
    let body = serde_json::to_string(&message).unwrap_or_default();
    NewWork { kind, project_id: event.project_id, lane: event.told_on.clone(), once: None, body }
}
