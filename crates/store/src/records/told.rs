//! The states of jobs that their commits were told: so that each is told once.

use super::{Records, StoreError, Tx};
use std::collections::HashMap;

impl Records {
    /// By the number of the job.
    pub async fn told_jobs(&self, run_id: i64) -> Result<HashMap<i64, String>, StoreError> {
        let sql = "SELECT job, state FROM told_jobs WHERE run_id = ?";
        let rows: Vec<(i64, String)> = sqlx::query_as(sql).bind(run_id).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().collect())
    }
}

impl Tx {
    /// The commit was told that a job is in this state.
    pub async fn set_told_job(&mut self, run_id: i64, job: i64, state: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO told_jobs (run_id, job, state) VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET state = ?3";
        sqlx::query(sql).bind(run_id).bind(job).bind(state).execute(&mut *self.on).await?;
        Ok(())
    }
}
