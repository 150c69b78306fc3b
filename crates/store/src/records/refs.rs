//! Where branches and tags were when something was last told or found of them.

use super::error::json;
use super::{Records, StoreError, Tx};
use std::collections::BTreeMap;

/// A project as polling sees it.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct PolledRow {
    pub id: i64,
    pub poll_ms: Option<i64>,
    pub looked_at: Option<i64>,
    /// What was found last that no hook told, in words.
    pub found: Option<String>,
}

impl Records {
    /// By full name: what was last told or found.
    pub async fn refs_seen(&self, project_id: i64) -> Result<BTreeMap<String, String>, StoreError> {
        let sql = "SELECT name, commit_id FROM refs_seen WHERE project_id = ?";
        let rows: Vec<(String, String)> = sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().collect())
    }

    /// Every project, with how it is polled.
    pub async fn polled(&self) -> Result<Vec<PolledRow>, StoreError> {
        Ok(sqlx::query_as("SELECT id, poll_ms, looked_at, found FROM projects ORDER BY id").fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Something was told of a branch or tag; none: it was removed.
    pub async fn set_ref_seen(&mut self, project_id: i64, name: &str, commit: Option<&str>) -> Result<(), StoreError> {
        let sql = match commit {
            Some(_) => "INSERT INTO refs_seen (project_id, name, commit_id) VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET commit_id = ?3",
            None => "DELETE FROM refs_seen WHERE project_id = ?1 AND name = ?2",
        };
        sqlx::query(sql).bind(project_id).bind(name).bind(commit).execute(&mut *self.on).await?;
        Ok(())
    }

    /// What is there when a project is looked at for the first time.
    pub async fn set_refs_seen(&mut self, project_id: i64, refs: &BTreeMap<String, String>) -> Result<(), StoreError> {
        let list = json(&refs.iter().collect::<Vec<_>>())?;
        let sql = "INSERT INTO refs_seen (project_id, name, commit_id) SELECT ?1, value ->> 0, value ->> 1 FROM json_each(?2) WHERE true
                   ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(project_id).bind(list).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A branch or tag was found elsewhere than it was seen at; none: not there. False when something else was told of it
    /// meanwhile: then that counts.
    pub async fn move_ref_seen(&mut self, project_id: i64, name: &str, from: Option<&str>, to: Option<&str>) -> Result<bool, StoreError> {
        let sql = match (from, to) {
            (_, None) => "DELETE FROM refs_seen WHERE project_id = ?1 AND name = ?2 AND commit_id IS ?3",
            (None, Some(_)) => "INSERT INTO refs_seen (project_id, name, commit_id) VALUES (?1, ?2, ?4) ON CONFLICT DO NOTHING",
            (Some(_), Some(_)) => "UPDATE refs_seen SET commit_id = ?4 WHERE project_id = ?1 AND name = ?2 AND commit_id IS ?3",
        };
        let query = sqlx::query(sql).bind(project_id).bind(name).bind(from).bind(to);
        Ok(query.execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// The repository could be looked at now; what was found that no hook told, if anything.
    pub async fn looked(&mut self, project_id: i64, found: Option<&str>) -> Result<(), StoreError> {
        let sql = "UPDATE projects SET looked_at = ?, found = coalesce(?, found) WHERE id = ?";
        sqlx::query(sql).bind(self.now).bind(found).bind(project_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// How often a project is looked at, in milliseconds; none: as its forge needs.
    pub async fn set_poll(&mut self, project_id: i64, poll_ms: Option<i64>) -> Result<(), StoreError> {
        sqlx::query("UPDATE projects SET poll_ms = ? WHERE id = ?").bind(poll_ms).bind(project_id).execute(&mut *self.on).await?;
        Ok(())
    }
}
