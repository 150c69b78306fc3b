//! What the history of a project's jobs is read from.

use super::{Records, StoreError};
use ordotaxis_core::insight::Used;
use ordotaxis_core::pool::Machine;

/// An attempt that has ended, with what insight needs of its run.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct TriedRow {
    pub run: i64,
    pub pipeline: String,
    pub branch: Option<String>,
    pub event: String,
    pub commit_id: String,
    pub job_id: String,
    pub number: u32,
    pub state: String,
    pub queued_at: Option<i64>,
    pub started_at: i64,
    pub ended_at: i64,
    pub runner: String,
    /// JSON list; only of the newest.
    pub phases: String,
}

/// How a run ended.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct RunEndRow {
    pub branch: Option<String>,
    pub state: String,
    pub took: i64,
}

/// Results that were taken over: of one job.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ReusedRow {
    pub pipeline: String,
    pub job_id: String,
    pub count: i64,
}

/// What caches did, all taken together.
#[derive(Debug, Clone, Default, sqlx::FromRow)]
pub struct CacheUseRow {
    pub uses: i64,
    pub restored: i64,
    /// Bytes of files that were restored.
    pub bytes: i64,
}

/// When one attempt of a project queued and ran.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct RanRow {
    pub project: String,
    pub state: String,
    pub queued_at: Option<i64>,
    pub started_at: i64,
    pub ended_at: i64,
}

/// Of so many of the newest attempts the steps are read.
const WITH_STEPS: i64 = 3_000;
/// So many runs are read at once where all are read.
const PAGE_RUNS: i64 = 20;
/// Caches are summed up over so many of the newest attempts.
const CACHES_OF: i64 = 20_000;

const TRIED: &str = "SELECT runs.number AS run, runs.pipeline, runs.branch, runs.event, runs.commit_id, a.job_id, a.number, a.state,
                       a.queued_at, a.started_at, a.ended_at, a.runner";
const OF_PROJECT: &str = "FROM runs JOIN attempts AS a ON a.run_id = runs.id
                          WHERE runs.project_id = ?1 AND runs.created_at >= ?2 AND a.ended_at IS NOT NULL AND a.job_id IS NOT NULL";

impl Records {
    /// Attempts of runs since a moment that have ended, the newest runs first; at most so many.
    pub async fn tried(&self, project_id: i64, since: i64, most: i64) -> Result<Vec<TriedRow>, StoreError> {
        let sql = format!(
            "SELECT *, iif(row_number() OVER () <= {WITH_STEPS}, steps, '[]') AS phases FROM (
               {TRIED}, a.phases AS steps {OF_PROJECT} ORDER BY runs.number DESC, a.job, a.number LIMIT ?3)"
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(since).bind(most);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// The same of the next few runs after the one of this number, the oldest first, without steps; and the number of the last of
    /// these runs. None when there are no more.
    pub async fn tried_after(&self, project_id: i64, since: i64, after: i64) -> Result<Option<(i64, Vec<TriedRow>)>, StoreError> {
        let sql = "SELECT max(number) FROM (SELECT number FROM runs WHERE project_id = ? AND created_at >= ? AND number > ?
                   ORDER BY number LIMIT ?)";
        let query = sqlx::query_scalar(sql).bind(project_id).bind(since).bind(after).bind(PAGE_RUNS);
        let last: Option<i64> = query.fetch_one(&self.reads).await?;
        let Some(last) = last else { return Ok(None) };
        let sql = format!(
            "{TRIED}, '[]' AS phases {OF_PROJECT} AND runs.number > ?3 AND runs.number <= ?4 ORDER BY runs.number, a.job, a.number"
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(since).bind(after).bind(last);
        Ok(Some((last, query.fetch_all(&self.reads).await?)))
    }

    /// How runs since a moment ended, the newest first; at most so many.
    pub async fn run_ends(&self, project_id: i64, since: i64, most: i64) -> Result<Vec<RunEndRow>, StoreError> {
        let sql = "SELECT branch, state, ended_at - coalesce(started_at, ended_at) - rest_ms AS took FROM runs
                   WHERE project_id = ? AND created_at >= ? AND ended_at IS NOT NULL ORDER BY number DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(since).bind(most).fetch_all(&self.reads).await?)
    }

    /// How often results of jobs were taken over since a moment.
    pub async fn reused(&self, project_id: i64, since: i64) -> Result<Vec<ReusedRow>, StoreError> {
        let sql = "SELECT pipeline, job_id, count(*) AS count FROM (
                     SELECT runs.pipeline, runs.plan ->> ('$.jobs[' || jobs.number || '].id') AS job_id FROM runs
                     JOIN jobs ON jobs.run_id = runs.id WHERE runs.project_id = ? AND runs.created_at >= ? AND jobs.state = 'reused'
                     AND runs.plan IS NOT NULL)
                   WHERE job_id IS NOT NULL GROUP BY pipeline, job_id";
        Ok(sqlx::query_as(sql).bind(project_id).bind(since).fetch_all(&self.reads).await?)
    }

    /// What caches did since a moment.
    pub async fn cache_uses(&self, project_id: i64, since: i64) -> Result<CacheUseRow, StoreError> {
        let sql = format!(
            "SELECT count(*) AS uses, coalesce(sum(one.value ->> 'restored' IS NOT NULL), 0) AS restored,
               coalesce(sum(iif(one.value ->> 'restored' IS NOT NULL, one.value ->> 'bytes', 0)), 0) AS bytes
             FROM (SELECT a.caches {OF_PROJECT} AND a.caches <> '[]' ORDER BY runs.number DESC LIMIT {CACHES_OF}) AS used,
               json_each(used.caches) AS one"
        );
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(since).fetch_one(&self.reads).await?)
    }

    /// When attempts of all projects queued and ran, of runs since a moment; the newest, at most so many.
    pub async fn ran(&self, since: i64, most: i64) -> Result<Vec<RanRow>, StoreError> {
        let sql = "SELECT projects.name AS project, a.state, a.queued_at, a.started_at, a.ended_at FROM runs
                   JOIN projects ON projects.id = runs.project_id JOIN attempts AS a ON a.run_id = runs.id
                   WHERE runs.created_at >= ? AND a.ended_at IS NOT NULL ORDER BY runs.id DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(since).bind(most).fetch_all(&self.reads).await?)
    }

    /// Machines that were wanted since a moment, and how long each project's attempts ran on each; what still runs counts up to `now`.
    pub async fn machines_used(&self, since: i64, now: i64) -> Result<(Vec<Machine>, Vec<Used>), StoreError> {
        let sql = "SELECT machine FROM machines WHERE wanted_at >= ?";
        let machines = super::pools::read(sqlx::query_scalar(sql).bind(since).fetch_all(&self.reads).await?)?;
        let sql = "SELECT a.runner, projects.name, sum(coalesce(a.ended_at, ?2) - a.started_at) FROM runs
                   JOIN attempts AS a ON a.run_id = runs.id JOIN machines ON machines.id = a.runner AND machines.wanted_at >= ?1
                   JOIN projects ON projects.id = runs.project_id
                   WHERE coalesce(runs.ended_at, ?2) >= ?1 GROUP BY a.runner, projects.name";
        let rows: Vec<(String, String, i64)> = sqlx::query_as(sql).bind(since).bind(now).fetch_all(&self.reads).await?;
        let used = rows.into_iter().map(|(machine, project, took)| Used { machine, project, took });
        Ok((machines, used.collect()))
    }
}
