//! Occasions: kept when they arrive, worked off afterwards, tried again when the repository cannot be reached; and which
//! commit is the newest of those they told of.

use super::{Records, StoreError};
use ordotaxis_core::plan::Occasion;

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DueOccasion {
    pub id: i64,
    pub project_id: i64,
    /// JSON: the occasion.
    pub body: String,
    pub tries: i64,
}

/// The newest commit of a branch or proposal that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct Head {
    pub commit_id: String,
    /// The number of the occasion that told of it; later ones have higher numbers.
    pub arrived: i64,
}

/// A run of the same branch or proposal, by what it was told of.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Sibling {
    pub number: i64,
    /// The commit pushed, or what the proposal offered.
    pub head: String,
}

impl Records {
    /// Keeps an occasion. Gives false, and keeps nothing, when this delivery came before; one that was given up is
    /// tried again.
    pub async fn add_occasion(&self, project_id: i64, delivery: &str, body: &str, now: i64) -> Result<bool, StoreError> {
        let sql = "INSERT INTO occasions (project_id, delivery, body, received_at, next_at) VALUES (?, ?, ?, ?, ?)
                   ON CONFLICT (project_id, delivery) DO UPDATE SET gave_up = 0, done_at = NULL, tries = 0, next_at = excluded.next_at
                   WHERE gave_up";
        let done = sqlx::query(sql).bind(project_id).bind(delivery).bind(body).bind(now).bind(now).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// The oldest of each project that should be worked off now.
    pub async fn due_occasions(&self, now: i64) -> Result<Vec<DueOccasion>, StoreError> {
        let sql = "SELECT id, project_id, body, tries FROM occasions WHERE id IN
                     (SELECT min(id) FROM occasions WHERE done_at IS NULL AND next_at <= ? GROUP BY project_id) ORDER BY id";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.pool).await?)
    }

    pub async fn occasion(&self, id: i64) -> Result<Option<DueOccasion>, StoreError> {
        Ok(sqlx::query_as("SELECT id, project_id, body, tries FROM occasions WHERE id = ?").bind(id).fetch_optional(&self.pool).await?)
    }

    pub async fn occasion_done(&self, id: i64, said: &str, now: i64) -> Result<(), StoreError> {
        let sql = "UPDATE occasions SET done_at = ?, said = ?, gave_up = 0 WHERE id = ?";
        sqlx::query(sql).bind(now).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// It is not tried again by itself.
    pub async fn occasion_given_up(&self, id: i64, said: &str, now: i64) -> Result<(), StoreError> {
        let sql = "UPDATE occasions SET done_at = ?, said = ?, gave_up = 1 WHERE id = ?";
        sqlx::query(sql).bind(now).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn occasion_again(&self, id: i64, said: &str, next_at: i64) -> Result<(), StoreError> {
        let sql = "UPDATE occasions SET tries = tries + 1, next_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(next_at).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// When the next one comes due that is not due yet.
    pub async fn next_occasion_at(&self, now: i64) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT min(next_at) FROM occasions WHERE done_at IS NULL AND next_at > ?";
        Ok(sqlx::query_scalar(sql).bind(now).fetch_one(&self.pool).await?)
    }

    /// What came of every occasion, oldest first; none where it was not worked off yet.
    pub async fn said(&self) -> Result<Vec<Option<String>>, StoreError> {
        Ok(sqlx::query_scalar("SELECT iif(done_at IS NULL, NULL, said) FROM occasions ORDER BY id").fetch_all(&self.pool).await?)
    }

    /// What keeps a project from being read: what the last try came to, for the oldest occasion that waits for another.
    pub async fn trouble(&self, project_id: i64) -> Result<Option<String>, StoreError> {
        let sql = "SELECT said FROM occasions WHERE project_id = ? AND done_at IS NULL AND tries > 0 ORDER BY id LIMIT 1";
        Ok(sqlx::query_scalar::<_, Option<String>>(sql).bind(project_id).fetch_optional(&self.pool).await?.flatten())
    }

    pub async fn head(&self, project_id: i64, of: &str) -> Result<Option<Head>, StoreError> {
        let sql = "SELECT commit_id, arrived FROM heads WHERE project_id = ? AND of = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(of).fetch_optional(&self.pool).await?)
    }

    pub async fn set_head(&self, project_id: i64, of: &str, head: &Head) -> Result<(), StoreError> {
        let sql = "INSERT INTO heads (project_id, of, commit_id, arrived) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT DO UPDATE SET commit_id = ?3, arrived = ?4";
        sqlx::query(sql).bind(project_id).bind(of).bind(&head.commit_id).bind(head.arrived).execute(&self.pool).await?;
        Ok(())
    }

    /// The newest runs of a pipeline that tell of the same branch or proposal as this occasion, newest first.
    pub async fn siblings(&self, project_id: i64, pipeline: &str, occasion: &Occasion) -> Result<Vec<Sibling>, StoreError> {
        let sql = "SELECT number, coalesce(json_extract(merged, '$.head'), commit_id) AS head FROM runs
                   WHERE project_id = ? AND pipeline = ? AND event = ? AND branch IS ? AND target IS ? AND plan ->> '$.occasion.source' IS ?
                   AND again_of IS NULL AND plan IS NOT NULL ORDER BY id DESC LIMIT 50";
        let query = sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(occasion.event.word()).bind(&occasion.branch);
        Ok(query.bind(&occasion.target).bind(&occasion.source).fetch_all(&self.pool).await?)
    }
}
