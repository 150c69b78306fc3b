//! What is past the age that it is kept for. Each kind is counted here and dropped by the same condition, so that a plan says
//! what carrying it out does; runs are looked at once more in the transaction that drops them.

use super::error::json;
use super::{Records, StoreError, Tx, deliveries, events, notices, tracing, work};

/// A run that is past its age, or whose logs are.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct OldRun {
    pub id: i64,
    pub project: String,
    pub number: i64,
    pub ended_at: i64,
}

/// Since when what is dropped by age is kept, in milliseconds since 1970; what was before has grown old.
#[derive(Debug, Clone, Copy)]
pub struct Cutoffs {
    pub events: i64,
    pub work: i64,
    /// Of work that was given up, and of occasions: what is told once more is known for so long.
    pub given_up: i64,
    pub deliveries: i64,
    /// So many bytes of deliveries each project may have, whatever their age.
    pub delivery_bytes: i64,
    pub notices: i64,
    /// Of bills of materials whose run has no artifacts any more.
    pub bills: i64,
    pub answers: i64,
    pub machines: i64,
}

/// How many rows of each kind are past their age.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, sqlx::FromRow)]
pub struct OldRows {
    pub events: i64,
    pub work: i64,
    pub deliveries: i64,
    pub notices: i64,
    pub bills: i64,
    pub answers: i64,
    pub machines: i64,
}

/// What a run is not old for (?1: before it, ?2: now): it ended later; it is the newest of its pipeline on a branch that is there; it
/// is the newest commit of an open proposal; a release was made from it; what it deployed is there, or among those that a deployment
/// would go back to; another run that stays uses what it made; an artifact is held, or kept for longer; its logs are yet to be sent on.
const OLD: &str = "runs.ended_at < ?1
    AND (EXISTS (SELECT 1 FROM runs AS newer WHERE newer.project_id = runs.project_id AND newer.pipeline = runs.pipeline
            AND newer.branch IS runs.branch AND newer.id > runs.id)
        OR NOT EXISTS (SELECT 1 FROM projects WHERE projects.id = runs.project_id AND runs.branch = projects.main_branch)
            AND NOT EXISTS (SELECT 1 FROM refs_seen WHERE refs_seen.project_id = runs.project_id AND refs_seen.name = 'refs/heads/' || runs.branch))
    AND NOT EXISTS (SELECT 1 FROM proposals WHERE proposals.project_id = runs.project_id AND proposals.state = 'open'
        AND proposals.number = runs.proposal AND proposals.head = coalesce(json_extract(runs.merged, '$.head'), runs.commit_id))
    AND NOT EXISTS (SELECT 1 FROM releases WHERE releases.run_id = runs.id)
    AND NOT EXISTS (SELECT 1 FROM deployments WHERE deployments.run_id = runs.id AND (deployments.kept OR deployments.ended_at IS NULL))
    AND NOT EXISTS (SELECT 1 FROM going_back WHERE going_back.from_run = runs.id)
    AND NOT EXISTS (SELECT 1 FROM runs AS later WHERE later.from_run IS NOT NULL
        AND later.from_run = (SELECT projects.name FROM projects WHERE projects.id = runs.project_id) || '/' || runs.number)
    AND NOT EXISTS (SELECT 1 FROM artifacts WHERE artifacts.run_id = runs.id AND (artifacts.pinned_by IS NOT NULL OR coalesce(artifacts.kept_until > ?2, true)))
    AND NOT EXISTS (SELECT 1 FROM ships WHERE ships.run_id = runs.id AND NOT ships.done)";
const HAS_LOGS: &str = "NOT EXISTS (SELECT 1 FROM dropped_logs WHERE dropped_logs.run_id = runs.id AND dropped_logs.at >= runs.ended_at)
    AND EXISTS (SELECT 1 FROM log_segments WHERE log_segments.run_id = runs.id)";

impl Records {
    /// Runs that ended before a moment and that nothing needs at `now`, the oldest first, at most so many.
    pub async fn old_runs(&self, before: i64, now: i64, most: i64) -> Result<Vec<OldRun>, StoreError> {
        self.old(OLD, before, now, most).await
    }

    /// The same of runs whose logs are still there.
    pub async fn old_logs(&self, before: i64, now: i64, most: i64) -> Result<Vec<OldRun>, StoreError> {
        self.old(&format!("{OLD} AND {HAS_LOGS}"), before, now, most).await
    }

