//! Pipeline files: checked and planned, drafted, kept by the service.

use crate::plan::{DiagnosticView, PlanView};
use jiff::Timestamp;
use ordotaxis_core::edit::{Edit, Outline};
use ordotaxis_core::plan::Occasion;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A pipeline file to look at, and the occasion to plan it for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Check {
    pub text: String,
    /// What it is called in places; `ordotaxis.toml` when absent.
    #[serde(default)]
    pub file: Option<String>,
    /// The project whose file it is: what it borrows is then looked up.
    #[serde(default)]
    pub project: Option<String>,
    /// A push to main when absent.
    #[serde(default)]
    pub occasion: Option<Occasion>,
    /// For who draws the plan: the answer has no picture.
    #[serde(default)]
    pub without_picture: bool,
}

/// What there is to say about a file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckView {
    pub diagnostics: Vec<DiagnosticView>,
    /// Empty: there was a version with keys that it did not support yet.
    pub later: Vec<DiagnosticView>,
    /// Whether the file's start rules make it begin on the occasion.
    pub starts: bool,
    /// How many jobs the plan has; 0 without one.
    pub jobs: usize,
    /// None with an error, or with too many jobs to draw.
    pub plan: Option<PlanView>,
    /// The plan as SVG, where there is one.
    pub picture: Option<String>,
    /// What a project's rules say, a sentence each; empty for a pipeline.
    pub says: Vec<String>,
    /// The file's stages, jobs and links, also while it has mistakes; none where it is no TOML, or no pipeline.
    pub outline: Option<Outline>,
}

/// A change to a pipeline file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EditFile {
    pub text: String,
    pub edit: Edit,
}

/// A file as it is after a change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EditedView {
    pub text: String,
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
    /// What it asks for when someone starts it.
    pub inputs: Vec<InputView>,
    /// Whether someone may start it.
    pub by_hand: bool,
}

/// A value that a pipeline asks for when someone starts it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InputView {
    pub name: String,
    /// What it is for, in the file's words.
    pub says: Option<String>,
    /// The values that it may have; empty: any.
    pub choices: Vec<String>,
    /// None: it has to be given.
    pub default: Option<String>,
}

/// What a start would do: nothing has begun.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlannedRunView {
    pub commit: String,
    pub commit_title: String,
    pub commit_author: String,
    /// What is wrong with the file; then there is no plan.
    pub diagnostics: Vec<DiagnosticView>,
    pub plan: Option<PlanView>,
}

/// A pipeline file to keep as a commit on a branch of its own.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDraft {
    /// `main` for `ordotaxis.toml`, another name for `ordotaxis/NAME.toml`.
    pub pipeline: String,
    pub text: String,
    /// The new branch's name.
    pub branch: String,
    pub message: String,
    /// The commit it was made from; the main branch's newest when absent.
    #[serde(default)]
    pub from: Option<String>,
}

/// A draft that was kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftView {
    pub branch: String,
    pub commit: String,
}

/// A new version of a pipeline file that the service keeps.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewStored {
    /// Empty: the pipeline is taken out.
    pub text: String,
    pub message: String,
    /// The version it was made from, 0 for none: when another came first, nothing is kept.
    pub on: i64,
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
