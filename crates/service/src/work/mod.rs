//! Work for the outside: one queue on disk, one loop. Rows of one lane are worked off in order; of each kind a project
//! has only so many at once, so that a slow repository or forge holds up nobody else's. What fails is tried again after
//! growing pauses; what cannot succeed is given up with its reason, and waits until someone tries it again.
//!
//! To add a kind: a variant of `store::WorkKind`, its line in [`limits`], and its function in [`attempt`].

mod jobs;
mod lanes;
mod link;
mod note;
mod outcome;
mod status;
mod told;

pub(crate) use outcome::Outcome;
pub(crate) use status::ended;
pub(crate) use told::Told;

use crate::app::App;
use crate::backoff::Backoff;
use crate::causes::causes;
use crate::clock;
use crate::occasions;
use lanes::Lanes;
use ordotaxis_store::{DueWork, StoreError, WorkKind};
use std::time::{Duration, Instant};
use tracing::Instrument;
use tracing::field::Empty;

const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// Of one project at once, and the longest pause between two tries.
fn limits(kind: WorkKind) -> (usize, Backoff) {
    match kind {
        // Occasions of one project build on each other.
        WorkKind::Occasion => (1, Backoff::up_to(LONGEST_PAUSE)),
        WorkKind::Status
        | WorkKind::Note
        | WorkKind::Landing
        | WorkKind::Comment
        | WorkKind::Spoken
        | WorkKind::News
        | WorkKind::Release => (4, Backoff::up_to(LONGEST_PAUSE)),
        // Each environment is a lane of its own; none waits for anything outside.
        WorkKind::Delivery => (8, Backoff::up_to(LONGEST_PAUSE)),
        WorkKind::Spans => (2, Backoff::up_to(LONGEST_PAUSE)),
        // Nothing outside is waited for.
        WorkKind::Trace => (2, Backoff::up_to(LONGEST_PAUSE)),
        // For about a day; see `notices`.
        WorkKind::Notice => (4, Backoff::up_to(crate::notices::LONGEST_PAUSE)),
    }
}

/// Does one piece of work; each kind in a file of its own.
async fn attempt(app: &App, kind: WorkKind, due: &DueWork) -> Result<Outcome, StoreError> {
    match kind {
        WorkKind::Occasion => occasions::work_off(app, due).await,
        WorkKind::Status => status::send(app, due).await,
        WorkKind::Note => note::write(app, due).await,
        WorkKind::Landing => crate::landing::work_off(app, due).await,
        WorkKind::Comment => crate::talk::write(app, due).await,
        WorkKind::Spoken => crate::talk::answer(app, due).await,
        WorkKind::News => crate::notices::find_out(app, due).await,
        WorkKind::Notice => crate::notices::send(app, due).await,
        WorkKind::Delivery => crate::delivery::work_off(app, due).await,
        WorkKind::Trace => crate::trace::work_off(app, due).await,
        WorkKind::Release => crate::release::work_off(app, due).await,
        WorkKind::Spans => crate::telemetry::work_off(app, due).await,
    }
}

/// Works until the service stops.
pub(crate) async fn work(app: App) {
    let mut lanes: Vec<(WorkKind, Lanes)> = WorkKind::ALL.into_iter().map(|kind| (kind, Lanes::new(limits(kind).0))).collect();
    loop {
        let pause = match begin_due(&app, &mut lanes).await {
            Ok(pause) => pause,
            Err(error) => {
                tracing::error!(error = causes(&error), "the work that is due could not be read");
                Duration::from_secs(1)
            }
        };
        let changed = futures_util::future::select_all(lanes.iter_mut().map(|(_, lanes)| Box::pin(lanes.changed())));
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.records.work_was_added() => {}
            _ = changed => {}
            () = tokio::time::sleep(pause) => {}
        }
    }
}

/// Begins what is due, and says how long nothing else comes due.
async fn begin_due(app: &App, lanes: &mut [(WorkKind, Lanes)]) -> Result<Duration, StoreError> {
    let now = clock::now();
    for (kind, lanes) in lanes {
        let each = i64::try_from(2 * limits(*kind).0).unwrap_or(i64::MAX);
        for due in app.records.due_work(*kind, now, each).await? {
            let (id, project, app, kind) = (due.id, due.project_id, app.clone(), *kind);
            lanes.take(id, project, || async move { try_one(&app, kind, &due).await });
        }
    }
    let next = app.records.next_work_at(now).await?;
    let wait = next.map_or(60_000, |at| (at - clock::now()).clamp(1, 60_000));
    Ok(Duration::from_millis(wait.unsigned_abs()))
}

/// Does one piece of work and writes down how it ended.
async fn try_one(app: &App, kind: WorkKind, due: &DueWork) -> Result<(), StoreError> {
    let since = Instant::now();
    let own =
        tracing::info_span!("work", otel.name = %format_args!("work {}", kind.word()), ordotaxis.work = due.id, ordotaxis.end = Empty);
    let outcome = attempt(app, kind, due).instrument(own.clone()).await?;
    own.record("ordotaxis.end", outcome.word());
    drop(own);
    app.counters.worked(kind.word(), outcome.word(), since.elapsed());
    let tried = u32::try_from(due.tries).unwrap_or(u32::MAX).saturating_add(1);
    let mut tx = app.records.tx_by_rule(kind.word(), clock::now()).await?;
    match outcome {
        Outcome::Done(said) => tx.work_done(due.id, said.as_deref()).await?,
        Outcome::Later(pause) => {
            let next = clock::now() + i64::try_from(pause.as_millis()).unwrap_or(60_000);
            tx.work_rests(due.id, next).await?;
        }
        Outcome::Failed { why, tries, after } if tried < tries => {
            let pause = limits(kind).1.pause(app.settings.retry_pause, tried, rand::random());
            let pause = pause.max(after.unwrap_or_default());
            tracing::warn!(why, work = due.id, kind = kind.word(), "work failed; it is tried again");
            let next = clock::now() + i64::try_from(pause.as_millis()).unwrap_or(60_000);
            tx.work_failed(due.id, &why, next).await?;
        }
        Outcome::Failed { why, .. } | Outcome::Hopeless(why) => {
            tracing::warn!(why, work = due.id, kind = kind.word(), "work is given up; `ordotaxis work again` tries it once more");
            tx.work_given_up(due.id, &why).await?;
        }
    }
    tx.commit().await
}
