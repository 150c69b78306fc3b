//! How long jobs, and test files, usually take: the median of the last few that passed.

use super::{Records, StoreError};
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use std::sync::LazyLock;

/// How many durations are kept of each: odd, so that one of them is the median; few, so that a change is soon seen.
const KEPT: usize = 9;

/// How long a job, or with `file` one test file of it, took.
#[derive(Debug, Clone, Serialize)]
pub struct Took {
    pub project_id: i64,
    pub pipeline: String,
    pub job: String,
    pub file: Option<String>,
    pub ms: i64,
}

impl Records {
    /// Job id → milliseconds, for every job of a pipeline that ever passed.
    pub async fn usual(&self, project_id: i64, pipeline: &str) -> Result<HashMap<String, i64>, StoreError> {
        let sql = "SELECT json_group_array(json_array(job, json(recent))) FROM usual WHERE project_id = ? AND pipeline = ?";
        let list: String = sqlx::query_scalar(sql).bind(project_id).bind(pipeline).fetch_one(&self.reads).await?;
        let rows: Vec<(String, Vec<i64>)> = serde_json::from_str(&list).map_err(|_| StoreError::Value("usual.recent"))?;
        Ok(rows.into_iter().map(|(job, recent)| (job, middle(recent))).collect())
    }

    /// Test file → milliseconds, for one job (without its cells).
    pub async fn usual_tests(&self, project_id: i64, pipeline: &str, job: &str) -> Result<BTreeMap<String, i64>, StoreError> {
        let sql = "SELECT file, recent FROM usual_tests WHERE project_id = ? AND pipeline = ? AND job = ?";
        let rows: Vec<(String, String)> = sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(job).fetch_all(&self.reads).await?;
        rows.into_iter().map(|(file, recent)| Ok((file, median(&recent)?))).collect()
    }
}

fn median(recent: &str) -> Result<i64, StoreError> {
    Ok(middle(serde_json::from_str(recent).map_err(|_| StoreError::Value("usual.recent"))?))
}

fn middle(mut recent: Vec<i64>) -> i64 {
    recent.sort_unstable();
    recent.get(recent.len() / 2).copied().unwrap_or(0)
}

/// Takes a JSON list of [`Took`] of jobs.
pub(super) static WRITE_TOOK: LazyLock<String> = LazyLock::new(|| {
    let into = "INSERT INTO usual (project_id, pipeline, job, recent) SELECT value ->> 'project_id', value ->> 'pipeline', value ->> 'job'";
    format!("{into}, {}", recent())
});

/// Takes a JSON list of [`Took`] of test files.
pub(super) static WRITE_TOOK_OF_FILES: LazyLock<String> = LazyLock::new(|| {
    let into = "INSERT INTO usual_tests (project_id, pipeline, job, file, recent)
        SELECT value ->> 'project_id', value ->> 'pipeline', value ->> 'job', value ->> 'file'";
    format!("{into}, {}", recent())
});

/// Adds a duration to the list, which drops its oldest once it is full.
fn recent() -> String {
    let grown = "json_insert(recent, '$[#]', json_extract(excluded.recent, '$[0]'))";
    format!(
        "json_array(value ->> 'ms') FROM json_each(?) WHERE true ON CONFLICT DO UPDATE SET recent =
           CASE WHEN json_array_length(recent) < {KEPT} THEN {grown} ELSE json_remove({grown}, '$[0]') END"
    )
}

#[cfg(test)]
mod tests {
    use super::super::StepRows;
    use super::*;

    #[tokio::test]
    async fn the_median_of_the_last_nine_counts() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        sqlx::query(
            "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (1, 'tidegauge', '', 'main', '', 0)",
        )
        .execute(&records.writer)
        .await
        .unwrap();
        let took = |job: &str, file: Option<&str>, ms| Took {
            project_id: 1,
            pipeline: "main".into(),
            job: job.into(),
            file: file.map(str::to_owned),
            ms,
        };
        for ms in [900, 900, 900, 10, 20, 30, 40, 50, 60, 70, 80, 90] {
            let took = vec![took("build.gauge", None, ms), took("test.unit", Some("t/a.c"), ms * 2)];
            let mut tx = records.tx_by_rule("a test", 1).await.unwrap();
            tx.write_step(&StepRows { took, ..StepRows::default() }).await.unwrap();
            tx.commit().await.unwrap();
        }
        assert_eq!(records.usual(1, "main").await.unwrap(), HashMap::from([("build.gauge".to_owned(), 50)]));
        assert_eq!(records.usual_tests(1, "main", "test.unit").await.unwrap(), BTreeMap::from([("t/a.c".to_owned(), 100)]));
        assert!(records.usual(1, "nightly").await.unwrap().is_empty());
    }
}
