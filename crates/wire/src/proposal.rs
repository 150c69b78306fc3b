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
    /// Every run of it, newest first; only where one proposal is asked for.
    pub runs: Vec<RunView>,
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
