//! How a deployment ended, as its attempts tell.

use crate::app::App;
use crate::clock;
use ordotaxis_core::delivery::{End, Environment, Event};
use ordotaxis_core::engine::State;
use ordotaxis_store::{AttemptRow, StoreError};
use ordotaxis_wire::run::{PhaseKind, PhaseView};

/// What the run says of a job that has ended.
pub(super) struct Told {
    pub(super) job: (i64, usize),
    pub(super) state: State,
    pub(super) why: Option<String>,
    /// What was there before is there again.
    pub(super) back: bool,
    pub(super) at: i64,
}

/// The end of a deployment; `since`: when it was let in.
pub(super) async fn end_of(app: &App, told: Told, since: i64) -> Result<End, StoreError> {
    let (run, job) = told.job;
    let mine = |row: &AttemptRow| usize::try_from(row.job) == Ok(job) && row.started_at >= since;
    let attempts: Vec<AttemptRow> = app.records.attempts(run).await?.into_iter().filter(mine).collect();
    Ok(judge(told, &attempts))
}

/// It is well when the job passed. Otherwise what is there now depends on what attempts did: where no step of any began,
/// nothing was touched; where one fell silent, nobody knows.
fn judge(told: Told, attempts: &[AttemptRow]) -> End {
    let Told { state, why, back, .. } = told;
    let why = why.unwrap_or_else(|| state.word().to_owned());
    if state == State::Passed {
        return End::Well;
    }
    if back {
        return End::Failed { why, back };
    }
    if state == State::Lost || attempts.iter().any(|row| row.state == State::Lost.word()) {
        return End::Lost { why };
    }
    if attempts.iter().any(stepped) { End::Failed { why, back: false } } else { End::Untouched }
}

/// Jobs whose end an environment was never told, since their run could not be read back, or is gone.
pub(super) async fn forgotten(app: &App, state: &Environment) -> Result<Vec<Event>, StoreError> {
    let mut events = Vec::new();
    for (wish, _) in state.waiting() {
        if job_state(app, wish.job).await? != Some(State::Gated) {
            events.push(Event::Gone { job: wish.job });
        }
    }
    if let Some(inside) = state.inside()
        && job_state(app, inside.wish.job).await?.is_none_or(State::is_end)
    {
        let why = "nobody knows how it ended: what was kept of its run cannot be read".to_owned();
        events.push(Event::Ended { job: inside.wish.job, end: End::Lost { why }, at: clock::now() });
    }
    Ok(events)
}

async fn job_state(app: &App, (run, job): (i64, usize)) -> Result<Option<State>, StoreError> {
    let job = i64::try_from(job).unwrap_or(i64::MAX);
    Ok(app.records.job_state(run, job).await?.and_then(|(_, word)| State::from_word(&word)))
}

/// Whether a step of it began. Phases that cannot be read may have been steps.
fn stepped(row: &AttemptRow) -> bool {
    let phases: Result<Vec<PhaseView>, _> = serde_json::from_str(&row.phases);
    let touches = |kind: PhaseKind| matches!(kind, PhaseKind::Step | PhaseKind::Publish | PhaseKind::Beside | PhaseKind::After);
    phases.map_or(true, |phases| phases.iter().any(|phase| touches(phase.kind)))
}
