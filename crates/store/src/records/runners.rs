//! Enrolled runners.

use super::{Records, StoreError, exists};
use crate::key::digest_of;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone)]
pub struct NewRunner<'a> {
    pub name: &'a str,
    pub credential: &'a str,
}

#[derive(Debug, Clone)]
pub struct RunnerRow {
    pub name: String,
    pub session: Option<String>,
    pub slots: u32,
    pub labels: Vec<String>,
    pub isolation: String,
    pub seen_at: Option<i64>,
    pub tools: Vec<ToolRow>,
    pub cores: u32,
    /// Bytes.
    pub memory: i64,
    /// Who asked it to take nothing more.
    pub draining_by: Option<String>,
}

/// A tool that a runner found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToolRow {
    pub name: String,
    pub version: String,
}

/// A stretch of time in which a slot of a runner was taken.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Busy {
    pub runner: String,
    pub started_at: i64,
    pub ended_at: Option<i64>,
}

#[derive(sqlx::FromRow)]
struct Row {
    name: String,
    session: Option<String>,
    slots: u32,
    labels: String,
    isolation: String,
    seen_at: Option<i64>,
    tools: String,
    cores: u32,
    memory: i64,
    draining_by: Option<String>,
}

impl Records {
    pub async fn add_runner(&self, runner: &NewRunner<'_>, now: i64) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO runners (name, credential, enrolled_at) VALUES (?, ?, ?)")
            .bind(runner.name)
            .bind(digest_of(runner.credential))
            .bind(now)
            .execute(&self.pool)
            .await
            .map_err(|error| exists(error, "a runner", runner.name))?;
        Ok(())
    }

    pub async fn runner_by_credential(&self, credential: &str) -> Result<Option<String>, StoreError> {
        let sql = "SELECT name FROM runners WHERE credential = ?";
        Ok(sqlx::query_scalar(sql).bind(digest_of(credential)).fetch_optional(&self.pool).await?)
    }

    pub async fn runners(&self) -> Result<Vec<RunnerRow>, StoreError> {
        let sql = "SELECT name, session, slots, labels, isolation, seen_at, tools, cores, memory, draining_by FROM runners ORDER BY name";
        let rows: Vec<Row> = sqlx::query_as(sql).fetch_all(&self.pool).await?;
        let read = |row: Row| {
            let labels = serde_json::from_str(&row.labels).map_err(|_| StoreError::Value("runners.labels"))?;
            let tools = serde_json::from_str(&row.tools).map_err(|_| StoreError::Value("runners.tools"))?;
            let Row { name, session, slots, isolation, seen_at, cores, memory, draining_by, .. } = row;
            Ok(RunnerRow { name, session, slots, labels, isolation, seen_at, tools, cores, memory, draining_by })
        };
        rows.into_iter().map(read).collect()
    }

    /// Notes what a runner said of itself when it signed on.
    pub async fn runner_signed_on(&self, runner: &RunnerRow, now: i64) -> Result<(), StoreError> {
        let labels = serde_json::to_string(&runner.labels).map_err(|_| StoreError::Value("runners.labels"))?;
        let tools = serde_json::to_string(&runner.tools).map_err(|_| StoreError::Value("runners.tools"))?;
        let sql = "UPDATE runners SET session = ?, slots = ?, labels = ?, isolation = ?, tools = ?, cores = ?, memory = ?, seen_at = ? WHERE name = ?";
        sqlx::query(sql)
            .bind(&runner.session)
            .bind(runner.slots)
            .bind(labels)
            .bind(&runner.isolation)
            .bind(tools)
            .bind(runner.cores)
            .bind(runner.memory)
            .bind(now)
            .bind(&runner.name)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Asks a runner to take nothing more, or with none lets it go on. Gives whether there is such a runner.
    pub async fn set_draining(&self, name: &str, by: Option<&str>) -> Result<bool, StoreError> {
        let done = sqlx::query("UPDATE runners SET draining_by = ? WHERE name = ?").bind(by).bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// When slots of runners were taken, of what had not ended at `since`.
    pub async fn busy_since(&self, since: i64) -> Result<Vec<Busy>, StoreError> {
        // An attempt that began long before is still found while it goes on: leases end within a day.
        let sql = "SELECT runner, started_at, ended_at FROM attempts
                   WHERE started_at > ?1 - 86400000 AND (ended_at IS NULL OR ended_at > ?1)";
        Ok(sqlx::query_as(sql).bind(since).fetch_all(&self.pool).await?)
    }

    pub async fn runner_seen(&self, name: &str, now: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE runners SET seen_at = ? WHERE name = ?").bind(now).bind(name).execute(&self.pool).await?;
        Ok(())
    }
}
