//! Results that later runs may take over.

use super::{Records, StoreError};
use sqlx::SqliteConnection;

/// The result of a job that passed, with the key of everything that could change it.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ReusableRow {
    pub project_id: i64,
    pub pipeline: String,
    pub job: String,
    pub key: String,
    /// JSON: part → value
    pub parts: String,
    pub run_id: i64,
    pub job_number: i64,
    /// `PROJECT/NUMBER`
    pub run: String,
    pub facts: String,
    pub numbers: String,
    pub at: i64,
}

/// How many results of each job are looked at.
const LOOKED_AT: i64 = 20;

/// Writes results that later runs may take over; those of the same key are replaced.
pub(super) async fn write(tx: &mut SqliteConnection, rows: &[ReusableRow]) -> Result<(), StoreError> {
    for row in rows {
        let sql = "INSERT OR REPLACE INTO reusable (project_id, pipeline, job, key, parts, run_id, job_number, run, facts, numbers, at)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
        sqlx::query(sql)
            .bind(row.project_id)
            .bind(&row.pipeline)
            .bind(&row.job)
            .bind(&row.key)
            .bind(&row.parts)
            .bind(row.run_id)
            .bind(row.job_number)
            .bind(&row.run)
            .bind(&row.facts)
            .bind(&row.numbers)
            .bind(row.at)
            .execute(&mut *tx)
            .await?;
    }
    Ok(())
}

impl super::Tx {
    /// Drops results that are not looked at any more, since newer ones of their jobs are.
    pub async fn drop_reusable(&mut self) -> Result<u64, StoreError> {
        let sql = "DELETE FROM reusable WHERE (project_id, pipeline, job, key) IN (SELECT project_id, pipeline, job, key FROM
                     (SELECT *, row_number() OVER (PARTITION BY project_id, pipeline, job ORDER BY at DESC) AS place FROM reusable)
                   WHERE place > ?)";
        Ok(sqlx::query(sql).bind(LOOKED_AT).execute(&mut *self.on).await?.rows_affected())
    }
}

impl Records {
    /// The newest results of a job, newest first.
    pub async fn reusable(&self, project_id: i64, pipeline: &str, job: &str) -> Result<Vec<ReusableRow>, StoreError> {
        let sql = "SELECT * FROM reusable WHERE project_id = ? AND pipeline = ? AND job = ? ORDER BY at DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(job).bind(LOOKED_AT).fetch_all(&self.reads).await?)
    }
}
