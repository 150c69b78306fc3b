//! Tests, findings and numbers of runs.

use jiff::Timestamp;
use ordotaxis_core::report::{CaseEnd, Difference, Level};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The test cases of a run. Those of the last attempt of each job count.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct TestsView {
    pub run: String,
    /// The run before, on the same branch or the target's.
    pub compared_with: Option<String>,
    pub total: u64,
    pub passed: u64,
    pub failed: u64,
    pub skipped: u64,
    /// What all cases took, added.
    pub ms: i64,
    /// Fail now and did not before.
    pub new: Vec<CaseView>,
    /// Failed before, too.
    pub known: Vec<CaseView>,
    /// Failed before and pass now.
    pub fixed: Vec<CaseView>,
    /// Failed at first and passed when tried again, in the same job.
    pub wavered: Vec<CaseView>,
    pub slowest: Vec<CaseView>,
    /// Those that did not fail, as many as a page can show.
    pub others: Vec<CaseView>,
    /// Cases of the same jobs that were there before and are not now.
    pub gone: u64,
}

/// One test case of a run, from the last attempt of its job.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaseView {
    pub job: String,
    pub suite: String,
    pub name: String,
    pub end: CaseEnd,
    /// How it ended in the run that this one is compared with.
    pub before: Option<CaseEnd>,
    /// It failed at first and passed when tried again, in the same job.
    #[serde(default)]
    pub wavered: bool,
    pub ms: Option<i64>,
    #[serde(default)]
    pub file: Option<String>,
    #[serde(default)]
    pub line: Option<u32>,
    #[serde(default)]
    pub message: Option<String>,
    /// The two values that it compared, where the message tells them.
    #[serde(default)]
    pub difference: Option<DifferenceView>,
    /// For one that fails: the first run since which it has.
    #[serde(default)]
    pub since: Option<String>,
}

/// Two values that should have been equal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DifferenceView {
    /// What the message calls them: `expected` and `actual`, say.
    pub names: [String; 2],
    pub values: [String; 2],
}

impl From<Difference> for DifferenceView {
    fn from(found: Difference) -> DifferenceView {
        DifferenceView { names: found.names, values: found.values }
    }
}

/// A test that passes and fails with nothing changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlakyView {
    pub job: String,
    pub suite: String,
    pub name: String,
    /// How often it turned, of the last 200 runs.
    pub times: u64,
    pub newest: String,
}

/// How a test ended in one run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HistoryView {
    pub run: String,
    pub job: String,
    pub end: CaseEnd,
    pub wavered: bool,
    pub ms: Option<i64>,
    pub commit: String,
    pub branch: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    pub message: Option<String>,
}

/// One finding of an analysis (SARIF), at a place in a file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FindingView {
    pub job: String,
    pub rule: String,
    pub level: Level,
    pub message: String,
    pub file: Option<String>,
    pub line: Option<u32>,
    /// The run that this one is compared with does not have it.
    pub new: bool,
}

/// A number over runs, oldest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeriesView {
    pub name: String,
    pub points: Vec<NumberView>,
}

/// A number's value in one run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NumberView {
    pub run: String,
    pub value: f64,
    pub branch: Option<String>,
    pub commit: String,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}
