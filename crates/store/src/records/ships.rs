//! How much of each attempt's log has arrived where logs are sent.

use super::error::json;
use super::{Records, StoreError, Tx};

/// A log of which not all has arrived.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ShipRow {
    pub run_id: i64,
    pub job: i64,
    pub attempt: u32,
    /// So many lines have arrived.
    pub lines: i64,
    pub project: String,
    /// The run's number.
    pub number: i64,
    pub pipeline: String,
    pub job_id: Option<String>,
    pub runner: String,
    /// When the attempt ended.
    pub ended_at: Option<i64>,
}

/// How far a target is behind.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct BehindRow {
    pub target: String,
    /// Logs of which not all has arrived.
    pub logs: i64,
    /// When the first of them ended; none when all go on.
    pub ended_at: Option<i64>,
}

impl Records {
    /// Logs of which not all has arrived at a target, after one (by its run, job and attempt), the oldest runs first.
    pub async fn to_ship(&self, target: &str, after: (i64, i64, u32), most: i64) -> Result<Vec<ShipRow>, StoreError> {
        let sql = "SELECT ships.run_id, ships.job, ships.attempt, ships.lines, projects.name AS project, runs.number, runs.pipeline,
                     attempts.job_id, attempts.runner, attempts.ended_at
                   FROM ships JOIN runs ON runs.id = ships.run_id JOIN projects ON projects.id = runs.project_id
                   JOIN attempts ON attempts.run_id = ships.run_id AND attempts.job = ships.job AND attempts.number = ships.attempt
                   WHERE ships.target = ? AND done = 0 AND (ships.run_id, ships.job, ships.attempt) > (?, ?, ?)
                   ORDER BY ships.run_id, ships.job, ships.attempt LIMIT ?";
        let query = sqlx::query_as(sql).bind(target).bind(after.0).bind(after.1).bind(after.2).bind(most);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// How far each target is behind.
    pub async fn ships_behind(&self) -> Result<Vec<BehindRow>, StoreError> {
        let sql = "SELECT target, count(*) AS logs, min(attempts.ended_at) AS ended_at FROM ships
                   JOIN attempts ON attempts.run_id = ships.run_id AND attempts.job = ships.job AND attempts.number = ships.attempt
                   WHERE done = 0 GROUP BY target";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Logs of all attempts at these jobs are to be shipped: (run, name of the job). A job of one of these runs that is named for
    /// another of them is taken in, too: it is there, and each run's attempts are walked once. Of projects that are named only, if any are.
    pub async fn add_ships(&mut self, target: &str, jobs: &[(i64, String)], projects: Option<&[String]>) -> Result<(), StoreError> {
        let sql = "INSERT OR IGNORE INTO ships (target, run_id, job, attempt)
                   SELECT ?1, a.run_id, a.job, a.number FROM (SELECT DISTINCT value ->> 0 AS run FROM json_each(?2)) AS wanted
                   JOIN attempts AS a ON a.run_id = wanted.run AND a.job_id IN (SELECT value ->> 1 FROM json_each(?2))
                   JOIN runs ON runs.id = a.run_id JOIN projects ON projects.id = runs.project_id
                   WHERE ?3 IS NULL OR projects.name IN (SELECT value FROM json_each(?3))";
        let projects = projects.map(json).transpose()?;
        sqlx::query(sql).bind(target).bind(json(jobs)?).bind(projects).execute(&mut *self.on).await?;
        Ok(())
    }

    /// So many lines of a log have arrived; `done`: there will be no more.
    pub async fn shipped(&mut self, target: &str, row: &ShipRow, lines: i64, done: bool) -> Result<(), StoreError> {
        let sql = "UPDATE ships SET lines = ?, done = ? WHERE target = ? AND run_id = ? AND job = ? AND attempt = ?";
        let query = sqlx::query(sql).bind(lines).bind(done).bind(target).bind(row.run_id).bind(row.job).bind(row.attempt);
        query.execute(&mut *self.on).await?;
        Ok(())
    }

    /// Forgets all targets but these. One that comes back begins anew, with what happens from then on.
    pub async fn keep_ships(&mut self, targets: &[String]) -> Result<(), StoreError> {
        let kept = json(targets)?;
        sqlx::query("DELETE FROM ships WHERE target NOT IN (SELECT value FROM json_each(?))").bind(&kept).execute(&mut *self.on).await?;
        let sql = "DELETE FROM cursors WHERE name LIKE 'ship:%' AND substr(name, 6) NOT IN (SELECT value FROM json_each(?))";
        sqlx::query(sql).bind(&kept).execute(&mut *self.on).await?;
        Ok(())
    }
}
