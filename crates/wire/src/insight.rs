//! What the history of jobs comes to.

use jiff::Timestamp;
use ordotaxis_core::insight::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The lengths that half of them, and nine in ten, do not exceed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LevelView {
    pub p50_ms: Option<i64>,
    pub p90_ms: Option<i64>,
}

impl From<Level> for LevelView {
    fn from(level: Level) -> LevelView {
        LevelView { p50_ms: level.p50, p90_ms: level.p90 }
    }
}

/// What the history of a project's jobs comes to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProjectInsight {
    pub project: String,
    /// Of how many days.
    pub days: i64,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// There were more attempts than are looked at: these are the newest.
    pub cut: bool,
    /// What took most of runners' time first.
    pub jobs: Vec<JobInsight>,
    /// How many more jobs there are than are listed.
    pub more_jobs: usize,
    /// The main branch first, then those with most runs.
    pub branches: Vec<BranchInsight>,
    /// Of all jobs.
    pub runner_ms: i64,
    /// Attempts that failed and passed when they were tried again in the same run, and their time.
    pub retried: usize,
    pub retried_ms: i64,
    /// Jobs whose result was taken over, and how long they would have taken.
    pub reused: i64,
    pub reused_ms: i64,
    /// How often caches were wanted and there, and bytes of files that came from them.
    pub caches: i64,
    pub caches_restored: i64,
    pub caches_bytes: i64,
    /// What falls to this project of what machines of pools cost that were made in this time; none when none has a price.
    pub cost: Option<f64>,
}

/// What the history of one job comes to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JobInsight {
    pub pipeline: String,
    pub job: String,
    pub passed: usize,
    /// Failed or lost.
    pub failed: usize,
    /// How long attempts took that passed.
    pub took: LevelView,
    /// How long attempts queued for a runner.
    pub waited: LevelView,
    pub runner_ms: i64,
    pub retried: usize,
    pub retried_ms: i64,
    /// The newest lasting change of how long it takes on the main branch.
    pub change: Option<ChangeView>,
    pub steps: Vec<StepInsight>,
    /// The same time in equal parts, the oldest first.
    pub parts: Vec<PartInsight>,
}

/// Since when a job takes longer or shorter.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeView {
    /// The first run after the change: `PROJECT/NUMBER`.
    pub run: String,
    pub before_ms: i64,
    pub after_ms: i64,
}

/// What the history of one step comes to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StepInsight {
    pub name: String,
    pub count: usize,
    pub took: LevelView,
}

/// A part of the time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PartInsight {
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub passed: usize,
    pub took: LevelView,
    pub waited: LevelView,
}

/// How the runs of a branch ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BranchInsight {
    /// None: all the others.
    pub branch: Option<String>,
    pub passed: usize,
    pub failed: usize,
    /// Stopped, overtaken, skipped, lost.
    pub other: usize,
    pub took: LevelView,
}

/// What each project takes of runners.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ServiceInsight {
    pub days: i64,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// There were more attempts than are looked at: these are the newest.
    pub cut: bool,
    /// What took most of runners' time first.
    pub projects: Vec<ProjectUse>,
    /// What machines cost in this time that no project used; none when none has a price, or it is not for the caller to know.
    pub unused_cost: Option<f64>,
}

/// What one project takes of runners.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProjectUse {
    pub project: String,
    pub attempts: usize,
    /// Failed or lost.
    pub failed: usize,
    pub runner_ms: i64,
    pub waited: LevelView,
    pub cost: Option<f64>,
}
