//! One task a target: reads from events which attempts there are, and sends on what their logs hold and the target has not.

use super::form::{About, body};
use super::gather::{Part, next};
use crate::app::App;
use crate::backoff::Backoff;
use crate::causes::causes;
use crate::clock;
use crate::collector::{NotSent, Ship};
use ordotaxis_core::engine::State;
use ordotaxis_store::{Records, ShipRow, StoreError};
use ordotaxis_wire::run::LiveEvent;
use std::collections::BTreeMap;
use std::time::Duration;

/// How often logs are looked at.
const EVERY: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);
/// Events that are read at once.
const EVENTS: i64 = 1_000;
/// Logs that are looked at in one go, and about how many bytes are sent at once.
const LOGS: i64 = 200;
const AT_ONCE: usize = 1024 * 1024;

/// Why a look came to nothing.
#[derive(Debug, thiserror::Error)]
enum LookError {
    #[error("what is to be sent could not be read or written down")]
    Store(#[from] StoreError),
    #[error("a log could not be read")]
    Log(#[from] std::io::Error),
    #[error("{why}")]
    Away { why: String, after: Option<Duration> },
}

/// Works as long as the service goes on: a task for each target.
pub(crate) async fn work(app: App) {
    let tasks = app.settings.ships.clone().into_iter().map(|(name, ship)| {
        let (stop, app) = (app.stop.clone(), app.clone());
        crate::tasks::kept("ship", stop, move || of_target(app.clone(), name.clone(), ship.clone()))
    });
    futures_util::future::join_all(tasks.collect::<Vec<_>>()).await;
}

/// Targets that are not in the configuration any more are forgotten.
pub(crate) async fn forget_others(records: &Records, ships: &BTreeMap<String, Ship>, now: i64) -> Result<(), StoreError> {
    let mut tx = records.tx_by_rule("configuration", now).await?;
    tx.keep_ships(&ships.keys().cloned().collect::<Vec<_>>()).await?;
    tx.commit().await
}

async fn of_target(app: App, name: String, ship: Ship) {
    let mut target = Target { app: &app, name, ship, began: false };
    let pauses = Backoff::up_to(LONGEST_PAUSE);
    let mut failed = 0u32;
    loop {
        let pause = match target.look().await {
            Ok(()) => {
                failed = 0;
                EVERY
            }
            Err(error) => {
                failed = failed.saturating_add(1);
                let asked = if let LookError::Away { after, .. } = &error { after.unwrap_or_default() } else { Duration::ZERO };
                let pause = pauses.pause(app.settings.retry_pause, failed, rand::random()).max(asked);
                tracing::warn!(
                    error = causes(&error),
                    target = target.name,
                    pause_ms = pause.as_millis(),
                    "logs could not be sent on; it is tried again"
                );
                pause
            }
        };
        app.counters.ship_trouble(&target.name, failed > 0);
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(pause) => {}
        }
    }
}

struct Target<'a> {
    app: &'a App,
    name: String,
    ship: Ship,
    /// Where it begins is written down.
    began: bool,
}

