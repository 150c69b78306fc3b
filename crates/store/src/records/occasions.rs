//! Occasions: kept when they arrive, worked off afterwards, tried again when the repository cannot be reached.

use super::{Records, StoreError};

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DueOccasion {
    pub id: i64,
    pub project_id: i64,
    /// JSON: the occasion.
    pub body: String,
    pub tries: i64,
}

impl Records {
    /// Keeps an occasion. Gives false, and keeps nothing, when this delivery came before.
    pub async fn add_occasion(&self, project_id: i64, delivery: &str, body: &str, now: i64) -> Result<bool, StoreError> {
        let sql = "INSERT INTO occasions (project_id, delivery, body, received_at, next_at) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING";
        let done = sqlx::query(sql).bind(project_id).bind(delivery).bind(body).bind(now).bind(now).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Those that should be worked off now, oldest first.
    pub async fn due_occasions(&self, now: i64) -> Result<Vec<DueOccasion>, StoreError> {
        let sql = "SELECT id, project_id, body, tries FROM occasions WHERE done_at IS NULL AND next_at <= ? ORDER BY id LIMIT 50";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.pool).await?)
    }

    pub async fn occasion_done(&self, id: i64, said: &str, now: i64) -> Result<(), StoreError> {
        let sql = "UPDATE occasions SET done_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(now).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn occasion_again(&self, id: i64, said: &str, next_at: i64) -> Result<(), StoreError> {
        let sql = "UPDATE occasions SET tries = tries + 1, next_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(next_at).bind(said).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// When the next one is due, if any waits.
    pub async fn next_occasion_at(&self) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT min(next_at) FROM occasions WHERE done_at IS NULL").fetch_one(&self.pool).await?)
    }
}
