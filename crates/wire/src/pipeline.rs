//! Pipeline files as the console and the client see them.

use crate::plan::{DiagnosticView, PlanView};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What there is to say about a file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckView {
    pub diagnostics: Vec<DiagnosticView>,
    /// Keys that this version does not do: told when it is run.
    pub later: Vec<DiagnosticView>,
    /// Whether the file's start rules make it begin on the occasion.
    pub starts: bool,
    /// How many jobs the plan has; 0 without one.
    pub jobs: usize,
    /// None with an error, or with too many jobs to draw.
    pub plan: Option<PlanView>,
    /// The plan as SVG, where there is one.
    pub picture: Option<String>,
}

/// One pipeline of a project.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PipelineView {
    pub name: String,
    /// Its file in the repository.
    pub path: String,
    pub text: String,
    /// Its version, when the service keeps it instead of the repository.
    pub version: Option<i64>,
    /// The main branch's commit it was read at.
    pub commit: String,
}

/// A draft that was kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftView {
    pub branch: String,
    pub commit: String,
}

/// One version of a pipeline file that the service keeps.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VersionView {
    pub version: i64,
    /// Empty: it was taken out.
    pub text: String,
    pub by: String,
    pub message: String,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}