impl Target<'_> {
    /// Everything that can be sent now.
    async fn look(&mut self) -> Result<(), LookError> {
        self.learn().await?;
        let mut after = (i64::MIN, 0, 0);
        loop {
            let rows = self.app.records.to_ship(&self.name, after, LOGS).await?;
            let Some(last) = rows.last().map(|row| (row.run_id, row.job, row.attempt)) else { return Ok(()) };
            after = last;
            self.send_all(rows).await?;
            if self.app.stop.is_cancelled() {
                return Ok(());
            }
        }
    }

    /// Which attempts there are, from the events since the last look.
    async fn learn(&mut self) -> Result<(), StoreError> {
        let cursor = format!("ship:{}", self.name);
        let mut from = self.app.records.cursor(&cursor).await?;
        loop {
            let events = self.app.records.events_after(from, EVENTS).await?;
            if events.is_empty() && self.began {
                return Ok(());
            }
            let end = events.last().map_or(from, |event| event.id);
            let jobs: Vec<(i64, String)> = events.iter().filter_map(|event| Some((event.run_id, tried(&event.body)?))).collect();
            let mut tx = self.app.records.tx_by_rule("ship", clock::now()).await?;
            tx.add_ships(&self.name, &jobs, self.ship.projects.as_deref()).await?;
            // Also where nothing happened yet: a target that is new begins here, also after a restart.
            tx.move_cursor(&cursor, end).await?;
            tx.commit().await?;
            self.began = true;
            if events.len() < usize::try_from(EVENTS).unwrap_or(usize::MAX) {
                return Ok(());
            }
            from = end;
        }
    }

    /// The rest of some logs, in bodies of about one size, until all that is there has arrived.
    async fn send_all(&self, rows: Vec<ShipRow>) -> Result<(), LookError> {
        let mut waiting = rows;
        waiting.reverse();
        let (mut parts, mut bytes) = (Vec::new(), 0);
        while let Some(row) = waiting.pop() {
            let part = next(self.app, row).await?;
            let size: usize = part.lines.iter().map(|(_, text)| text.len() + 64).sum();
            let more = ShipRow { lines: part.row.lines + i64::try_from(part.lines.len()).unwrap_or(0), ..part.row.clone() };
            if !part.lines.is_empty() && !part.last {
                waiting.push(more);
            }
            if !part.lines.is_empty() || part.last {
                parts.push(part);
                bytes += size;
            }
            if bytes >= AT_ONCE || waiting.is_empty() {
                self.send(std::mem::take(&mut parts)).await?;
                bytes = 0;
            }
        }
        self.send(parts).await
    }

    /// Sends parts of logs, and writes down that they have arrived. A body that is too large is sent in halves.
    async fn send(&self, parts: Vec<Part>) -> Result<(), LookError> {
        let mut waiting = vec![parts];
        while let Some(parts) = waiting.pop() {
            if parts.is_empty() {
                continue;
            }
            match self.send_once(&parts).await {
                Ok(()) => self.arrived(&parts).await?,
                Err(NotSent::Passing { why, after }) => return Err(LookError::Away { why, after }),
                Err(NotSent::TooLarge) if parts.iter().map(|part| part.lines.len()).sum::<usize>() > 1 => {
                    let (first, rest) = halves(parts);
                    waiting.extend([rest, first]);
                }
                Err(NotSent::TooLarge) => self.refused(&parts, "it is too large").await?,
                Err(NotSent::Final(why)) => self.refused(&parts, &why).await?,
            }
        }
        Ok(())
    }

    async fn send_once(&self, parts: &[Part]) -> Result<(), NotSent> {
        if parts.iter().all(|part| part.lines.is_empty()) {
            return Ok(());
        }
        let about = About { url: &self.app.public_url, traces: self.app.traces.as_ref(), now: clock::now() };
        let (form, body) = body(self.ship.form, parts, &about);
        self.ship.to.send(&self.app.http, form, body).await.map(drop)
    }

    async fn arrived(&self, parts: &[Part]) -> Result<(), StoreError> {
        let mut tx = self.app.records.tx_by_rule("ship", clock::now()).await?;
        for part in parts {
            let lines = part.row.lines + i64::try_from(part.lines.len()).unwrap_or(0);
            tx.shipped(&self.name, &part.row, lines, part.last).await?;
        }
        tx.commit().await?;
        self.app.counters.shipped(&self.name, parts.iter().map(|part| part.lines.len() as u64).sum());
        Ok(())
    }

    /// What will never be taken must not hold up the rest.
    async fn refused(&self, parts: &[Part], why: &str) -> Result<(), StoreError> {
        let lines: usize = parts.iter().map(|part| part.lines.len()).sum();
        tracing::error!(target = self.name, lines, why, "lines of logs were refused, and are left out");
        self.app.counters.ship_refused(&self.name, lines as u64);
        self.arrived(parts).await
    }
}

/// The job that an event is about, where it says that an attempt began or ended.
fn tried(body: &str) -> Option<String> {
    let event: LiveEvent = serde_json::from_str(body).ok()?;
    (event.state == State::Running || event.state.is_end()).then_some(())?;
    Some(event.job?.to_string())
}

/// The same parts in two, by their lines.
fn halves(mut parts: Vec<Part>) -> (Vec<Part>, Vec<Part>) {
    if parts.len() > 1 {
        let rest = parts.split_off(parts.len() / 2);
        return (parts, rest);
    }
    let Some(mut part) = parts.pop() else { return (Vec::new(), Vec::new()) };
    let half = part.lines.len() / 2;
    let rest = part.lines.split_off(half);
    let row = ShipRow { lines: part.row.lines + i64::try_from(half).unwrap_or(0), ..part.row.clone() };
    let rest = Part { row, lines: rest, last: part.last };
    part.last = false;
    (vec![part], vec![rest])
}
