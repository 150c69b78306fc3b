//! Drops what grew old and is small: all that has an age but runs and their logs, which a sweep looks at; sessions and one-use
//! keys that have ended. The journal is never pruned.

use crate::app::App;
use crate::causes::causes;
use crate::{clock, old};
use ordotaxis_store::StoreError;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(60 * 60);

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

/// Deletes what is too old to be of use.
pub(crate) async fn prune(app: &App, now: i64) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("prune", now).await?;
    old::drop_rows(&mut tx, &app.settings.ages, now).await?;
    tx.drop_reusable().await?;
    tx.drop_ended_sessions(now - crate::http::IDLE_MS).await?;
    tx.remove_ended_keys().await?;
    tx.commit().await
}
