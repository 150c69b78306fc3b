//! How a run's new state is written down: for live updates, and for what follows from it (see `react`).

use crate::keeper::RunInfo;
use ordotaxis_core::engine::State;
use ordotaxis_store::{NewEvent, RunEvent};
use ordotaxis_wire::run::LiveEvent;

/// Which run it is about.
pub(crate) struct Of<'a> {
    pub(crate) id: i64,
    pub(crate) project_id: i64,
    pub(crate) project: &'a str,
    pub(crate) number: i64,
    pub(crate) pipeline: &'a str,
    pub(crate) branch: Option<&'a str>,
    /// The commit that verdicts go to.
    pub(crate) told_on: &'a str,
}

impl<'a> Of<'a> {
    /// Of a run that goes on.
    pub(crate) fn info(info: &'a RunInfo, pipeline: &'a str) -> Of<'a> {
        Of {
            id: info.id,
            project_id: info.project_id,
            project: &info.project,
            number: info.number,
            pipeline,
            branch: info.branch.as_deref(),
            told_on: &info.told_on,
        }
    }
}

/// A run has a new state; `sentence` says it to a person.
pub(crate) fn of_run(of: &Of<'_>, state: State, sentence: &str, started_at: Option<i64>, ended_at: Option<i64>) -> NewEvent {
    let run = format!("{}/{}", of.project, of.number);
    let live = LiveEvent { run: run.clone(), state, job: None, why: None };
    let detail = RunEvent {
        project_id: of.project_id,
        run,
        pipeline: of.pipeline.to_owned(),
        state,
        sentence: sentence.to_owned(),
        branch: of.branch.map(str::to_owned),
        told_on: of.told_on.to_owned(),
        started_at,
        ended_at,
    };
    NewEvent { run_id: of.id, body: serde_json::to_string(&live).unwrap_or_default(), detail: Some(detail) }
}
