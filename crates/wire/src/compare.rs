//! What differs between two runs.

use ordotaxis_core::engine::State;
use ordotaxis_core::report::CaseEnd;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What differs between two runs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CompareView {
    pub before: String,
    pub after: String,
    pub before_ms: Option<i64>,
    pub after_ms: Option<i64>,
    /// Jobs that only one of them has, or that differ; in order of the later run.
    pub jobs: Vec<JobDifference>,
    /// Tests that ended otherwise, or that only one of them has.
    pub tests: Vec<TestDifference>,
    pub artifacts: Vec<ArtifactDifference>,
    pub numbers: Vec<NumberDifference>,
}

/// A job of either run, as it was in both.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JobDifference {
    pub id: String,
    /// None where the run has no such job.
    pub before: Option<State>,
    pub after: Option<State>,
    pub before_ms: Option<i64>,
    pub after_ms: Option<i64>,
    /// `2 of 2`: how many of its caches were restored.
    pub before_caches: Option<String>,
    pub after_caches: Option<String>,
    /// What it waits for is another.
    pub waits_differ: bool,
}

/// A test case that ended otherwise; an end is absent where the run does not have the case.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestDifference {
    pub job: String,
    pub suite: String,
    pub name: String,
    pub before: Option<CaseEnd>,
    pub after: Option<CaseEnd>,
}

/// An artifact of either run; sizes are absent where the run does not have it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArtifactDifference {
    /// `STAGE.NAME/ARTIFACT`
    pub name: String,
    /// Of its files.
    pub before_bytes: Option<u64>,
    pub after_bytes: Option<u64>,
    /// The same files.
    pub same: bool,
}

/// A number of either run whose value is another.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NumberDifference {
    pub name: String,
    pub before: Option<f64>,
    pub after: Option<f64>,
}
