//! Secrets as they are stored: sealed. Who can open them is the service's business (it holds the key).

use super::{Records, StoreError};

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SecretRow {
    pub name: String,
    pub sealed: Vec<u8>,
    pub set_by: String,
    pub set_at: i64,
}

impl Records {
    /// Sets a secret; one of that name before is gone.
    pub async fn set_secret(&self, project_id: i64, name: &str, sealed: &[u8], by: &str, now: i64) -> Result<(), StoreError> {
        sqlx::query("INSERT OR REPLACE INTO secrets (project_id, name, sealed, set_by, set_at) VALUES (?, ?, ?, ?, ?)")
            .bind(project_id)
            .bind(name)
            .bind(sealed)
            .bind(by)
            .bind(now)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn secrets(&self, project_id: i64) -> Result<Vec<SecretRow>, StoreError> {
        let sql = "SELECT name, sealed, set_by, set_at FROM secrets WHERE project_id = ? ORDER BY name";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.pool).await?)
    }

    /// Whether there was one.
    pub async fn remove_secret(&self, project_id: i64, name: &str) -> Result<bool, StoreError> {
        let sql = "DELETE FROM secrets WHERE project_id = ? AND name = ?";
        Ok(sqlx::query(sql).bind(project_id).bind(name).execute(&self.pool).await?.rows_affected() > 0)
    }
}
