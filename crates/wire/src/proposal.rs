//! Proposals: what is offered, who approved it, how its runs went.

use crate::run::RunView;
use jiff::Timestamp;
use ordotaxis_core::engine::State;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A proposal: a row of `GET /api/v1/projects/{project}/proposals`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProposalView {
    pub project: String,
    /// What the forge calls it.
    pub number: String,
    pub title: String,
    /// As the forge calls them.
    pub author: Option<String>,
    pub source: Option<String>,
    pub target: String,
    /// The newest commit of what is offered.
    pub commit: String,
    pub outside: bool,
    pub draft: bool,
    /// `open`, `closed` or `landed`.
    pub state: String,
    /// Its page at the forge.
    pub link: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub offered_at: Timestamp,
    /// When its newest commit came.
    #[schema(value_type = String, format = DateTime)]
    pub changed_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// The commit that it landed as.
    pub landed_as: Option<String>,
    pub reviews: Vec<ReviewView>,
    /// The newest run of each pipeline for its newest commit.
    pub verdicts: Vec<VerdictView>,
    /// How many tests fail in those runs that did not fail before.
    pub new_failures: u64,
    /// Where it stands in the landing queue, what it lacks, or how it landed: a sentence each.
    pub landing: Vec<String>,
    /// What fails in those runs that did not fail before; only where one proposal is asked for, as what follows.
    pub failures: Vec<FailureView>,
    /// Numbers of those runs that are otherwise than before, or that a gate looks at: sizes and coverage among them.
    pub numbers: Vec<GrownView>,
    /// What its newest commit changes in the plans of pipelines: a sentence each.
    pub plan: Vec<String>,
    /// Every run of it, newest first.
    pub runs: Vec<RunView>,
}

/// A test, or a job without tests, that fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FailureView {
    pub job: String,
    pub test: Option<String>,
    pub message: Option<String>,
    /// `FILE:LINE`
    pub place: Option<String>,
}

/// A number beside what it was before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GrownView {
    pub name: String,
    pub now: String,
    pub before: Option<String>,
    /// What a gate asks for, such as `>= 80`.
    pub wants: Option<String>,
}

/// Offers a branch to another one, where the project has no forge.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewProposal {
    /// The branch that is offered.
    pub source: String,
    /// The branch that it is for; the main branch when absent.
    #[serde(default)]
    pub target: Option<String>,
    /// The title of its newest commit when absent.
    #[serde(default)]
    pub title: Option<String>,
    #[serde(default)]
    pub draft: bool,
}

/// One's word on a proposal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GiveReview {
    /// Null takes one's word back.
    pub approves: Option<bool>,
    /// The commit that was looked at: its first digits, at least seven. It must be the newest.
    pub commit: String,
}

/// Someone's word on a proposal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReviewView {
    /// As the forge calls them.
    pub by: String,
    pub approves: bool,
    /// It is about the newest commit.
    pub current: bool,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// How a pipeline's newest run for a commit went, or goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VerdictView {
    pub run: String,
    pub pipeline: String,
    pub state: State,
    pub sentence: String,
}
