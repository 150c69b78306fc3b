//! The outbox: what the outside is to be told. Rows are written with the step that caused them; for each commit and
//! kind only the oldest unsent one is ever due, so that order holds whatever fails.

use super::{Records, StoreError};
use serde::{Deserialize, Serialize};

/// What is to be told about a run.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Message {
    /// `PROJECT/NUMBER`
    pub run: String,
    pub pipeline: String,
    pub state: ordotaxis_core::engine::State,
    pub sentence: String,
    pub branch: Option<String>,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
}

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DueMessage {
    pub id: i64,
    pub project_id: i64,
    pub commit_id: String,
    /// `status` or `note`
    pub kind: String,
    pub body: String,
    pub tries: i64,
}

/// A message that is not tried any more.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct GivenUpMessage {
    pub id: i64,
    pub project: String,
    pub commit_id: String,
    pub kind: String,
    pub body: String,
    pub tries: i64,
    pub given_up_at: i64,
    pub said: Option<String>,
}

impl Records {
    /// Messages that should be sent now: for each commit and kind the oldest, when its time has come; of each project
    /// the first `each`.
    pub async fn due_messages(&self, now: i64, each: i64) -> Result<Vec<DueMessage>, StoreError> {
        let sql = "SELECT id, project_id, commit_id, kind, body, tries FROM
                     (SELECT *, row_number() OVER (PARTITION BY project_id ORDER BY id) AS place FROM outbox WHERE id IN
                       (SELECT min(id) FROM outbox WHERE sent_at IS NULL AND given_up_at IS NULL GROUP BY project_id, commit_id, kind)
                     AND next_at <= ?)
                   WHERE place <= ? ORDER BY id";
        Ok(sqlx::query_as(sql).bind(now).bind(each).fetch_all(&self.pool).await?)
    }

    pub async fn message_sent(&self, id: i64, now: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE outbox SET sent_at = ?, said = NULL WHERE id = ?").bind(now).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn message_again(&self, id: i64, said: &str, next_at: i64) -> Result<(), StoreError> {
        let sql = "UPDATE outbox SET tries = tries + 1, next_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(next_at).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// A message that will never be accepted: it is not tried again by itself, and what comes after it goes on.
    pub async fn message_given_up(&self, id: i64, said: &str, now: i64) -> Result<(), StoreError> {
        let sql = "UPDATE outbox SET tries = tries + 1, given_up_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(now).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Messages that were given up, the newest first.
    pub async fn given_up_messages(&self) -> Result<Vec<GivenUpMessage>, StoreError> {
        let sql = "SELECT outbox.id, projects.name AS project, commit_id, kind, body, tries, given_up_at, said FROM outbox
                   JOIN projects ON projects.id = project_id WHERE given_up_at IS NOT NULL ORDER BY outbox.id DESC LIMIT 200";
        Ok(sqlx::query_as(sql).fetch_all(&self.pool).await?)
    }

    /// Sends a message that was given up once more. False when it was not.
    pub async fn send_again(&self, id: i64, now: i64) -> Result<bool, StoreError> {
        let sql = "UPDATE outbox SET given_up_at = NULL, tries = 0, next_at = ? WHERE id = ? AND given_up_at IS NOT NULL";
        Ok(sqlx::query(sql).bind(now).bind(id).execute(&self.pool).await?.rows_affected() > 0)
    }

    /// When the next one comes due that is not due yet.
    pub async fn next_message_at(&self, now: i64) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT min(next_at) FROM outbox WHERE sent_at IS NULL AND given_up_at IS NULL AND next_at > ?";
        Ok(sqlx::query_scalar(sql).bind(now).fetch_one(&self.pool).await?)
    }

    /// How many messages have not been accepted yet.
    pub async fn unsent_messages(&self) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar("SELECT count(*) FROM outbox WHERE sent_at IS NULL AND given_up_at IS NULL").fetch_one(&self.pool).await?)
    }
}
