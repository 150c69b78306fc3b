//! Users and passwords for services outside, as they are stored: sealed.

use super::{Records, StoreError};

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ConnectionRow {
    pub name: String,
    pub user: String,
    pub sealed: Vec<u8>,
    pub set_by: String,
    pub set_at: i64,
}

impl Records {
    /// Sets a connection; one of that name before is gone.
    pub async fn set_connection(&self, project_id: i64, row: &ConnectionRow) -> Result<(), StoreError> {
        sqlx::query("INSERT OR REPLACE INTO connections (project_id, name, user, sealed, set_by, set_at) VALUES (?, ?, ?, ?, ?, ?)")
            .bind(project_id)
            .bind(&row.name)
            .bind(&row.user)
            .bind(&row.sealed)
            .bind(&row.set_by)
            .bind(row.set_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn connections(&self, project_id: i64) -> Result<Vec<ConnectionRow>, StoreError> {
        let sql = "SELECT name, user, sealed, set_by, set_at FROM connections WHERE project_id = ? ORDER BY name";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.pool).await?)
    }

    /// Whether there was one.
    pub async fn remove_connection(&self, project_id: i64, name: &str) -> Result<bool, StoreError> {
        let sql = "DELETE FROM connections WHERE project_id = ? AND name = ?";
        Ok(sqlx::query(sql).bind(project_id).bind(name).execute(&self.pool).await?.rows_affected() > 0)
    }
}
