//! Numbers of runs, over time.

use super::{Records, StoreError};
use sqlx::SqliteConnection;

/// A number of a run that ended.
#[derive(Debug, Clone, PartialEq)]
pub struct NewNumber {
    pub project_id: i64,
    pub pipeline: String,
    pub name: String,
    pub run_id: i64,
    pub value: f64,
}

/// One number of one run, for plots over time.
#[derive(Debug, Clone, PartialEq, sqlx::FromRow)]
pub struct NumberRow {
    pub name: String,
    pub run_number: i64,
    pub value: f64,
    pub branch: Option<String>,
    pub commit_id: String,
    pub created_at: i64,
}

/// Writes numbers; one that a run has already is replaced.
pub(super) async fn write(tx: &mut SqliteConnection, rows: &[NewNumber]) -> Result<(), StoreError> {
    for row in rows {
        let sql = "INSERT OR REPLACE INTO numbers (project_id, pipeline, name, run_id, value) VALUES (?, ?, ?, ?, ?)";
        sqlx::query(sql)
            .bind(row.project_id)
            .bind(&row.pipeline)
            .bind(&row.name)
            .bind(row.run_id)
            .bind(row.value)
            .execute(&mut *tx)
            .await?;
    }
    Ok(())
}

impl Records {
    /// The numbers of a pipeline's last runs, by name, oldest first.
    pub async fn numbers(&self, project_id: i64, pipeline: &str, runs: i64) -> Result<Vec<NumberRow>, StoreError> {
        let sql = "SELECT name, runs.number AS run_number, value, branch, commit_id, created_at FROM numbers JOIN runs ON runs.id = run_id
                   WHERE numbers.project_id = ?1 AND numbers.pipeline = ?2
                     AND run_id IN (SELECT id FROM runs WHERE project_id = ?1 AND pipeline = ?2 ORDER BY id DESC LIMIT ?3)
                   ORDER BY name, run_id";
        Ok(sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(runs).fetch_all(&self.reads).await?)
    }

    /// The numbers of a run, by name.
    pub async fn numbers_of(&self, run_id: i64) -> Result<Vec<(String, f64)>, StoreError> {
        let sql = "SELECT name, value FROM numbers WHERE run_id = ? ORDER BY name";
        Ok(sqlx::query_as(sql).bind(run_id).fetch_all(&self.reads).await?)
    }

    /// One number of several runs, by run.
    pub async fn number_of(&self, name: &str, runs: &[i64]) -> Result<Vec<(i64, f64)>, StoreError> {
        let sql = "SELECT run_id, value FROM numbers WHERE name = ? AND run_id IN (SELECT value FROM json_each(?))";
        Ok(sqlx::query_as(sql).bind(name).bind(super::error::json(runs)?).fetch_all(&self.reads).await?)
    }

    /// One number in runs before another, newest first: (run, value).
    pub async fn number_before(&self, project_id: i64, pipeline: &str, name: &str, run_id: i64) -> Result<Vec<(i64, f64)>, StoreError> {
        let sql = "SELECT runs.number, value FROM numbers JOIN runs ON runs.id = run_id
                   WHERE numbers.project_id = ? AND numbers.pipeline = ? AND name = ? AND run_id < ? ORDER BY run_id DESC LIMIT 200";
        Ok(sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(name).bind(run_id).fetch_all(&self.reads).await?)
    }
}
