//! A run of a trial has ended: its landing queue looks at the trial.

use crate::app::App;
use crate::landing::LandingWork;
use ordotaxis_store::{NewWork, RunEvent, StoreError, WorkKind};

/// When the run of a trial has ended: the trial's verdict is looked for.
pub(super) async fn ended(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.ended_at.is_none() || event.branch.is_some() {
        return Ok(Vec::new());
    }
    let Some((branch, trial)) = app.records.trial_of(run).await? else { return Ok(Vec::new()) };
    let work = LandingWork::Ended { branch: branch.clone(), trial: trial.unsigned_abs() };
    let body = serde_json::to_string(&work).unwrap_or_default();
    Ok(vec![NewWork { kind: WorkKind::Landing, project_id: event.project_id, lane: format!("{branch} {trial}"), once: None, body }])
}
