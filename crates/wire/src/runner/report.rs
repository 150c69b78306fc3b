//! What an attempt left beside files, and how it ended.

use super::attempt::AttemptId;
use super::content::{CacheUse, GivenArtifact};
use crate::run::PhaseView;
use ordotaxis_core::engine::{Number, Outcome};
use ordotaxis_core::report::{BillForm, Case, Component, Coverage, Finding};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What an attempt leaves beside files, sent before its result. A repeat changes nothing.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct AttemptReports {
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
    /// Those of them that are numbers.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, Number>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cases: Option<Vec<Case>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub coverage: Option<Coverage>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub findings: Option<Vec<Finding>>,
    /// None: it names no bills of materials.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bills: Option<Vec<AttemptBill>>,
}

/// A bill of materials, and the components that it names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AttemptBill {
    /// Below the job's folder.
    pub file: String,
    pub form: BillForm,
    pub components: Vec<Component>,
    /// As the job wrote it.
    pub document: String,
}

/// What the service makes of it: sentences for the job's log and for why it failed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ReportsTaken {
    pub said: Vec<String>,
    /// The first test that fails now and did not before, else the first that fails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
}

/// How an attempt ended. The runner repeats it until it is answered; a repeat is answered like the first.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Finish {
    pub session: String,
    pub slot: u32,
    pub outcome: Outcome,
    pub exit_code: Option<i32>,
    /// For every outcome but passed: what happened, in one sentence.
    pub why: Option<String>,
    pub phases: Vec<PhaseView>,
    pub artifacts: Vec<GivenArtifact>,
    /// Whether the slot wants its next lease in the answer.
    pub claim: bool,
    /// Attempts that the slot was leased ahead of time; it has begun with the first of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub holding: Vec<AttemptId>,
    /// Whether the slot wants another lease ahead of time, since its jobs end quickly.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ahead: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<CacheUse>,
    /// Test file → milliseconds, as the job's reports say.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tests: BTreeMap<String, i64>,
    /// What the check after the steps was answered last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<String>,
}
