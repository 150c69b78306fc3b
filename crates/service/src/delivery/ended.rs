//! How a deployment ended, as its attempts tell.

use crate::app::App;
use crate::clock;
use ordotaxis_core::delivery::{End, Environment, Event, Inside, Way};
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

/// The end of a deployment that was let in.
pub(super) async fn end_of(app: &App, told: Told, inside: &Inside) -> Result<End, StoreError> {
    let (run, job) = told.job;
    let mine = |row: &AttemptRow| usize::try_from(row.job) == Ok(job) && row.started_at >= inside.since;
    let attempts: Vec<AttemptRow> = app.records.attempts(run).await?.into_iter().filter(mine).collect();
    Ok(judge(told, inside, &attempts))
}

/// It is well when the job passed. Otherwise what is there now depends on what attempts did: where no step of any began,
/// nothing was touched; where one fell silent, nobody knows.
/// Where there are two sides, what is in use stays so until the switch begins.
fn judge(told: Told, inside: &Inside, attempts: &[AttemptRow]) -> End {
    let Told { state, why, back, .. } = told;
    let why = why.unwrap_or_else(|| state.word().to_owned());
    let undone = back && matches!(inside.wish.way, Way::Undo { .. });
    if state == State::Passed || undone {
        return End::Well;
    }
    if back {
        // That is said by the history itself.
        let why = why.strip_suffix("; what was there before is there again").unwrap_or(&why).to_owned();
        return End::Failed { why, back };
    }
    if state == State::Lost || attempts.iter().any(|row| row.state == State::Lost.word()) {
        return End::Lost { why };
    }
    if !attempts.iter().any(|row| has(row, &TOUCHES)) {
        return End::Untouched;
    }
    let in_use = inside.side.is_some() && !attempts.iter().any(|row| has(row, &[PhaseKind::Switch]));
    End::Failed { why, back: in_use }
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

/// Phases in which something may have been changed.
const TOUCHES: [PhaseKind; 5] = [PhaseKind::Step, PhaseKind::Publish, PhaseKind::Beside, PhaseKind::Switch, PhaseKind::After];

/// Whether a phase of one of these kinds began. Phases that cannot be read may have been such.
fn has(row: &AttemptRow, kinds: &[PhaseKind]) -> bool {
    let phases: Result<Vec<PhaseView>, _> = serde_json::from_str(&row.phases);
    phases.map_or(true, |phases| phases.iter().any(|phase| kinds.contains(&phase.kind)))
}
