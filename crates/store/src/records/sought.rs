//! What is found by words that someone types: runs, jobs, tests and commits of projects that they see.
//!
//! Words are handed over as patterns of LIKE; each must stand in the row.

use super::error::json;
use super::{Records, StoreError};

/// So many of the newest runs are looked through by their words: what is older is found by its commit or its number.
const RUNS: i64 = 20_000;

/// A run that was found.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SoughtRun {
    pub project: String,
    pub number: i64,
    pub state: String,
    pub commit_id: String,
    pub commit_title: String,
    pub branch: Option<String>,
}

/// A job that was found, with the newest run of its pipeline.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SoughtJob {
    pub project: String,
    pub job: String,
    pub number: i64,
}

/// A test that was found.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SoughtTest {
    pub project: String,
    pub job: String,
    pub suite: String,
    pub name: String,
}

/// Every one of the words, a JSON list of patterns bound as `?2`, stands in a text.
fn all_in(text: &str) -> String {
    format!("NOT EXISTS (SELECT 1 FROM json_each(?2) AS word WHERE {text} NOT LIKE word.value ESCAPE '\\')")
}

/// Words as patterns that find them anywhere; what LIKE takes as a sign stands for itself.
fn patterns(words: &str) -> Result<String, StoreError> {
    let pattern = |word: &str| format!("%{}%", word.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"));
    json(&words.split_whitespace().map(pattern).collect::<Vec<_>>())
}

impl Records {
    /// Runs whose commit's title, branch or pipeline holds the words, newest first.
    pub async fn runs_with(&self, projects: &[i64], words: &str, limit: i64) -> Result<Vec<SoughtRun>, StoreError> {
        let sql = format!(
            "SELECT projects.name AS project, number, state, commit_id, commit_title, branch FROM runs
             JOIN projects ON projects.id = runs.project_id
             WHERE runs.id > (SELECT coalesce(max(id), 0) FROM runs) - {RUNS} AND project_id IN (SELECT value FROM json_each(?1)) AND {}
             ORDER BY runs.id DESC LIMIT ?3",
            all_in("(commit_title || ' ' || coalesce(branch, '') || ' ' || pipeline || ' ' || projects.name || '/' || number)")
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(json(projects)?).bind(patterns(words)?).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// The newest run of each commit whose id begins so, newest first.
    pub async fn runs_of_commits(&self, projects: &[i64], beginning: &str, limit: i64) -> Result<Vec<SoughtRun>, StoreError> {
        let sql = "SELECT projects.name AS project, number, state, commit_id, commit_title, branch FROM runs
             JOIN projects ON projects.id = runs.project_id
             WHERE runs.id IN (SELECT max(id) FROM runs WHERE commit_id >= ?2 AND commit_id < ?2 || 'g'
                               AND project_id IN (SELECT value FROM json_each(?1)) GROUP BY commit_id)
             ORDER BY runs.id DESC LIMIT ?3";
        Ok(sqlx::query_as(sql).bind(json(projects)?).bind(beginning).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Jobs that ever passed, by project and id.
    pub async fn jobs_with(&self, projects: &[i64], words: &str, limit: i64) -> Result<Vec<SoughtJob>, StoreError> {
        let sql = format!(
            "SELECT project, job, (SELECT max(number) FROM runs WHERE runs.project_id = found.project_id AND runs.pipeline = found.pipeline) AS number
             FROM (SELECT projects.name AS project, project_id, pipeline, job FROM usual JOIN projects ON projects.id = usual.project_id
                   WHERE project_id IN (SELECT value FROM json_each(?1)) AND {} ORDER BY length(job) LIMIT ?3) AS found WHERE number IS NOT NULL",
            all_in("(projects.name || ' ' || job)")
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(json(projects)?).bind(patterns(words)?).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// Tests that were ever reported.
    pub async fn tests_with(&self, projects: &[i64], words: &str, limit: i64) -> Result<Vec<SoughtTest>, StoreError> {
        let sql = format!(
            "SELECT projects.name AS project, job, suite, tests.name FROM tests JOIN projects ON projects.id = tests.project_id
             WHERE project_id IN (SELECT value FROM json_each(?1)) AND {} ORDER BY length(tests.name) LIMIT ?3",
            all_in("(projects.name || ' ' || suite || ' ' || tests.name)")
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(json(projects)?).bind(patterns(words)?).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }
}
