//! Keeps a backup that is never far behind: a copy, and after it all that changes, every few seconds. When anything goes
//! wrong that cannot be mended by trying again, and once a day, a new copy is begun.

use crate::app::App;
use crate::backed_up::Begun;
use crate::causes::causes;
use crate::clock;
use crate::settings::BackupSettings;
use ordotaxis_store::Place;
use ordotaxis_store::backup::{Ask, BackupError, Shelf, Stream, keep};
use std::sync::atomic::Ordering;
use std::time::Duration;

/// After something went wrong it is tried again after this, when changes are sent more often than that.
const PAUSE: Duration = Duration::from_secs(5);
/// Sending may take so long; a place that hangs must not hold up the rest.
const SEND: Duration = Duration::from_secs(60);
/// How long a service that ends goes on sending.
const LAST: Duration = Duration::from_secs(10);

/// Works as long as the service goes on, where a place for backups is named.
pub(crate) async fn work(app: App) {
    let Some(settings) = app.settings.backup.clone() else { return app.stop.cancelled().await };
    loop {
        let pause = match step(&app, &settings).await {
            Ok(()) => {
                if app.backup.trouble.swap(false, Ordering::Relaxed) {
                    tracing::info!("the backup goes on");
                }
                settings.every
            }
            Err(error) => {
                if !app.backup.trouble.swap(true, Ordering::Relaxed) {
                    tracing::error!(error = causes(&error), "the backup is in trouble; it is tried again and again");
                }
                unless_begun(&app).await;
                settings.every.max(PAUSE)
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(pause) => {}
        }
    }
}

/// Sends what has changed; first begins a copy where there is none, or it is old.
async fn step(app: &App, settings: &BackupSettings) -> Result<(), BackupError> {
    let mut begun = app.backup.stream.lock().await;
    let now = clock::now();
    // Not while the place is in trouble: what waits to be sent would be lost.
    let well = !app.backup.trouble.load(Ordering::Relaxed);
    let old = |begun: &Begun| well && now - begun.at > i64::try_from(settings.anew.as_millis()).unwrap_or(i64::MAX);
    if begun.as_ref().is_none_or(old) {
        // The old one ends first: it holds the place.
        let _ = begun.take();
        *begun = Some(begin(app, settings, now).await?);
        app.backup.reaches.store(now, Ordering::Relaxed);
    }
    let Some(open) = begun.as_mut() else { return Ok(()) };
    let now = clock::now();
    // What breaks off in the middle is sent again.
    let sent = tokio::time::timeout(settings.every.max(SEND), open.stream.send(now)).await;
    match sent.unwrap_or(Err(BackupError::Slow(SEND))) {
        Ok(()) => app.backup.reaches.store(now, Ordering::Relaxed),
        Err(BackupError::Behind) => {
            tracing::warn!("what changed could not be sent for too long: the backup is begun anew");
            *begun = None;
        }
        Err(error) => return Err(error),
    }
    Ok(())
}

/// With no copy that follows it, nobody else writes SQLite's log back: it would only ever grow.
async fn unless_begun(app: &App) {
    if app.backup.stream.lock().await.is_none()
        && let Err(error) = app.records.write_back().await
    {
        tracing::warn!(error = causes(&error), "the database's log could not be written back");
    }
}

async fn begin(app: &App, settings: &BackupSettings, now: i64) -> Result<Begun, BackupError> {
    let shelf = Shelf::open(&settings.place, true).await?;
    let data = app.settings.data.clone();
    let ask = Ask {
        packs: app.settings.objects.clone().map_or_else(|| Place::Local(data.join("blobs")), Place::Objects),
        keys: if settings.keys { app.settings.keys() } else { Vec::new() },
        name: shelf.free_name(now).await?,
        data,
        now,
    };
    let stream = Stream::begin(shelf, app.records.clone(), ask).await?;
    // Not before the new one is whole.
    keep(stream.shelf(), settings.keep).await?;
    Ok(Begun { stream, at: now })
}

/// What changed while the service came to its end.
pub(crate) async fn last(app: &App) {
    let Some(settings) = &app.settings.backup else { return };
    match tokio::time::timeout(LAST, step(app, settings)).await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => tracing::error!(error = causes(&error), "the last changes are not in the backup; a start puts them there"),
        Err(_) => tracing::error!("the last changes could not be sent to the backup in {LAST:?}; a start puts them there"),
    }
}
