//! Enrolled runners.

use super::{Records, StoreError, Tx};
use crate::key::digest_of;
use ordotaxis_core::dispatch::Taking;
use serde::{Deserialize, Serialize};

/// What a runner may have, as its invitation said, or as it was changed since.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Granted {
    /// Beside the system and its architecture.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Names of projects; none: all.
    #[serde(default)]
    pub projects: Option<Vec<String>>,
    #[serde(default)]
    pub outside: Taking,
}

/// A runner as it was when it last signed on.
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
    pub gpus: u32,
    /// Who asked it to take nothing more.
    pub draining_by: Option<String>,
    pub granted: Granted,
    /// What it fences jobs in with, in words.
    pub fence: String,
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
    gpus: u32,
    draining_by: Option<String>,
    granted: String,
    projects: Option<String>,
    outside: String,
    fence: String,
}

/// How rows are asked for, up to where the query says which.
macro_rules! columns {
    () => {
        "SELECT name, session, slots, labels, isolation, seen_at, tools, cores, memory, gpus, draining_by, granted, projects, outside, fence
         FROM runners"
    };
}

impl Row {
    fn restore(self) -> Result<RunnerRow, StoreError> {
        let wrong = |column: &'static str| move |_| StoreError::Value(column);
        let labels = serde_json::from_str(&self.labels).map_err(wrong("runners.labels"))?;
        let tools = serde_json::from_str(&self.tools).map_err(wrong("runners.tools"))?;
        let projects = self.projects.as_deref().map(serde_json::from_str).transpose();
        let granted = Granted {
            labels: serde_json::from_str(&self.granted).map_err(wrong("runners.granted"))?,
            projects: projects.map_err(wrong("runners.projects"))?,
            outside: Taking::from_word(&self.outside).ok_or(StoreError::Value("runners.outside"))?,
        };
        let Row { name, session, slots, isolation, seen_at, cores, memory, gpus, draining_by, fence, .. } = self;
        Ok(RunnerRow { name, session, slots, labels, isolation, seen_at, tools, cores, memory, gpus, draining_by, granted, fence })
    }
}

impl Records {
    /// The runner with this credential; none when the credential is unknown. Only its digest is stored.
    pub async fn runner_by_credential(&self, credential: &str) -> Result<Option<String>, StoreError> {
        let sql = "SELECT name FROM runners WHERE credential = ?";
        Ok(sqlx::query_scalar(sql).bind(digest_of(credential)).fetch_optional(&self.reads).await?)
    }

    /// All enrolled runners, by name.
    pub async fn runners(&self) -> Result<Vec<RunnerRow>, StoreError> {
        let rows: Vec<Row> = sqlx::query_as(concat!(columns!(), " ORDER BY name")).fetch_all(&self.reads).await?;
        rows.into_iter().map(Row::restore).collect()
    }

    /// The enrolled runner of this name, if there is one.
    pub async fn runner(&self, name: &str) -> Result<Option<RunnerRow>, StoreError> {
        let row: Option<Row> = sqlx::query_as(concat!(columns!(), " WHERE name = ?")).bind(name).fetch_optional(&self.reads).await?;
        row.map(Row::restore).transpose()
    }

    /// When slots of runners were taken, of what had not ended at `since`.
    pub async fn busy_since(&self, since: i64) -> Result<Vec<Busy>, StoreError> {
        // An attempt that began long before is still found while it goes on: leases end within a day.
        let sql = "SELECT runner, started_at, ended_at FROM attempts
                   WHERE started_at > ?1 - 86400000 AND (ended_at IS NULL OR ended_at > ?1)";
        Ok(sqlx::query_as(sql).bind(since).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Notes what a runner said of itself when it signed on.
    pub async fn runner_signed_on(&mut self, runner: &RunnerRow) -> Result<(), StoreError> {
        let now = self.now;
        let labels = serde_json::to_string(&runner.labels).map_err(|_| StoreError::Value("runners.labels"))?;
        let tools = serde_json::to_string(&runner.tools).map_err(|_| StoreError::Value("runners.tools"))?;
        let sql = "UPDATE runners SET session = ?, slots = ?, labels = ?, isolation = ?, tools = ?, cores = ?, memory = ?, gpus = ?, seen_at = ?, fence = ? WHERE name = ?";
        sqlx::query(sql)
            .bind(&runner.session)
            .bind(runner.slots)
            .bind(labels)
            .bind(&runner.isolation)
            .bind(tools)
            .bind(runner.cores)
            .bind(runner.memory)
            .bind(runner.gpus)
            .bind(now)
            .bind(&runner.fence)
            .bind(&runner.name)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Asks a runner to take nothing more, or with none lets it go on. Gives whether there is such a runner.
    pub async fn set_draining(&mut self, name: &str, by: Option<&str>) -> Result<bool, StoreError> {
        let done = sqlx::query("UPDATE runners SET draining_by = ? WHERE name = ?").bind(by).bind(name).execute(&mut *self.on).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Changes what a runner may have. False when there is no such runner.
    pub async fn set_granted(&mut self, name: &str, granted: &Granted) -> Result<bool, StoreError> {
        let list = |names: &[String]| serde_json::to_string(names).map_err(|_| StoreError::Value("runners.granted"));
        let done = sqlx::query("UPDATE runners SET granted = ?, projects = ?, outside = ? WHERE name = ?")
            .bind(list(&granted.labels)?)
            .bind(granted.projects.as_deref().map(list).transpose()?)
            .bind(granted.outside.word())
            .bind(name)
            .execute(&mut *self.on)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Removes a runner and with it its credential. False when there was none.
    pub async fn remove_runner(&mut self, name: &str) -> Result<bool, StoreError> {
        Ok(sqlx::query("DELETE FROM runners WHERE name = ?").bind(name).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Notes when a runner was last heard of.
    pub async fn runner_seen(&mut self, name: &str) -> Result<(), StoreError> {
        let now = self.now;
        sqlx::query("UPDATE runners SET seen_at = ? WHERE name = ?").bind(now).bind(name).execute(&mut *self.on).await?;
        Ok(())
    }
}
