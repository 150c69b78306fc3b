//! Pools: runners that are made when jobs queue, and the machines that were made.

use crate::fleet::DoingView;
use jiff::Timestamp;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::pool::Stage;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// Who makes a pool's machines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Provider {
    /// Processes of the service's own machine.
    Process,
    /// A program of the operator's, asked with JSON.
    Command,
    /// A Slurm cluster.
    Slurm,
    /// The practice cloud.
    Practice,
}

impl Provider {
    /// As settings and commands write it.
    pub fn word(self) -> &'static str {
        match self {
            Provider::Process => "process",
            Provider::Command => "command",
            Provider::Slurm => "slurm",
            Provider::Practice => "practice",
        }
    }
}

/// What a pool may do; `[pool.NAME]` in the service's configuration. Lengths of time are written as `"90s"`, `"3m"`, `"2h"`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PoolSettings {
    pub provider: Provider,
    /// What jobs may ask for with `where`, beside what these runners find by themselves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    /// What a machine has, known before the first is made.
    #[serde(default)]
    pub offers: PoolOffers,
    /// Machines at the same time.
    pub most: u32,
    /// So many are kept ready; 0 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<u32>,
    /// The longest time until its runner signs on; 3 minutes when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<String>,
    /// How long one stays that has nothing to do; a minute when absent, 10 seconds with `jobs = 1`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle: Option<String>,
    /// Jobs that a machine does before it leaves; as many as come when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<u32>,
    /// Jobs that it does at the same time; 1 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slots: Option<u32>,
    /// Its longest life, whatever it does; 2 hours when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts: Option<String>,
    /// What it costs in an hour, in whatever money.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<f64>,
    /// The projects whose jobs it takes; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub projects: Option<Vec<String>>,
    /// Whether it takes proposals from outside: `no`, `yes`, or `only` those.
    #[serde(default)]
    #[schema(value_type = String)]
    pub outside: Taking,
    /// How jobs are fenced in: `sandbox`, `container`, `host`; as well as it can be when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub isolation: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<CommandSettings>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slurm: Option<SlurmSettings>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub practice: Option<PracticeSettings>,
}

/// What a machine has.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PoolOffers {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cores: Option<u32>,
    /// Such as `"32GiB"`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gpus: Option<u32>,
    /// Names of tools, each with its version behind a blank where that is known: `"gcc"`, `"make 4.3"`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tools: Vec<String>,
}

/// A program that makes machines.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CommandSettings {
    /// Its file's name in the folder that the configuration names as `pool_programs`.
    pub program: String,
    /// Handed to it with every question.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    #[schema(value_type = Object)]
    pub settings: Map<String, Value>,
}

/// How jobs are handed to a cluster.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SlurmSettings {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub partition: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub qos: Option<String>,
    /// Where `ordotaxis` lies on its nodes; where the service's own lies when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub binary: Option<String>,
    /// A folder on its nodes for the machines' own folders; `/tmp` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
}

/// Where the practice cloud is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PracticeSettings {
    /// On this machine.
    pub url: String,
}

/// A pool, and how it goes with it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PoolView {
    pub name: String,
    pub settings: PoolSettings,
    /// Set in the service's configuration: it can only be changed there.
    pub from_file: bool,
    pub set_by: String,
    /// It makes no more, and goes with its last machine.
    pub ended: bool,
    /// Machines whose runners are coming, wait for work, work, and that are leaving.
    pub coming: u32,
    pub waiting: u32,
    pub busy: u32,
    pub leaving: u32,
    /// What it does now, or what keeps it from doing something, in a sentence.
    pub why: String,
    /// Something is wrong.
    pub troubled: bool,
    /// What its machines of the last 24 hours have cost so far; null without a price.
    pub cost_day: Option<f64>,
    /// How many machines it made in the last 24 hours, and how many jobs those did.
    pub made_day: u32,
    pub jobs_day: u32,
    /// How long a machine usually takes to come.
    pub usual_start_ms: Option<i64>,
}

/// A machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachineView {
    pub id: String,
    pub pool: String,
    #[schema(value_type = String)]
    pub stage: Stage,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub why: String,
    #[schema(value_type = String, format = DateTime)]
    pub wanted_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub made_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub registered_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub gone_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub kept_until: Option<Timestamp>,
    pub cores: u32,
    pub memory_mib: u32,
    pub gpus: u32,
    /// How many jobs it has begun.
    pub jobs: u32,
    /// What it does now.
    pub now: Vec<DoingView>,
    /// What it has cost so far; null without a price.
    pub cost: Option<f64>,
    /// What its provider says of it.
    pub words: String,
}

/// Asks for a machine to be kept for a look, or lets it go.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepMachine {
    /// For so long, in milliseconds, a week at most; null: as any other again.
    pub for_ms: Option<i64>,
}

/// The last of what a machine wrote to its console.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConsoleView {
    pub text: String,
}