    async fn old(&self, which: &str, before: i64, now: i64, most: i64) -> Result<Vec<OldRun>, StoreError> {
        let sql = format!(
            "SELECT runs.id, projects.name AS project, runs.number, runs.ended_at FROM runs JOIN projects ON projects.id = runs.project_id
             WHERE {which} ORDER BY runs.ended_at LIMIT ?3"
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(before).bind(now).bind(most);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// How much else is past its age.
    pub async fn old_rows(&self, cutoffs: &Cutoffs) -> Result<OldRows, StoreError> {
        let count = async |table: &str, which: &str, first: i64, second: i64| {
            // Every condition takes ?1, some ?2, too.
            let sql = format!("SELECT count(*) FROM {table} WHERE ({which}) AND ?1 + ?2 IS NOT NULL");
            let query = sqlx::query_scalar(sqlx::AssertSqlSafe(sql)).bind(first).bind(second);
            Ok::<i64, StoreError>(query.fetch_one(&self.reads).await?)
        };
        Ok(OldRows {
            events: count("events", events::OLD, cutoffs.events, 0).await?,
            work: count("work", work::OLD, cutoffs.work, cutoffs.given_up).await?,
            deliveries: count("deliveries", deliveries::OLD, cutoffs.deliveries, cutoffs.delivery_bytes).await?,
            notices: count("notices", notices::OLD, cutoffs.notices, 0).await?,
            bills: count("bills", tracing::OLD_BILLS, cutoffs.bills, 0).await?,
            answers: count("answers", "created_at < ?1", cutoffs.answers, 0).await?,
            machines: count("machines", "gone_at < ?1", cutoffs.machines, 0).await?,
        })
    }

    /// When the log of an attempt was dropped; none when it was not.
    pub async fn log_dropped(&self, run_id: i64, job: i64, attempt: u32) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT at FROM dropped_logs JOIN attempts ON attempts.run_id = dropped_logs.run_id
                   WHERE dropped_logs.run_id = ? AND job = ? AND number = ? AND ended_at <= at";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(job).bind(attempt).fetch_optional(&self.reads).await?)
    }

    /// When logs of a run were dropped: those of attempts that had ended by then.
    pub async fn logs_dropped(&self, run_id: i64) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT at FROM dropped_logs WHERE run_id = ?").bind(run_id).fetch_optional(&self.reads).await?)
    }
}

impl Tx {
    /// Drops those of these runs that nothing needs even now, with all that belongs to them. Gives which.
    pub async fn drop_old_runs(&mut self, ids: &[i64], before: i64) -> Result<Vec<i64>, StoreError> {
        let sql = format!("DELETE FROM runs WHERE id IN (SELECT value FROM json_each(?3)) AND {OLD} RETURNING id");
        let query = sqlx::query_scalar(sqlx::AssertSqlSafe(sql)).bind(before).bind(self.now).bind(json(ids)?);
        Ok(query.fetch_all(&mut *self.on).await?)
    }

    /// Lists of components that no bill names any more.
    pub async fn drop_unnamed_components(&mut self) -> Result<u64, StoreError> {
        let sql = "DELETE FROM components WHERE NOT EXISTS (SELECT 1 FROM bills WHERE bills.parts = components.parts)";
        Ok(sqlx::query(sql).execute(&mut *self.on).await?.rows_affected())
    }

    /// Drops the logs of those of these runs that nothing needs even now. Gives which.
    pub async fn drop_old_logs(&mut self, ids: &[i64], before: i64) -> Result<Vec<i64>, StoreError> {
        let sql = format!("SELECT id FROM runs WHERE id IN (SELECT value FROM json_each(?3)) AND {OLD}");
        let query = sqlx::query_scalar(sqlx::AssertSqlSafe(sql)).bind(before).bind(self.now).bind(json(ids)?);
        let dropped: Vec<i64> = query.fetch_all(&mut *self.on).await?;
        let sql = "INSERT INTO dropped_logs (run_id, at) SELECT value, ?2 FROM json_each(?1) WHERE true ON CONFLICT DO UPDATE SET at = ?2";
        sqlx::query(sql).bind(json(&dropped)?).bind(self.now).execute(&mut *self.on).await?;
        let sql = "DELETE FROM log_segments WHERE run_id IN (SELECT value FROM json_each(?))";
        sqlx::query(sql).bind(json(&dropped)?).execute(&mut *self.on).await?;
        Ok(dropped)
    }
}
