//! The plan as a value: everything a run needs to know, without the file it came from. It is stored with the run, so
//! its field names are forever; fields are added with a default, and `version` says since when.

use super::occasion::Occasion;
use crate::language::{Cell, Checkout, Extras, GateRule, Give, JobId, Rollout, Step, Upon};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// The form that is written: 1 was before matrices, conditions and patterns.
pub(super) const VERSION: u32 = 2;

/// What a run does, resolved from a pipeline and an occasion. Stored with the run as JSON; fields are added, never renamed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    pub version: u32,
    pub pipeline: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    pub occasion: Occasion,
    /// After a failure nothing more is started.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stops_at_failure: bool,
    /// Older runs of the same branch go on beside this one.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keeps_older: bool,
    /// Inputs that may be given when a job of it is started by hand: name → values it may have; any when empty.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub inputs: IndexMap<String, Vec<String>>,
    /// What patterns were borrowed from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub borrowed: Vec<PlannedBorrow>,
    /// In an order that agrees with the file's `order`.
    pub stages: Vec<PlannedStage>,
    /// By stage, then as they are in the file; the cells of one job stand together.
    pub jobs: Vec<PlannedJob>,
}

impl Plan {
    /// All but the jobs, for one that is rebuilt from parts of it.
    pub(super) fn clone_without_jobs(&self) -> Plan {
        Plan {
            pipeline: self.pipeline.clone(),
            title: self.title.clone(),
            occasion: self.occasion.clone(),
            borrowed: self.borrowed.clone(),
            stages: self.stages.clone(),
            inputs: self.inputs.clone(),
            jobs: Vec::new(),
            ..*self
        }
    }
}

/// A file that was borrowed, and the commit it came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct PlannedBorrow {
    pub name: String,
    pub git: String,
    /// The tag or commit as the file names it.
    pub at: String,
    /// The commit it was resolved to.
    pub commit: String,
}

/// A stage with what has to end before it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedStage {
    pub name: String,
    /// Every stage before this one, by number.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<usize>,
    /// What must hold before its jobs start.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gate: Vec<GateRule>,
}

/// One job, or one cell of a matrix. `Plan::jobs` holds the cells of a matrix next to each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedJob {
    pub id: JobId,
    pub stage: usize,
    pub name: String,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub cell: Cell,
    /// Decided when planned: why it will not run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub skipped: Option<String>,
    /// Expressions that can only be decided just before the job would start.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conditions: Vec<String>,
    /// With conditions: what its pattern was given, which they may read.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub given: IndexMap<String, String>,
    pub steps: Vec<Step>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub takes: Vec<PlannedTake>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gives: Vec<Give>,
    /// What it waits for beside the earlier stages, each once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waits: Vec<Wait>,
    /// Whether it waits for every stage before its own.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordered: bool,
    /// Outcomes of what it waits for that let it start; empty means passed alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub upon: Vec<Upon>,
    /// Its failure skips the cells of the same job that have not started.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub halts_cells: bool,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub env: IndexMap<String, String>,
    /// Some text holds a placeholder that only the runner can fill: then every text that may have one is written as in
    /// a file, braces doubled.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub late: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub may_fail: bool,
    pub checkout: Checkout,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extras: Option<Box<Extras>>,
}

impl PlannedJob {
    /// Whether both are cells of one job.
    pub fn is_cell_of(&self, other: &PlannedJob) -> bool {
        self.stage == other.stage && self.name == other.name
    }

    /// How it is rolled out, with the other cells of its job.
    pub fn rollout(&self) -> Option<&Rollout> {
        self.extras.as_ref()?.rollout.as_ref()
    }
}

/// Artifacts that a job takes from another job or from its cells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedTake {
    /// The job taken from, or the first of its cells.
    pub job: usize,
    /// How many cells, from `job` on, are taken from.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub cells: usize,
    pub artifact: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Each cell's files go in a folder of their own, named by the cell.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub apart: bool,
}

fn one() -> usize {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_one(count: &usize) -> bool {
    *count == 1
}

/// Something that must end before a job can be queued.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wait {
    pub on: WaitOn,
    /// True when something is taken, not only awaited.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub takes: bool,
    /// Another cell of the same job, as many cells before this one as run at once: by then one of them must have ended.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub at_once: bool,
}

/// What is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WaitOn {
    Job(usize),
    Stage(usize),
    /// All cells of a job: the first one's number, and how many.
    Cells(usize, usize),
}

impl WaitOn {
    /// `count` neighbours, from the one with this number on.
    pub(super) fn together(first: usize, count: usize) -> WaitOn {
        if count == 1 { WaitOn::Job(first) } else { WaitOn::Cells(first, count) }
    }
}
