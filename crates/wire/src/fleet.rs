//! Runners as people see them, what each may have, and what queues for them. The protocol that they speak is in [`crate::runner`].

use crate::runner::Tool;
use jiff::Timestamp;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::language::JobId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a runner may have; its own word can only narrow it.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunnerGrant {
    /// What jobs may ask for with `where`, beside the system and its architecture: letters, digits, `-`, `_` and `.`, at most 64.
    #[serde(default)]
    pub labels: Vec<String>,
    /// The projects whose jobs it takes; all when absent.
    #[serde(default)]
    pub projects: Option<Vec<String>>,
    /// Whether it takes proposals from outside: `no`, `yes`, or `only` those.
    #[serde(default)]
    #[schema(value_type = String)]
    pub outside: Taking,
}

/// An invitation for one runner.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Invite {
    #[serde(default)]
    pub grant: RunnerGrant,
    /// How long it is good, in milliseconds, a week at most; an hour when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_ms: Option<i64>,
}

/// The answer to an invitation's making. The token is not shown a second time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Enrols one runner, once.
    pub token: String,
}

/// Asks a runner to take nothing more, or lets it go on.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drain {
    pub draining: bool,
}

/// A runner: what it offers, what it may have, and what it does now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunnerView {
    pub name: String,
    pub labels: Vec<String>,
    pub isolation: String,
    pub slots: u32,
    pub busy: u32,
    /// Whether it has been heard within its lease's time.
    pub connected: bool,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub seen_at: Option<Timestamp>,
    /// What it does now: `RUN JOB`.
    pub doing: Vec<String>,
    /// The same in parts.
    pub now: Vec<DoingView>,
    pub tools: Vec<Tool>,
    /// 0: not known.
    pub cores: u32,
    pub memory_bytes: u64,
    /// Graphics processors that it says it has.
    #[serde(default)]
    pub gpus: u32,
    /// Who asked it to take nothing more.
    #[serde(default)]
    pub draining_by: Option<String>,
    /// What it may have; `labels` is what it offers of that.
    pub grant: crate::fleet::RunnerGrant,
    /// What it fences jobs in with, in words.
    pub fence: String,
    /// How full its slots were, in thousandths, in each of the last six hours' quarters, oldest first.
    pub full: Vec<u16>,
}

/// One job on a runner.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DoingView {
    pub run: String,
    pub job: JobId,
    pub attempt: u32,
    /// The phase it is in.
    pub phase: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
}

/// A job that no runner has taken yet.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueuedView {
    pub run: String,
    pub job: JobId,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub why: String,
}

/// The slots of all connected runners together: what the console's head line asks for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SlotsView {
    pub slots: u32,
    pub busy: u32,
}
