//! Test cases and findings of runs, and what comparing runs says of them.
//!
//! A run is compared with the newest one before it on the same branch (a proposal with its target's); where that branch
//! has none, with the main branch's. Of a job that was tried several times the last attempt counts.

use super::error::json;
use super::{Records, StoreError, Tx};
use serde::Serialize;
use std::collections::HashMap;

/// One case as it is stored.
#[derive(Debug, Clone, Serialize)]
pub struct NewResult {
    pub suite: String,
    pub name: String,
    pub ended: &'static str,
    pub wavered: bool,
    pub ms: Option<i64>,
    pub file: Option<String>,
    pub line: Option<u32>,
    pub message: Option<String>,
}

/// Whose results they are.
#[derive(Debug, Clone)]
pub struct ResultsOf<'a> {
    pub project_id: i64,
    pub pipeline: &'a str,
    pub run_id: i64,
    /// The job's id; copies of a split have one.
    pub job: &'a str,
    pub job_number: i64,
    pub attempt: u32,
}

/// One test case of one run.
#[derive(Debug, Clone, PartialEq, sqlx::FromRow)]
pub struct ResultRow {
    pub test_id: i64,
    pub job: String,
    pub suite: String,
    pub name: String,
    pub job_number: i64,
    pub attempt: u32,
    pub ended: String,
    pub wavered: bool,
    pub ms: Option<i64>,
    pub file: Option<String>,
    pub line: Option<u32>,
    pub message: Option<String>,
    /// How it ended in the run that it is compared with.
    pub before: Option<String>,
}

/// How a test ended in one run.
#[derive(Debug, Clone, PartialEq, sqlx::FromRow)]
pub struct HistoryRow {
    pub run_number: i64,
    pub job: String,
    pub ended: String,
    pub wavered: bool,
    pub ms: Option<i64>,
    pub commit_id: String,
    pub branch: Option<String>,
    pub created_at: i64,
    pub message: Option<String>,
}

/// A test that both failed and passed on the same commit, or within one job.
#[derive(Debug, Clone, PartialEq, sqlx::FromRow)]
pub struct FlakyRow {
    pub job: String,
    pub suite: String,
    pub name: String,
    /// How often it turned with nothing changed.
    pub times: i64,
    /// The newest run in which it did.
    pub newest: i64,
}

/// A finding of a linter or scanner.
#[derive(Debug, Clone, PartialEq, Serialize, sqlx::FromRow)]
pub struct FindingRow {
    pub job: i64,
    pub key: String,
    pub rule: String,
    pub level: String,
    pub message: String,
    pub file: Option<String>,
    pub line: Option<u32>,
    pub known: bool,
}

/// Cases with how each ended in the run `?2`.
const RESULTS: &str =
    "SELECT results.test_id, tests.job, suite, name, results.job AS job_number, attempt, ended, wavered, ms, file, line, message,
       (SELECT before.ended FROM results AS before WHERE before.run_id = ?2 AND before.test_id = results.test_id
        ORDER BY before.attempt DESC LIMIT 1) AS before
     FROM results JOIN tests ON tests.id = results.test_id";

/// The last attempt of each job of a run.
const LAST: &str = "(SELECT max(attempt) FROM results AS later WHERE later.run_id = results.run_id AND later.job = results.job)";

impl Records {
    /// The run that another is compared with: the newest before it, on its own branch or on its proposal's target; where
    /// that has none, on the main branch. Gives (id, number).
    pub async fn base_of(&self, run_id: i64) -> Result<Option<(i64, i64)>, StoreError> {
        let sql = "SELECT runs.project_id, pipeline, coalesce(target, branch, main_branch), main_branch FROM runs
                   JOIN projects ON projects.id = runs.project_id WHERE runs.id = ?";
        let of: Option<(i64, String, String, String)> = sqlx::query_as(sql).bind(run_id).fetch_optional(&self.reads).await?;
        let Some((project, pipeline, branch, main)) = of else { return Ok(None) };
        let own = self.newest_with_results(project, &pipeline, &branch, run_id).await?;
        if own.is_some() || branch == main {
            return Ok(own);
        }
        self.newest_with_results(project, &pipeline, &main, run_id).await
    }

