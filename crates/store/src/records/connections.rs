//! Users and passwords for services outside, as they are stored: sealed.

use super::secrets::ReachRow;
use super::{Reach, Records, StoreError, Tx};

/// A user and an encrypted password for a service outside, such as a registry.
#[derive(Debug, Clone)]
pub struct ConnectionRow {
    pub name: String,
    pub user: String,
    /// Where it leads, for steps that ask.
    pub address: Option<String>,
    pub sealed: Vec<u8>,
    pub set_by: String,
    pub set_at: i64,
    pub reach: Reach,
}

#[derive(sqlx::FromRow)]
struct Row {
    name: String,
    user: String,
    address: Option<String>,
    sealed: Vec<u8>,
    set_by: String,
    set_at: i64,
    #[sqlx(flatten)]
    reach: ReachRow,
}

impl Records {
    /// All connections of a project, by name.
    pub async fn connections(&self, project_id: i64) -> Result<Vec<ConnectionRow>, StoreError> {
        let sql = "SELECT name, user, address, sealed, set_by, set_at, branches, tags, pipelines FROM connections WHERE project_id = ? ORDER BY name";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?;
        let read = |row: Row| {
            let Row { name, user, address, sealed, set_by, set_at, reach } = row;
            Ok(ConnectionRow { name, user, address, sealed, set_by, set_at, reach: reach.read()? })
        };
        rows.into_iter().map(read).collect()
    }
}

impl Tx {
    /// Sets a connection; one of that name before is gone.
    pub async fn set_connection(&mut self, project_id: i64, row: &ConnectionRow) -> Result<(), StoreError> {
        let reach = ReachRow::of(&row.reach)?;
        let [branches, tags, pipelines] = reach.columns();
        let sql = "INSERT OR REPLACE INTO connections (project_id, name, user, address, sealed, set_by, set_at, branches, tags, pipelines)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
        sqlx::query(sql)
            .bind(project_id)
            .bind(&row.name)
            .bind(&row.user)
            .bind(&row.address)
            .bind(&row.sealed)
            .bind(&row.set_by)
            .bind(row.set_at)
            .bind(branches)
            .bind(tags)
            .bind(pipelines)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Whether there was one.
    pub async fn remove_connection(&mut self, project_id: i64, name: &str) -> Result<bool, StoreError> {
        let sql = "DELETE FROM connections WHERE project_id = ? AND name = ?";
        Ok(sqlx::query(sql).bind(project_id).bind(name).execute(&mut *self.on).await?.rows_affected() > 0)
    }
}
