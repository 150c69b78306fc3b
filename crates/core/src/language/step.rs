//! A step, as the file writes it and as a plan holds it; and the variables that it sees.

use super::place::{At, Span};
use crate::template::Template;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// Variables, with placeholders.
pub type Env = IndexMap<String, At<Template>>;

/// A step as the file writes it.
#[derive(Debug, Clone)]
pub struct StepLine {
    pub name: String,
    pub run: String,
    pub span: Span,
    pub condition: Option<At<String>>,
    pub env: Env,
    pub dir: Option<At<Template>>,
    pub shell: Option<String>,
    pub timeout_ms: Option<u64>,
    pub may_fail: bool,
}

/// A step as a plan holds it: placeholders are filled as far as they are known.
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
    /// Its `if`, where that reads facts and is so decided when the job starts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
}
