//! One step of runs: all rows that a batch of events changed, in one transaction. Rows go in as JSON lists, one
//! statement a table however many rows: each awaited call costs a thread hop.

use super::error::json;
use super::events::{INSERT_EVENTS, events_as_json};
use super::job_row::JobRow;
use super::usual::{Took, WRITE_TOOK, WRITE_TOOK_OF_FILES};
use super::{Records, StoreError, Tx};
use ordotaxis_core::access::Actor;
use ordotaxis_core::engine::State;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;

/// An attempt at a job, as stored. Times are milliseconds since 1970.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AttemptRow {
    pub run_id: i64,
    pub job: i64,
    pub number: u32,
    pub runner: String,
    pub session: String,
    pub slot: u32,
    pub state: String,
    pub why: Option<String>,
    pub exit_code: Option<i32>,
    pub started_at: i64,
    /// Since when the job had queued for a runner; none where that was not noted.
    #[serde(default)]
    pub queued_at: Option<i64>,
    pub ended_at: Option<i64>,
    /// JSON list
    pub phases: String,
    /// JSON list
    pub caches: String,
    /// The job's name; none where that was not noted.
    #[serde(default)]
    pub job_id: Option<String>,
}

/// A run's own state, as it is now.
#[derive(Debug, Clone)]
pub struct RunChange {
    pub id: i64,
    pub state: State,
    pub why: Option<String>,
    pub started: Option<i64>,
    pub ended: Option<i64>,
    /// How long, between the two, it had ended already.
    pub rest_ms: i64,
}

/// Everything a batch of events changed.
#[derive(Debug, Clone, Default)]
pub struct StepRows {
    /// Runners that began a session.
    pub signed_on: Vec<super::RunnerRow>,
    pub jobs: Vec<JobRow>,
    pub attempts: Vec<AttemptRow>,
    pub artifacts: Vec<super::StoredArtifact>,
    /// Runs whose own state changed.
    pub runs: Vec<RunChange>,
    pub events: Vec<super::NewEvent>,
    /// What people asked for, for the journal.
    pub entries: Vec<(Actor, super::Entry)>,
    /// How long jobs took that passed.
    pub took: Vec<Took>,
    /// What runs that ended come to.
    pub numbers: Vec<super::NewNumber>,
    /// Results that later runs may take over.
    pub reusable: Vec<super::ReusableRow>,
    /// Jobs whose results were taken over: (run, job, from run, from job).
    pub taken_over: Vec<(i64, i64, i64, i64)>,
    /// What is to be done outside of runs.
    pub work: Vec<super::NewWork>,
    /// Attempts that were given back, not begun: (run, job, number). They are deleted before attempts are written.
    pub given_back: Vec<(i64, i64, u32)>,
}

impl StepRows {
    /// Whether there is nothing to write.
    pub fn is_empty(&self) -> bool {
        self.signed_on.is_empty()
            && self.jobs.is_empty()
            && self.attempts.is_empty()
            && self.runs.is_empty()
            && self.events.is_empty()
            && self.entries.is_empty()
            && self.work.is_empty()
            && self.given_back.is_empty()
    }
}

impl StepRows {
    /// Jobs, attempts, durations, events and nothing else.
    fn is_usual(&self) -> bool {
        self.runs.is_empty()
            && self.signed_on.is_empty()
            && self.artifacts.is_empty()
            && self.entries.is_empty()
            && self.numbers.is_empty()
            && self.reusable.is_empty()
            && self.taken_over.is_empty()
            && self.work.is_empty()
            && self.given_back.is_empty()
    }
}

impl Tx {
    /// Writes all rows of one step of the keeper. Repeated with the same rows it changes nothing but the events, which are
    /// added.
    pub async fn write_step(&mut self, rows: &StepRows) -> Result<(), StoreError> {
        for runner in &rows.signed_on {
            self.runner_signed_on(runner).await?;
        }
        for (run, job, number) in &rows.given_back {
            let sql = "DELETE FROM attempts WHERE run_id = ? AND job = ? AND number = ?";
            sqlx::query(sql).bind(run).bind(job).bind(number).execute(&mut *self.on).await?;
        }
        self.write_usual_rows(rows).await?;
        for run in &rows.runs {
            sqlx::query("UPDATE runs SET state = ?, why = ?, started_at = ?, ended_at = ?, rest_ms = ? WHERE id = ?")
                .bind(run.state.word())
                .bind(&run.why)
                .bind(run.started)
                .bind(run.ended)
                .bind(run.rest_ms)
                .bind(run.id)
                .execute(&mut *self.on)
                .await?;
        }
        super::numbers::write(&mut self.on, &rows.numbers).await?;
        super::reusable::write(&mut self.on, &rows.reusable).await?;
        for (run, job, from, from_job) in &rows.taken_over {
            let sql = "INSERT OR REPLACE INTO results (run_id, test_id, job, attempt, ended, wavered, ms, file, line, message)
                       SELECT ?1, test_id, ?2, 0, ended, wavered, ms, file, line, message FROM results AS from_run WHERE run_id = ?3 AND job = ?4
                       AND attempt = (SELECT max(attempt) FROM results AS later WHERE later.run_id = ?3 AND later.job = ?4)";
            sqlx::query(sql).bind(run).bind(job).bind(from).bind(from_job).execute(&mut *self.on).await?;
        }
        for artifact in &rows.artifacts {
            super::artifacts::write(&mut self.on, artifact).await?;
        }
        for new in &rows.work {
            self.add_work(new).await?;
        }
        for (actor, entry) in &rows.entries {
            self.note_as(actor, entry.clone());
        }
        Ok(())
    }

