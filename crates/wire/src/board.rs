//! The board: is anything broken, since when, and whose is it?

use crate::run::RunView;
use jiff::Timestamp;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::JobId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The answer of the board: the broken projects first, then those where something runs, then by name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardView {
    pub projects: Vec<BoardLine>,
    pub slots: u32,
    pub busy: u32,
}

/// A project on the board: is it broken, since when, and whose is it?
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardLine {
    pub project: String,
    /// Where its repository is, without its own name: the host and the folder or owner.
    pub home: String,
    /// The caller has a role of their own on it, or began one of `runs`, or wrote its commit.
    pub mine: bool,
    pub main_branch: String,
    /// The newest verdict on the main branch.
    pub main: Option<State>,
    /// When the main branch changed to this verdict.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// For a broken one: what broke first, since which commit, whose.
    pub broke: Option<BrokeView>,
    /// Up to 30, the newest last.
    pub runs: Vec<BoardRun>,
    /// What is going on now, without jobs; the newest last.
    pub now: Vec<RunView>,
}

/// The first failed run of a main branch that is broken now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BrokeView {
    pub run: String,
    pub job: Option<JobId>,
    pub why: String,
    pub commit: String,
    pub commit_title: String,
    pub author: String,
}

/// One past or present run in a project's strip.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardRun {
    pub run: String,
    pub state: State,
    pub branch: Option<String>,
    pub commit_title: String,
    /// From start to end without the time it rested in between; none while it runs.
    pub duration_ms: Option<i64>,
}
