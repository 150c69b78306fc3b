//! What the board asks: each project's newest runs, and since when its main branch is as it is.

use super::{Records, StoreError};

#[derive(Debug, Clone, sqlx::FromRow)]
pub struct BoardRow {
    pub id: i64,
    pub number: i64,
    pub state: String,
    pub branch: Option<String>,
    pub commit_title: String,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    pub rest_ms: i64,
}

/// The run that brought the main branch to its present verdict.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct BrokenRow {
    pub id: i64,
    pub number: i64,
    pub state: String,
    pub why: Option<String>,
    pub commit_id: String,
    pub commit_title: String,
    pub commit_author: String,
    pub ended_at: i64,
}

impl Records {
    /// The newest runs of a project, newest first.
    pub async fn board_runs(&self, project_id: i64, limit: i64) -> Result<Vec<BoardRow>, StoreError> {
        let sql = "SELECT id, number, state, branch, commit_title, started_at, ended_at, rest_ms FROM runs
                   WHERE project_id = ? ORDER BY id DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(limit).fetch_all(&self.reads).await?)
    }

    /// The first of the runs on a branch that all came to the branch's newest verdict.
    pub async fn turned(&self, project_id: i64, branch: &str) -> Result<Option<BrokenRow>, StoreError> {
        let sql = "WITH ended AS (SELECT id, number, state, why, commit_id, commit_title, commit_author, ended_at FROM runs
                     WHERE project_id = ?1 AND branch = ?2 AND state IN ('passed', 'failed')),
                   newest AS (SELECT state FROM ended ORDER BY id DESC LIMIT 1)
                   SELECT * FROM ended WHERE state = (SELECT state FROM newest)
                     AND id > coalesce((SELECT max(id) FROM ended WHERE state <> (SELECT state FROM newest)), 0)
                   ORDER BY id LIMIT 1";
        Ok(sqlx::query_as(sql).bind(project_id).bind(branch).fetch_optional(&self.reads).await?)
    }
}
