//! Drops what grew old: events that everything has read, work that is done, answers to calls that nobody repeats any
//! more, sessions and one-use keys that have ended. The journal is never pruned.

use crate::app::App;
use crate::causes::causes;
use crate::clock;
use ordotaxis_store::StoreError;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(60 * 60);
const DAY_MS: i64 = 24 * 60 * 60 * 1000;
/// A client that comes back with the last event it saw finds what happened since for so long.
const EVENTS_MS: i64 = 7 * DAY_MS;
const DONE_MS: i64 = 7 * DAY_MS;
/// A webhook that is sent once more is known for so long.
const GIVEN_UP_MS: i64 = 90 * DAY_MS;
/// What forges sent can be looked at for so long, of each project up to so many bytes.
const DELIVERIES_MS: i64 = 7 * DAY_MS;
const DELIVERIES_BYTES: i64 = 256 << 20;
/// What was told to whom can be looked at for so long.
const NOTICES_MS: i64 = 30 * DAY_MS;
/// Bills of materials of runs whose artifacts are gone.
const DOCUMENTS_MS: i64 = 90 * DAY_MS;
const ANSWERS_MS: i64 = DAY_MS;

/// Works as long as the service goes on.
pub(crate) async fn work(app: App) {
    loop {
        if let Err(error) = prune(&app, clock::now()).await {
            tracing::warn!(error = causes(&error), "what is old could not be dropped; it is tried again in an hour");
        }
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(EVERY) => {}
        }
    }
}

/// Deletes what is too old to be of use: events that every reaction has read, done work, answers, keys.
async fn prune(app: &App, now: i64) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("prune", now).await?;
    tx.drop_events(now - EVENTS_MS).await?;
    tx.drop_work(now - DONE_MS, now - GIVEN_UP_MS).await?;
    tx.drop_deliveries(now - DELIVERIES_MS, DELIVERIES_BYTES).await?;
    tx.drop_reusable().await?;
    tx.drop_notices(now - NOTICES_MS).await?;
    tx.drop_documents(now - DOCUMENTS_MS).await?;
    tx.drop_answers(now - ANSWERS_MS).await?;
    tx.drop_ended_sessions(now - crate::http::IDLE_MS).await?;
    tx.remove_ended_keys().await?;
    tx.commit().await
}
