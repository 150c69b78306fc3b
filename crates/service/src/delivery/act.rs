//! One piece of work: what is told to an environment, and what it asks for.

use super::change::tell;
use super::ended::{Told, end_of, forgotten};
use super::promote::go_on;
use super::wish::{Asked, WishError, wish};
use crate::app::App;
use crate::keeper::{DeliveryWork, RunCommand};
use crate::work::Outcome;
use ordotaxis_core::delivery::{Effect, Event};
use ordotaxis_core::engine::Event as RunEvent;
use ordotaxis_store::{DueWork, Project, StoreError, WorkKind};

/// After so many tries, about three days, it is given up.
const MOST_TRIES: u32 = 900;

/// Does one piece of work.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(work) = serde_json::from_str::<DeliveryWork>(&due.body) else {
        return Ok(Outcome::Hopeless("the environment's work cannot be read".into()));
    };
    let name = due.lane.as_str();
    match work {
        DeliveryWork::Wants { run, job, asked_at, undo } => match wish(app, &project, name, Asked { run, job, asked_at, undo }).await {
            Ok(Some(wish)) => tell(app, &project, name, vec![Event::Wants(Box::new(wish))], None).await?,
            Ok(None) => {}
            Err(WishError::Store(error)) => return Err(error),
            Err(error) => return Ok(Outcome::Failed { why: error.to_string(), tries: MOST_TRIES, after: None }),
        },
        DeliveryWork::Ended { run, job, state, why, back, answer, at } => {
            let told = Told { job: (run, job), state, why, back, at };
            let events = ended(app, &project, name, told).await?;
            tell(app, &project, name, events, answer.as_deref()).await?;
        }
        DeliveryWork::Effect { effect, asked_at } => {
            if !say(app, effect, asked_at).await {
                return Ok(Outcome::Failed { why: "the service is ending".into(), tries: MOST_TRIES, after: None });
            }
        }
        DeliveryWork::Urgent { run, job } => {
            if let Some((by, reason)) = app.records.emergency(run, job).await? {
                tell(app, &project, name, vec![Event::Urgent { job: (run, job), by, reason }], None).await?;
            }
        }
        DeliveryWork::GoOn { run } => go_on(app, &project, run, name).await?,
        DeliveryWork::Look => look(app, &project, due).await?,
    }
    Ok(Outcome::Done(None))
}

/// A job has ended: as the deployment that goes on, or before it was let in.
async fn ended(app: &App, project: &Project, name: &str, told: Told) -> Result<Vec<Event>, StoreError> {
    let (job, at) = (told.job, told.at);
    let now = app.records.environment_state(project.id, name).await?;
    match now.inside().filter(|inside| inside.wish.job == job) {
        Some(inside) => {
            let end = end_of(app, told, inside).await?;
            Ok(vec![Event::Ended { job, end, at }])
        }
        None => Ok(vec![Event::Gone { job }]),
    }
}

/// Says to a run what its environment asks for. False when nobody is there to hear it.
async fn say(app: &App, effect: Effect, asked_at: i64) -> bool {
    let ((run, job), event) = match effect {
        Effect::Admit { job, back, .. } => (job, RunEvent::LetIn { job: job.1, back }),
        Effect::Refuse { job, why } => (job, RunEvent::Refused { job: job.1, why }),
        Effect::Overtake { job, by } => (job, RunEvent::Replaced { job: job.1, by }),
        Effect::Held { job, holds } => (job, RunEvent::HeldBack { job: job.1, holds }),
        Effect::Wake { .. } | Effect::Confirmed { .. } => return true,
    };
    let event = Box::new(event);
    app.keeper.ask(|reply| RunCommand::Deliver { run, job, asked_at, event, reply }).await.is_ok()
}

/// Time has passed, or something around it changed. Jobs whose end was never told, since their run could not be read back or
/// is gone, are found here.
async fn look(app: &App, project: &Project, due: &DueWork) -> Result<(), StoreError> {
    let name = due.lane.as_str();
    // What waits behind this may be just that end.
    let behind = app.records.waits_behind(WorkKind::Delivery, due).await?;
    let mut events = if behind { Vec::new() } else { forgotten(app, &app.records.environment_state(project.id, name).await?).await? };
    events.push(Event::Look);
    tell(app, project, name, events, None).await
}