    /// What nearly every step writes.
    async fn write_usual_rows(&mut self, rows: &StepRows) -> Result<(), StoreError> {
        self.write_usual_rows_within(rows, "", "").await
    }

    /// The same as one call to the database, with statements before and after: most steps are the end of one job and the
    /// beginning of another, and each call costs two switches between threads.
    async fn write_usual_rows_within(&mut self, rows: &StepRows, before: &str, after: &str) -> Result<(), StoreError> {
        let mut sql = before.to_owned();
        let mut lists = Vec::new();
        let mut add = |statement: &str, list: String| {
            sql.push_str(statement);
            sql.push_str(";\n");
            lists.push(list);
        };
        if !rows.jobs.is_empty() {
            add(WRITE_JOBS, json(&rows.jobs)?);
        }
        if !rows.attempts.is_empty() {
            add(WRITE_ATTEMPTS, json(&rows.attempts)?);
        }
        let (jobs, files): (Vec<&Took>, Vec<&Took>) = rows.took.iter().partition(|took| took.file.is_none());
        if !jobs.is_empty() {
            add(&WRITE_TOOK, json(&jobs)?);
        }
        if !files.is_empty() {
            add(&WRITE_TOOK_OF_FILES, json(&files)?);
        }
        if !rows.events.is_empty() {
            sql.push_str(INSERT_EVENTS);
            sql.push_str(";\n");
        }
        sql.push_str(after);
        let mut query = lists.into_iter().fold(sqlx::query_scalar(sqlx::AssertSqlSafe(sql)), |query, list| query.bind(list));
        if !rows.events.is_empty() {
            query = query.bind(self.now).bind(events_as_json(&rows.events)?);
        }
        let ids: Vec<i64> = query.fetch_all(&mut *self.on).await?;
        self.count_events(&rows.events, ids);
        Ok(())
    }
}

impl Records {
    /// Writes a step as a transaction of its own.
    pub async fn write_step(&self, rows: &StepRows, now: i64) -> Result<(), StoreError> {
        if rows.is_usual() {
            let mut tx = self.tx_not_begun(&Actor::rule(RULE), now).await?;
            tx.write_usual_rows_within(rows, "BEGIN IMMEDIATE;\n", "COMMIT;").await?;
            tx.after_commit();
            return Ok(());
        }
        let mut tx = self.tx_by_rule(RULE, now).await?;
        tx.write_step(rows).await?;
        tx.commit().await
    }
}

/// Who makes what the engine decides.
const RULE: &str = "keeper";

/// Writes the states of jobs, whether their rows are there already or not.
pub(super) async fn write_jobs(tx: &mut SqliteConnection, rows: impl Iterator<Item = JobRow>) -> Result<(), StoreError> {
    let rows: Vec<JobRow> = rows.collect();
    if rows.is_empty() {
        return Ok(());
    }
    sqlx::query(WRITE_JOBS).bind(json(&rows)?).execute(tx).await?;
    Ok(())
}

/// Takes a JSON list of [`JobRow`]. Each is made text once: `json_each` by itself would do so again for every column.
const WRITE_JOBS: &str =
    "INSERT OR REPLACE INTO jobs (run_id, number, state, why, attempt, retries, not_before, runner, since, started_at, ended_at,
          stop_asked, overtaken_by, started_by, inputs, fresh, facts, numbers, reused_from, unwanted, work, not_reused,
          holds, back)
        WITH rows AS MATERIALIZED (SELECT value AS one FROM json_each(?))
        SELECT one ->> 'run_id', one ->> 'number', one ->> 'state', one ->> 'why', one ->> 'attempt', one ->> 'retries',
               one ->> 'not_before', one ->> 'runner', one ->> 'since', one ->> 'started_at', one ->> 'ended_at',
               one ->> 'stop_asked', one ->> 'overtaken_by', one ->> 'started_by', one ->> 'inputs', one ->> 'fresh',
               one ->> 'facts', one ->> 'numbers', one ->> 'reused_from', one ->> 'unwanted', one ->> 'work', one ->> 'not_reused',
               one ->> 'holds', one ->> 'back'
        FROM rows";

/// Takes a JSON list of [`AttemptRow`].
const WRITE_ATTEMPTS: &str =
    "INSERT OR REPLACE INTO attempts (run_id, job, number, runner, session, slot, state, why, exit_code, started_at, ended_at, phases,
           caches, queued_at, job_id)
        WITH rows AS MATERIALIZED (SELECT value AS one FROM json_each(?))
        SELECT one ->> 'run_id', one ->> 'job', one ->> 'number', one ->> 'runner', one ->> 'session', one ->> 'slot',
               one ->> 'state', one ->> 'why', one ->> 'exit_code', one ->> 'started_at', one ->> 'ended_at', one ->> 'phases',
               one ->> 'caches', one ->> 'queued_at', one ->> 'job_id'
        FROM rows";
