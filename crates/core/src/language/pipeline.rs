//! A pipeline as its file says it: every part with its place in the text, no name resolved yet. [`crate::plan`] resolves.

use crate::order::Line;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::ops::Range;

/// Where something stands in the text, in bytes.
pub type Span = Range<usize>;

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct At<T> {
    pub value: T,
    pub span: Span,
}

/// A job's full name, `STAGE.NAME`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(transparent)]
#[schema(value_type = String)]
pub struct JobId(String);

impl JobId {
    pub fn new(stage: &str, name: &str) -> Self {
        JobId(format!("{stage}.{name}"))
    }

    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for JobId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[derive(Debug, Clone, Default)]
pub struct Pipeline {
    pub title: Option<String>,
    pub order: Vec<Line>,
    pub starts: Starts,
    pub env: IndexMap<String, String>,
    pub defaults: Defaults,
    pub jobs: Vec<Job>,
}

/// What makes a run begin.
#[derive(Debug, Clone)]
pub struct Starts {
    /// Globs over branches; one with `!` takes away. None: any branch, for a file without `[starts]`.
    pub push: Option<Vec<String>>,
    pub by_hand: bool,
}

impl Default for Starts {
    fn default() -> Self {
        Starts { push: None, by_hand: true }
    }
}

/// What `[defaults]` says for every job that does not say it itself.
#[derive(Debug, Clone, Default)]
pub struct Defaults {
    pub labels: Option<Vec<String>>,
    pub env: IndexMap<String, String>,
    pub timeout_ms: Option<u64>,
    pub may_fail: Option<bool>,
    pub eager: Option<bool>,
    pub checkout: Option<Checkout>,
}

#[derive(Debug, Clone)]
pub struct Job {
    pub stage: String,
    pub name: String,
    /// The table's header.
    pub span: Span,
    pub steps: Vec<Step>,
    pub labels: Option<Vec<String>>,
    pub takes: Vec<At<Take>>,
    pub gives: Vec<Give>,
    pub after: Vec<At<String>>,
    pub eager: Option<bool>,
    pub env: IndexMap<String, String>,
    pub timeout_ms: Option<u64>,
    pub may_fail: Option<bool>,
    pub checkout: Option<Checkout>,
}

impl Job {
    pub fn id(&self) -> JobId {
        JobId::new(&self.stage, &self.name)
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// What it is called in logs and lanes: its `name`, else the command's first line.
    pub name: String,
    pub run: String,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub env: IndexMap<String, String>,
    /// A folder below the job's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dir: Option<String>,
    /// Program and options that take the command as their last argument; `sh -eu -c` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub may_fail: bool,
}

/// `STAGE.NAME/ARTIFACT`, and the folder it is unpacked in.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Take {
    pub job: String,
    pub artifact: String,
    pub to: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Give {
    pub artifact: String,
    /// Globs below the job's folder.
    pub paths: Vec<String>,
    pub none: WhenNone,
}

/// What happens when an artifact's globs match nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WhenNone {
    #[default]
    Fail,
    Warn,
    Ignore,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Checkout {
    /// An empty folder.
    None,
    /// The commit's files, clean, in this folder below the job's own (`.` for itself).
    Files { dir: String },
}

impl Default for Checkout {
    fn default() -> Self {
        Checkout::Files { dir: ".".into() }
    }
}