    /// Read from the newest run back along the index `runs_of_pipeline`, until one has results.
    async fn newest_with_results(&self, project: i64, pipeline: &str, branch: &str, before: i64) -> Result<Option<(i64, i64)>, StoreError> {
        let sql = "SELECT id, number FROM runs
                   WHERE project_id = ? AND pipeline = ? AND branch = ? AND id < ? AND event <> 'proposal' AND ended_at IS NOT NULL
                     AND (EXISTS (SELECT 1 FROM results WHERE results.run_id = runs.id)
                       OR EXISTS (SELECT 1 FROM findings WHERE findings.run_id = runs.id)
                       OR EXISTS (SELECT 1 FROM numbers WHERE numbers.run_id = runs.id))
                   ORDER BY id DESC LIMIT 1";
        let query = sqlx::query_as(sql).bind(project).bind(pipeline).bind(branch).bind(before);
        Ok(query.fetch_optional(&self.reads).await?)
    }

    /// The cases of a run, each with how it ended in another.
    pub async fn results(&self, run_id: i64, base: Option<i64>) -> Result<Vec<ResultRow>, StoreError> {
        let sql = format!("{RESULTS} WHERE results.run_id = ?1 AND attempt = {LAST} ORDER BY tests.job, suite, name");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(run_id).bind(base).fetch_all(&self.reads).await?)
    }

    /// The cases that failed in one attempt of one job of a run.
    pub async fn failed_results(&self, run_id: i64, base: Option<i64>, job: i64, attempt: u32) -> Result<Vec<ResultRow>, StoreError> {
        let which = "results.run_id = ?1 AND results.job = ?3 AND attempt = ?4 AND ended = 'failed'";
        let sql = format!("{RESULTS} WHERE {which} ORDER BY suite, name");
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(run_id).bind(base).bind(job).bind(attempt);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// Cases that the other run had and this one, though it did their jobs, has not.
    pub async fn results_gone(&self, run_id: i64, base: i64) -> Result<i64, StoreError> {
        let sql = "SELECT count(DISTINCT test_id) FROM results JOIN tests ON tests.id = test_id WHERE run_id = ?2
                   AND test_id NOT IN (SELECT test_id FROM results WHERE run_id = ?1)
                   AND tests.job IN (SELECT DISTINCT tests.job FROM tests JOIN results ON test_id = tests.id WHERE run_id = ?1)";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(base).fetch_one(&self.reads).await?)
    }

    /// For each test that failed in a run: the number of the first run since which it has failed without a break.
    pub async fn failing_since(&self, run_id: i64) -> Result<HashMap<i64, i64>, StoreError> {
        let sql = "SELECT failed.test_id, min(runs.number) FROM results AS failed
                   JOIN results AS before ON before.test_id = failed.test_id AND before.run_id <= ?1 AND before.ended = 'failed'
                     AND before.run_id > coalesce((SELECT max(run_id) FROM results
                       WHERE test_id = failed.test_id AND run_id < ?1 AND ended <> 'failed'), 0)
                   JOIN runs ON runs.id = before.run_id
                   WHERE failed.run_id = ?1 AND failed.ended = 'failed' GROUP BY failed.test_id";
        let rows: Vec<(i64, i64)> = sqlx::query_as(sql).bind(run_id).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().collect())
    }

    /// One test over runs, the newest first.
    pub async fn test_history(&self, project_id: i64, suite: &str, name: &str, limit: i64) -> Result<Vec<HistoryRow>, StoreError> {
        let sql = "SELECT runs.number AS run_number, tests.job, ended, wavered, ms, commit_id, branch, created_at, message
                   FROM results JOIN tests ON tests.id = test_id JOIN runs ON runs.id = run_id
                   WHERE tests.project_id = ? AND suite = ? AND name = ? ORDER BY run_id DESC, tests.job, attempt DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(suite).bind(name).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Tests that both passed and failed on one commit, or with nothing changed that could change their job's result, or
    /// that failed before they passed within one job. Of the last runs.
    pub async fn flaky_tests(&self, project_id: i64, runs: i64) -> Result<Vec<FlakyRow>, StoreError> {
        let sql = "WITH recent AS (SELECT id, number, commit_id FROM runs WHERE project_id = ?1 ORDER BY id DESC LIMIT ?2),
                   seen AS (SELECT test_id, ended, wavered, recent.number, recent.commit_id, jobs.work FROM results
                     JOIN recent ON recent.id = results.run_id
                     JOIN jobs ON jobs.run_id = results.run_id AND jobs.number = results.job WHERE ended <> 'skipped'),
                   turned AS (
                     SELECT test_id, commit_id AS same, max(number) AS number FROM seen GROUP BY test_id, commit_id
                       HAVING min(ended) <> max(ended) OR max(wavered)
                     UNION SELECT test_id, work, max(number) FROM seen WHERE work IS NOT NULL GROUP BY test_id, work
                       HAVING min(ended) <> max(ended) AND count(DISTINCT commit_id) > 1)
                   SELECT job, suite, name, count(*) AS times, max(number) AS newest FROM turned JOIN tests ON tests.id = test_id
                   GROUP BY test_id ORDER BY times DESC, newest DESC, suite, name";
        Ok(sqlx::query_as(sql).bind(project_id).bind(runs).fetch_all(&self.reads).await?)
    }

    /// All findings of a run's newest attempts.
    pub async fn findings(&self, run_id: i64) -> Result<Vec<FindingRow>, StoreError> {
        let sql = "SELECT job, key, rule, level, message, file, line, known FROM findings WHERE run_id = ?
                   ORDER BY known, level, file, line LIMIT 2000";
        Ok(sqlx::query_as(sql).bind(run_id).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Writes an attempt's cases; a repeat changes nothing.
    pub async fn add_results(&mut self, of: &ResultsOf<'_>, cases: &[NewResult]) -> Result<(), StoreError> {
        let cases = json(cases)?;
        let sql = "INSERT INTO tests (id, project_id, pipeline, job, suite, name)
                   SELECT (SELECT last FROM ids WHERE of = 'tests') + row_number() OVER (), ?, ?, ?, value ->> 'suite', value ->> 'name'
                   FROM json_each(?) WHERE true ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(of.project_id).bind(of.pipeline).bind(of.job).bind(&cases).execute(&mut *self.on).await?;
        // Of two cases of one name the worse one counts. CROSS: the cases come first, else each case reads all tests.
        let sql = "INSERT INTO results (run_id, test_id, job, attempt, ended, wavered, ms, file, line, message)
                   SELECT ?1, tests.id, ?2, ?3, value ->> 'ended', value ->> 'wavered', value ->> 'ms', value ->> 'file', value ->> 'line',
                     value ->> 'message'
                   FROM json_each(?4) CROSS JOIN tests ON tests.project_id = ?5 AND tests.pipeline = ?6 AND tests.job = ?7
                     AND tests.suite = value ->> 'suite' AND tests.name = value ->> 'name'
                   WHERE true ON CONFLICT DO UPDATE SET ended = excluded.ended, message = excluded.message, ms = excluded.ms
                     WHERE excluded.ended = 'failed' AND ended <> 'failed'";
        sqlx::query(sql)
            .bind(of.run_id)
            .bind(of.job_number)
            .bind(of.attempt)
            .bind(&cases)
            .bind(of.project_id)
            .bind(of.pipeline)
            .bind(of.job)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Writes an attempt's findings in place of its job's earlier ones; those of the base are known. Gives how many are new.
    pub async fn add_findings(&mut self, run_id: i64, job: i64, base: Option<i64>, rows: &[FindingRow]) -> Result<i64, StoreError> {
        sqlx::query("DELETE FROM findings WHERE run_id = ? AND job = ?").bind(run_id).bind(job).execute(&mut *self.on).await?;
        let sql = "INSERT INTO findings (run_id, job, key, rule, level, message, file, line, known)
                   SELECT ?1, ?2, value ->> 'key', value ->> 'rule', value ->> 'level', value ->> 'message', value ->> 'file', value ->> 'line',
                     EXISTS (SELECT 1 FROM findings WHERE run_id = ?3 AND key = value ->> 'key')
                   FROM json_each(?4) WHERE true ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(run_id).bind(job).bind(base).bind(json(rows)?).execute(&mut *self.on).await?;
        let count = "SELECT count(*) FROM findings WHERE run_id = ? AND job = ? AND NOT known";
        let new = sqlx::query_scalar(count).bind(run_id).bind(job).fetch_one(&mut *self.on).await?;
        Ok(new)
    }
}
