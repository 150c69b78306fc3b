//! Enrolled runners.

use super::{Records, StoreError, exists};
use crate::key::digest_of;

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
}

#[derive(sqlx::FromRow)]
struct Row {
    name: String,
    session: Option<String>,
    slots: u32,
    labels: String,
    isolation: String,
    seen_at: Option<i64>,
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
        let sql = "SELECT name, session, slots, labels, isolation, seen_at FROM runners ORDER BY name";
        let rows: Vec<Row> = sqlx::query_as(sql).fetch_all(&self.pool).await?;
        let read = |row: Row| {
            let labels = serde_json::from_str(&row.labels).map_err(|_| StoreError::Value("runners.labels"))?;
            let Row { name, session, slots, isolation, seen_at, .. } = row;
            Ok(RunnerRow { name, session, slots, labels, isolation, seen_at })
        };
        rows.into_iter().map(read).collect()
    }

    /// Notes what a runner said of itself when it signed on.
    pub async fn runner_signed_on(&self, runner: &RunnerRow, now: i64) -> Result<(), StoreError> {
        let labels = serde_json::to_string(&runner.labels).map_err(|_| StoreError::Value("runners.labels"))?;
        sqlx::query("UPDATE runners SET session = ?, slots = ?, labels = ?, isolation = ?, seen_at = ? WHERE name = ?")
            .bind(&runner.session)
            .bind(runner.slots)
            .bind(labels)
            .bind(&runner.isolation)
            .bind(now)
            .bind(&runner.name)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn runner_seen(&self, name: &str, now: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE runners SET seen_at = ? WHERE name = ?").bind(now).bind(name).execute(&self.pool).await?;
        Ok(())
    }
}
