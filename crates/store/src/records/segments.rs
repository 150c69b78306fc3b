//! Closed segments of logs: which chunks of the store hold their text.

use super::{Records, StoreError, Tx};
use crate::log_id::LogId;

/// A segment; `run_id` to `segment` name it.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub(crate) struct LogSegmentRow {
    pub(crate) run_id: i64,
    pub(crate) job: i64,
    pub(crate) attempt: i64,
    /// The helper; nothing for the job itself.
    pub(crate) beside: String,
    pub(crate) segment: i64,
    /// Names, one after the other.
    pub(crate) chunks: Vec<u8>,
    pub(crate) places: Vec<u8>,
}

impl Records {
    /// Those of one log, in order.
    pub(crate) async fn log_segments(&self, id: &LogId) -> Result<Vec<LogSegmentRow>, StoreError> {
        let sql = "SELECT * FROM log_segments WHERE run_id = ? AND job = ? AND attempt = ? AND beside = ? ORDER BY segment";
        let query = sqlx::query_as(sql).bind(id.run).bind(i64::try_from(id.job).unwrap_or(i64::MAX)).bind(i64::from(id.attempt));
        Ok(query.bind(id.beside.as_deref().unwrap_or_default()).fetch_all(&self.reads).await?)
    }

    /// The chunks of every segment, what the segment is, and its run.
    pub async fn log_chunks(&self) -> Result<Vec<(Vec<u8>, String, i64)>, StoreError> {
        let sql = "SELECT chunks, 'log of job ' || (job + 1) || ' of ' || projects.name || '/' || runs.number, runs.id FROM log_segments
                     JOIN runs ON runs.id = run_id JOIN projects ON projects.id = runs.project_id";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// Attempts that have not ended: run, job and number.
    pub(crate) async fn open_attempts(&self) -> Result<Vec<(i64, i64, u32)>, StoreError> {
        Ok(sqlx::query_as("SELECT run_id, job, number FROM attempts WHERE ended_at IS NULL").fetch_all(&self.reads).await?)
    }

    /// Which of these runs there are.
    pub(crate) async fn known_runs(&self, ids: &[i64]) -> Result<Vec<i64>, StoreError> {
        let list = serde_json::to_string(ids).map_err(|_| StoreError::Value("run ids"))?;
        Ok(sqlx::query_scalar("SELECT id FROM runs WHERE id IN (SELECT value FROM json_each(?))").bind(list).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// All or none. A run that is gone meanwhile needs none, nor does an attempt whose log was dropped.
    pub(crate) async fn add_log_segments(&mut self, rows: &[&LogSegmentRow]) -> Result<(), StoreError> {
        for row in rows {
            let sql = "INSERT OR REPLACE INTO log_segments (run_id, job, attempt, beside, segment, chunks, places)
                         SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7 WHERE EXISTS (SELECT 1 FROM runs WHERE id = ?1)
                           AND NOT EXISTS (SELECT 1 FROM dropped_logs JOIN attempts ON attempts.run_id = dropped_logs.run_id
                             WHERE dropped_logs.run_id = ?1 AND attempts.job = ?2 AND attempts.number = ?3 AND ended_at <= at)";
            let query = sqlx::query(sql).bind(row.run_id).bind(row.job).bind(row.attempt).bind(&row.beside).bind(row.segment);
            query.bind(&row.chunks).bind(&row.places).execute(&mut *self.on).await?;
        }
        Ok(())
    }
}
