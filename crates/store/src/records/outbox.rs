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

impl Records {
    /// Messages that should be sent now: for each commit and kind the oldest, when its time has come.
    pub async fn due_messages(&self, now: i64) -> Result<Vec<DueMessage>, StoreError> {
        let sql = "SELECT id, project_id, commit_id, kind, body, tries FROM outbox WHERE id IN
                     (SELECT min(id) FROM outbox WHERE sent_at IS NULL GROUP BY project_id, commit_id, kind)
                   AND next_at <= ? ORDER BY id LIMIT 100";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.pool).await?)
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

    pub async fn next_message_at(&self) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT min(next_at) FROM outbox WHERE sent_at IS NULL").fetch_one(&self.pool).await?)
    }

    /// How many messages have not been accepted yet.
    pub async fn unsent_messages(&self) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar("SELECT count(*) FROM outbox WHERE sent_at IS NULL").fetch_one(&self.pool).await?)
    }
}
