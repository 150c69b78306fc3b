//! The only way to change something: a transaction that knows who makes the change. Rows, events, work and the journal's rows are
//! written together or not at all, and those who wait for events or work are woken once they are on disk.
//!
//! To add something that is written: a method of [`Tx`] in the file of its table.

use super::journal::{self, Entry};
use super::rings::Rings;
use super::timing::Timing;
use super::{Records, StoreError};
use ordotaxis_core::access::{Actor, Who};
use sqlx::Sqlite;
use sqlx::pool::PoolConnection;
use std::sync::Arc;
use std::time::Instant;
use tokio::sync::watch;

/// Open until it is committed; dropped, it changes nothing. There is one at a time: others wait in order.
///
/// SQLite ends a transaction by itself after some errors (a full disk, say), so nobody knows in which state a connection
/// is whose transaction was not committed: it is closed, and the next transaction has a new one.
pub struct Tx {
    pub(super) on: PoolConnection<Sqlite>,
    committed: bool,
    /// When it happens, in milliseconds since 1970.
    pub(super) now: i64,
    pub(super) newest_event: Option<i64>,
    pub(super) newest_run_event: Option<i64>,
    pub(super) has_work: bool,
    actor: Actor,
    entries: Vec<(Actor, Entry)>,
    rings: Arc<Rings>,
    since: Instant,
    timing: Timing,
}

impl Records {
    /// Begins a change by `actor`. What a person or a job does must be noted before it can be committed.
    pub async fn tx(&self, actor: &Actor, now: i64) -> Result<Tx, StoreError> {
        let mut tx = self.tx_not_begun(actor, now).await?;
        sqlx::query("BEGIN IMMEDIATE").execute(&mut *tx.on).await?;
        Ok(tx)
    }

    /// One whose first statement begins it and whose last commits it.
    pub(super) async fn tx_not_begun(&self, actor: &Actor, now: i64) -> Result<Tx, StoreError> {
        let asked = Instant::now();
        let on = self.writer.acquire().await?;
        self.timing.waited.observe(asked.elapsed().as_secs_f64());
        Ok(Tx {
            on,
            committed: false,
            now,
            newest_event: None,
            newest_run_event: None,
            has_work: false,
            actor: actor.clone(),
            entries: Vec::new(),
            rings: self.rings.clone(),
            since: Instant::now(),
            timing: self.timing.clone(),
        })
    }

    /// Begins a change that the service makes by itself because of a rule.
    pub async fn tx_by_rule(&self, rule: &str, now: i64) -> Result<Tx, StoreError> {
        self.tx(&Actor::rule(rule), now).await
    }

    /// The number of the newest event on disk; it changes with each step.
    pub fn newest_event(&self) -> watch::Receiver<i64> {
        self.rings.events.subscribe()
    }

    /// The number of the newest event on disk that is about a run's own state.
    pub fn newest_run_event(&self) -> watch::Receiver<i64> {
        self.rings.run_events.subscribe()
    }

    /// Resolves once work was added since it resolved last. For one waiter.
    pub async fn work_was_added(&self) {
        self.rings.work.notified().await;
    }
}

impl Tx {
    /// Notes what is done, for the journal.
    pub fn note(&mut self, entry: Entry) {
        self.entries.push((self.actor.clone(), entry));
    }

    /// The same for one of several actors whose changes are written together.
    pub fn note_as(&mut self, actor: &Actor, entry: Entry) {
        self.entries.push((actor.clone(), entry));
    }

    /// Writes all of it. A change by a person or a job of which nothing was noted is refused.
    pub async fn commit(mut self) -> Result<(), StoreError> {
        if self.entries.is_empty() && matches!(self.actor.who, Who::Person { .. } | Who::Job(_)) {
            return Err(StoreError::Unnoted);
        }
        journal::write(&mut self.on, &self.entries, self.now).await?;
        sqlx::query("COMMIT").execute(&mut *self.on).await?;
        self.after_commit();
        Ok(())
    }

    /// It is on disk: wakes those who wait for something new.
    pub(super) fn after_commit(mut self) {
        self.committed = true;
        self.timing.took.observe(self.since.elapsed().as_secs_f64());
        for (newest, ring) in [(self.newest_event, &self.rings.events), (self.newest_run_event, &self.rings.run_events)] {
            if let Some(newest) = newest {
                ring.send_if_modified(|known| newest > std::mem::replace(known, newest.max(*known)));
            }
        }
        if self.has_work {
            self.rings.work.notify_one();
        }
    }
}

impl Drop for Tx {
    fn drop(&mut self) {
        if !self.committed {
            self.on.close_on_drop();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A full disk makes SQLite end the transaction by itself; once there is room again, writing goes on.
    #[tokio::test]
    async fn a_transaction_that_broke_leaves_the_next_one_alone() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        for round in 0..3 {
            let mut tx = records.tx_by_rule("a test", 1).await.unwrap();
            sqlx::query("PRAGMA max_page_count = 10").execute(&mut *tx.on).await.unwrap();
            let full = tx.add_person(&"x".repeat(1 << 20), None).await;
            assert!(full.is_err(), "there is no room for it");
            drop(tx);
            let mut tx = records.tx_by_rule("a test", 2).await.unwrap();
            tx.add_person(&format!("odd{round}"), None).await.unwrap();
            tx.commit().await.unwrap();
        }
        assert_eq!(records.persons().await.unwrap().len(), 3);
    }
}
