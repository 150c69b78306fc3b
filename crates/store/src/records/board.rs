//! What the board asks: each project's newest runs, and since when its main branch is as it is.

use super::error::json;
use super::{Records, StoreError};

/// What the board shows of one run.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct BoardRow {
    pub id: i64,
    pub project_id: i64,
    pub number: i64,
    pub state: String,
    pub branch: Option<String>,
    pub commit_title: String,
    pub commit_author: String,
    pub started_by: Option<String>,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    pub rest_ms: i64,
}

/// The run that brought the main branch to its present verdict.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct BrokenRow {
    pub id: i64,
    pub project_id: i64,
    pub number: i64,
    pub state: String,
    pub why: Option<String>,
    pub commit_id: String,
    pub commit_title: String,
    pub commit_author: String,
    pub ended_at: i64,
}

impl Records {
    /// The newest runs of each of these projects, newest first; at most `limit` of each.
    pub async fn board_runs(&self, projects: &[i64], limit: i64) -> Result<Vec<BoardRow>, StoreError> {
        let sql =
            "SELECT runs.id, project_id, number, state, branch, commit_title, commit_author, started_by, started_at, ended_at, rest_ms FROM json_each(?) AS wanted
                   JOIN runs ON runs.id IN (
                     SELECT id FROM runs AS one WHERE one.project_id = wanted.value ORDER BY one.number DESC LIMIT ?)
                   ORDER BY project_id, number DESC";
        Ok(sqlx::query_as(sql).bind(json(projects)?).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Of each pipeline the newest verdict for a branch, newest first: (number, state). Of one that never ended the run that
    /// goes on; what was overtaken, or starts nothing, says nothing about a branch.
    pub async fn newest_verdicts(&self, project_id: i64, branch: &str, pipeline: Option<&str>) -> Result<Vec<(i64, String)>, StoreError> {
        let sql = "SELECT number, state FROM runs JOIN (
                     SELECT coalesce(max(id) FILTER (WHERE ended_at IS NOT NULL), max(id)) AS newest FROM runs
                     WHERE project_id = ?1 AND branch = ?2 AND (?3 IS NULL OR pipeline = ?3) AND state NOT IN ('overtaken', 'skipped')
                     GROUP BY pipeline) ON id = newest ORDER BY id DESC";
        Ok(sqlx::query_as(sql).bind(project_id).bind(branch).bind(pipeline).fetch_all(&self.reads).await?)
    }

    /// For each project the first of the latest runs on its main branch that all have the same verdict. Runs that neither
    /// passed nor failed say nothing about a branch.
    pub async fn turned(&self, projects: &[i64]) -> Result<Vec<BrokenRow>, StoreError> {
        let newest = |state: &str| {
            format!("coalesce((SELECT max(id) FROM runs WHERE project_id = projects.id AND branch = main_branch AND state = '{state}'), 0)")
        };
        let sql = format!(
            "WITH newest AS MATERIALIZED (SELECT projects.id AS project, main_branch, {} AS passed, {} AS failed FROM projects
               WHERE projects.id IN (SELECT value FROM json_each(?)))
             SELECT id, project_id, number, state, why, commit_id, commit_title, commit_author, ended_at FROM newest
             JOIN runs ON runs.id = (SELECT min(id) FROM runs AS one WHERE one.project_id = project AND one.branch = main_branch
               AND one.state = iif(passed > failed, 'passed', 'failed') AND one.id > min(passed, failed))",
            newest("passed"),
            newest("failed")
        );
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(json(projects)?).fetch_all(&self.reads).await?)
    }
}
