//! The landing queues of branches, each one value of the core's; what landed or left; and the runs of trials.

use super::{Records, StoreError, Tx};
use ordotaxis_core::landing::Queue;

/// What landed or left.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct LandingEnd {
    pub branch: String,
    pub proposal: String,
    pub head: String,
    /// What it landed as.
    pub commit_id: Option<String>,
    /// Why it left.
    pub why: Option<String>,
    pub at: i64,
}

/// The newest run of one pipeline of a trial.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct TrialRun {
    pub id: i64,
    pub number: i64,
    pub pipeline: String,
    pub state: String,
    pub created_at: i64,
    pub ended_at: Option<i64>,
    pub why: Option<String>,
}

fn parse(text: &str) -> Result<Queue, StoreError> {
    serde_json::from_str(text).map_err(|_| StoreError::Value("landings.state"))
}

impl Records {
    /// The landing queues of a project, by branch.
    pub async fn landings(&self, project_id: i64) -> Result<Vec<(String, Queue)>, StoreError> {
        let sql = "SELECT branch, state FROM landings WHERE project_id = ? ORDER BY branch";
        let rows: Vec<(String, String)> = sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?;
        rows.into_iter().map(|(branch, text)| Ok((branch, parse(&text)?))).collect()
    }

    /// All landing queues: (project, branch).
    pub async fn landing_branches(&self) -> Result<Vec<(i64, String)>, StoreError> {
        Ok(sqlx::query_as("SELECT project_id, branch FROM landings ORDER BY project_id, branch").fetch_all(&self.reads).await?)
    }

    /// What landed or left last, newest first.
    pub async fn landing_ends(&self, project_id: i64, limit: i64) -> Result<Vec<LandingEnd>, StoreError> {
        let sql = "SELECT branch, proposal, head, commit_id, why, at FROM landing_ends WHERE project_id = ? ORDER BY id DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Of each pipeline of a trial the newest run.
    pub async fn trial_runs(&self, project_id: i64, branch: &str, trial: u64) -> Result<Vec<TrialRun>, StoreError> {
        let sql = "SELECT id, number, pipeline, state, created_at, ended_at, why FROM runs WHERE id IN (
                     SELECT max(id) FROM runs WHERE project_id = ? AND target = ? AND trial = ? GROUP BY pipeline) ORDER BY pipeline";
        let trial = i64::try_from(trial).unwrap_or(i64::MAX);
        Ok(sqlx::query_as(sql).bind(project_id).bind(branch).bind(trial).fetch_all(&self.reads).await?)
    }

    /// How long runs of a pipeline take that pass, in milliseconds: half of the last 15 that did something were quicker. None: none has passed.
    pub async fn usual_run(&self, project_id: i64, pipeline: &str) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT ended_at - started_at - rest_ms FROM runs
                   WHERE project_id = ? AND pipeline = ? AND state = 'passed' AND started_at IS NOT NULL
                     AND (NOT EXISTS (SELECT 1 FROM jobs WHERE run_id = runs.id AND jobs.state = 'reused')
                       OR EXISTS (SELECT 1 FROM jobs WHERE run_id = runs.id AND jobs.state = 'passed'))
                   ORDER BY id DESC LIMIT 15";
        let mut took: Vec<i64> = sqlx::query_scalar(sql).bind(project_id).bind(pipeline).fetch_all(&self.reads).await?;
        took.sort_unstable();
        Ok(took.get(took.len() / 2).copied())
    }

    /// The branch and trial that a run is for; none for any other run.
    pub async fn trial_of(&self, run: i64) -> Result<Option<(String, i64)>, StoreError> {
        let sql = "SELECT target, trial FROM runs WHERE id = ? AND trial IS NOT NULL AND target IS NOT NULL";
        Ok(sqlx::query_as(sql).bind(run).fetch_optional(&self.reads).await?)
    }
}

impl Tx {
    /// A branch's landing queue as it is within this change; none where it never had one.
    pub async fn landing(&mut self, project_id: i64, branch: &str) -> Result<Option<Queue>, StoreError> {
        let sql = "SELECT state FROM landings WHERE project_id = ? AND branch = ?";
        let text: Option<String> = sqlx::query_scalar(sql).bind(project_id).bind(branch).fetch_optional(&mut *self.on).await?;
        text.map(|text| parse(&text)).transpose()
    }

    /// The branches of a project whose queues hold a proposal.
    pub async fn landing_of(&mut self, project_id: i64, proposal: &str) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT branch FROM landings WHERE project_id = ?1 AND EXISTS (
                     SELECT 1 FROM json_each(state, '$.entries') AS entry WHERE entry.value ->> '$.offered.proposal' = ?2)";
        Ok(sqlx::query_scalar(sql).bind(project_id).bind(proposal).fetch_all(&mut *self.on).await?)
    }

    /// Keeps a branch's landing queue.
    pub async fn set_landing(&mut self, project_id: i64, branch: &str, queue: &Queue) -> Result<(), StoreError> {
        let text = serde_json::to_string(queue).map_err(|_| StoreError::Value("landings.state"))?;
        let sql = "INSERT INTO landings (project_id, branch, state) VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET state = ?3";
        sqlx::query(sql).bind(project_id).bind(branch).bind(text).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A proposal landed, or left.
    pub async fn add_landing_end(&mut self, project_id: i64, end: &LandingEnd) -> Result<(), StoreError> {
        let sql = "INSERT INTO landing_ends (project_id, branch, proposal, head, commit_id, why, at) VALUES (?, ?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(project_id).bind(&end.branch).bind(&end.proposal).bind(&end.head);
        query.bind(&end.commit_id).bind(&end.why).bind(self.now).execute(&mut *self.on).await?;
        Ok(())
    }
}
