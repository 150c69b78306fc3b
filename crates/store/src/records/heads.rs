//! Which commit of each branch and proposal is the newest of those that were looked at.

use super::{Records, StoreError, Tx};
use ordotaxis_core::plan::Occasion;

/// The newest commit of a branch or proposal that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct Head {
    pub commit_id: String,
    /// The number of the occasion that reported it; later ones have higher numbers.
    pub arrived: i64,
}

/// A run of the same branch or proposal.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Sibling {
    pub number: i64,
    /// The commit pushed, or what the proposal offered.
    pub head: String,
}

impl Records {
    /// The newest commit of a branch or proposal that was looked at. `of` names it, such as `push main`.
    pub async fn head(&self, project_id: i64, of: &str) -> Result<Option<Head>, StoreError> {
        let sql = "SELECT commit_id, arrived FROM heads WHERE project_id = ? AND of = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(of).fetch_optional(&self.reads).await?)
    }

    /// The newest runs of a pipeline for the same branch or proposal as this occasion, newest first.
    pub async fn siblings(&self, project_id: i64, pipeline: &str, occasion: &Occasion) -> Result<Vec<Sibling>, StoreError> {
        let sql = "SELECT number, coalesce(json_extract(merged, '$.head'), commit_id) AS head FROM runs
                   WHERE project_id = ? AND pipeline = ? AND event = ? AND branch IS ? AND target IS ? AND plan ->> '$.occasion.source' IS ?
                   AND again_of IS NULL AND plan IS NOT NULL ORDER BY id DESC LIMIT 50";
        let query = sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(occasion.event().word()).bind(occasion.branch());
        Ok(query.bind(occasion.target()).bind(occasion.source()).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Makes this the newest commit that was looked at.
    pub async fn set_head(&mut self, project_id: i64, of: &str, head: &Head) -> Result<(), StoreError> {
        let sql = "INSERT INTO heads (project_id, of, commit_id, arrived) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT DO UPDATE SET commit_id = ?3, arrived = ?4";
        sqlx::query(sql).bind(project_id).bind(of).bind(&head.commit_id).bind(head.arrived).execute(&mut *self.on).await?;
        Ok(())
    }
}
