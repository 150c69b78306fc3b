//! What happened to runs and jobs, in order. Live updates read all of it; reactions read what happened to runs, each
//! from its own cursor, which moves in the transaction that writes what follows.

use super::error::json;
use super::{Records, StoreError, Tx};
use ordotaxis_core::engine::State;
use serde::{Deserialize, Serialize};

/// An event goes from the oldest on, up to the first that is not before ?1, or that some reaction has not read.
pub(super) const OLD: &str = "id <= (SELECT min(event_id) FROM cursors) AND id < (SELECT max(id) FROM events)
    AND id < coalesce((SELECT id FROM events WHERE at >= ?1 ORDER BY id LIMIT 1), 9223372036854775807)";

/// One thing that happened, as live updates carry it.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct Event {
    pub id: i64,
    pub run_id: i64,
    /// JSON: the live event.
    pub body: String,
}

/// One that is to be written.
#[derive(Debug, Clone)]
pub struct NewEvent {
    pub run_id: i64,
    /// JSON: the live event.
    pub body: String,
    /// Where it is the run's own state that changed.
    pub detail: Option<RunEvent>,
}

/// A run's new state, with what reactions need of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunEvent {
    pub project_id: i64,
    /// `PROJECT/NUMBER`
    pub run: String,
    pub pipeline: String,
    pub state: State,
    pub sentence: String,
    pub branch: Option<String>,
    /// The commit that verdicts go to: the run's own, or what a proposal offers.
    pub told_on: String,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
}

impl Records {
    /// What happened after `id`, at most `limit` things.
    pub async fn events_after(&self, id: i64, limit: i64) -> Result<Vec<Event>, StoreError> {
        let sql = "SELECT id, run_id, body FROM events WHERE id > ? ORDER BY id LIMIT ?";
        Ok(sqlx::query_as(sql).bind(id).bind(limit).fetch_all(&self.reads).await?)
    }

    /// New states of runs after `id`, at most `limit`: (number of the event, run, what happened).
    pub async fn run_events_after(&self, id: i64, limit: i64) -> Result<Vec<(i64, i64, RunEvent)>, StoreError> {
        let sql = "SELECT id, run_id, detail FROM events WHERE id > ? AND detail IS NOT NULL ORDER BY id LIMIT ?";
        let rows: Vec<(i64, i64, String)> = sqlx::query_as(sql).bind(id).bind(limit).fetch_all(&self.reads).await?;
        let read = |(id, run, detail): (i64, i64, String)| {
            Ok((id, run, serde_json::from_str(&detail).map_err(|_| StoreError::Value("events.detail"))?))
        };
        rows.into_iter().map(read).collect()
    }

    /// The number of the newest event; 0 when there is none.
    pub async fn event_end(&self) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM events").fetch_one(&self.reads).await?)
    }

    /// How far a reaction has read; one that is new begins with what happens from now on.
    pub async fn cursor(&self, reaction: &str) -> Result<i64, StoreError> {
        let known: Option<i64> =
            sqlx::query_scalar("SELECT event_id FROM cursors WHERE name = ?").bind(reaction).fetch_optional(&self.reads).await?;
        match known {
            Some(id) => Ok(id),
            None => self.event_end().await,
        }
    }
}

/// Takes the moment and a JSON list of [`events_as_json`]; gives the numbers.
pub(super) const INSERT_EVENTS: &str = "INSERT INTO events (run_id, at, body, detail)
    SELECT value ->> 0, ?, value ->> 1, value ->> 2 FROM json_each(?) RETURNING id";

/// Events as the rows of [`INSERT_EVENTS`].
pub(super) fn events_as_json(events: &[NewEvent]) -> Result<String, StoreError> {
    let detail = |event: &NewEvent| event.detail.as_ref().map(serde_json::to_string).transpose();
    let row = |event: &'_ NewEvent| Ok((event.run_id, event.body.clone(), detail(event).map_err(|_| StoreError::Value("events.detail"))?));
    json(&events.iter().map(row).collect::<Result<Vec<(i64, String, Option<String>)>, StoreError>>()?)
}

impl Tx {
    /// Adds events in this order; they get rising numbers.
    pub async fn add_events(&mut self, events: &[NewEvent]) -> Result<(), StoreError> {
        if events.is_empty() {
            return Ok(());
        }
        let query = sqlx::query_scalar(INSERT_EVENTS).bind(self.now).bind(events_as_json(events)?);
        let ids: Vec<i64> = query.fetch_all(&mut *self.on).await?;
        self.count_events(events, ids);
        Ok(())
    }

    /// Notes what these events, now inserted under these numbers, wake.
    pub(super) fn count_events(&mut self, events: &[NewEvent], mut ids: Vec<i64>) {
        // Numbers rise in the order of the rows, whatever the order in which they are given back.
        ids.sort_unstable();
        let of_runs = ids.iter().zip(events).filter(|(_, event)| event.detail.is_some()).map(|(id, _)| *id);
        self.newest_run_event = self.newest_run_event.max(of_runs.max());
        self.newest_event = self.newest_event.max(ids.last().copied());
    }

    /// The reaction has read up to this event.
    pub async fn move_cursor(&mut self, reaction: &str, event: i64) -> Result<(), StoreError> {
        let sql = "INSERT INTO cursors (name, event_id) VALUES (?1, ?2) ON CONFLICT DO UPDATE SET event_id = max(event_id, ?2)";
        sqlx::query(sql).bind(reaction).bind(event).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Drops what happened before a moment, as far as every reaction has read. Gives how many events that were.
    pub async fn drop_events(&mut self, before: i64) -> Result<u64, StoreError> {
        let sql = format!("DELETE FROM events WHERE {OLD}");
        Ok(sqlx::query(sqlx::AssertSqlSafe(sql)).bind(before).execute(&mut *self.on).await?.rows_affected())
    }
}
