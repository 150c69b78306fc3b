//! Why a job failed, in one answer: the step and its command, the tests, the log around the first error, and since when.

use crate::results::CaseView;
use jiff::Timestamp;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::JobId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// All that tells why a job failed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WhyFailedView {
    pub run: String,
    pub job: JobId,
    /// The attempt that is told of.
    pub attempt: u32,
    pub state: State,
    pub why: Option<String>,
    /// None where it did not fail in a step: it was lost, say, or an artifact was missing.
    pub step: Option<FailedStepView>,
    /// None for a job that failed in a run whose branch is not known.
    pub since: Option<SinceView>,
    /// How many of its tests failed; `tests` holds the first of them, new failures before known ones.
    pub failed_tests: u64,
    pub tests: Vec<CaseView>,
    /// None where it printed nothing, or its log was dropped.
    pub excerpt: Option<ExcerptView>,
}

/// The step that ended the job.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FailedStepView {
    pub name: String,
    /// As the plan holds it; of a long one the beginning.
    pub command: String,
    /// The folder below the job's own in which it ran.
    pub dir: Option<String>,
    pub exit_code: Option<i32>,
    pub duration_ms: Option<i64>,
}

/// Since when a job fails: the first of the latest runs on its branch that all failed there.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SinceView {
    pub run: String,
    pub commit: String,
    pub commit_title: String,
    pub commit_author: String,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// The newest run before it in which the job was well; none where it never was, as far back as was looked.
    pub passed_in: Option<String>,
    /// What was new in `run` since `passed_in`, newest first; of many the newest.
    pub commits: Vec<SuspectView>,
    /// There are more than are listed.
    pub more: bool,
}

/// A commit that may be the cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SuspectView {
    pub commit: String,
    pub title: String,
    pub author: String,
}

/// Some lines of a log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExcerptView {
    /// The number of the first, counted from 0.
    pub first: u64,
    /// The number of the line that first tells of an error; none where no line does: these are the step's last lines.
    pub error: Option<u64>,
    /// Without line ends.
    pub lines: Vec<String>,
}
