//! A runner enrols, signs on, claims work, keeps its leases, and signs off.

use super::attempt::AttemptId;
use super::lease::Lease;
use crate::run::PhaseView;
use ordotaxis_core::language::Capacity;
use serde::{Deserialize, Serialize};

/// A new runner presents its invitation.
#[derive(Debug, Serialize, Deserialize)]
pub struct Enrol {
    /// Of the invitation; good once.
    pub token: String,
    pub name: String,
}

/// The answer: who the runner is from now on.
#[derive(Debug, Serialize, Deserialize)]
pub struct Enrolled {
    pub name: String,
    /// The runner's own credential, a bearer token.
    pub credential: String,
    /// What it is to do, when it is a pool's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<MachineTerms>,
}

/// What the runner of a pool's machine is to do: all that it is not told where it is started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachineTerms {
    pub slots: u32,
    /// It leaves after so many jobs; none: when it is asked to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<u32>,
    /// It leaves after so long in any case, also when nobody tells it to.
    pub lasts_ms: u64,
    /// So much of the machine it may give to jobs; all of it where nothing is said.
    #[serde(default, skip_serializing_if = "Capacity::is_none")]
    pub capacity: Capacity,
    /// How it fences jobs in; as well as it can when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub isolation: Option<String>,
}

/// A runner that starts says what it offers. It ends an earlier session of the same runner, whose attempts are lost.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignOn {
    pub version: u32,
    /// A new one at each start of the runner.
    pub session: String,
    pub slots: u32,
    /// The system and its architecture, as labels that every runner has: `linux`, `x86_64`.
    pub system: Vec<String>,
    /// Of the labels that the service has granted it, those that it offers; all of them when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub labels: Option<Vec<String>>,
    pub isolation: String,
    /// What jobs are fenced in with, for people.
    #[serde(default)]
    pub fence: String,
    #[serde(default)]
    pub tools: Vec<Tool>,
    #[serde(default)]
    pub cores: u32,
    #[serde(default)]
    pub memory_bytes: u64,
    /// Graphics processors that jobs may ask for.
    #[serde(default, skip_serializing_if = "none")]
    pub gpus: u32,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands a reference")]
fn none(count: &u32) -> bool {
    *count == 0
}

/// A tool that a runner's probe found, with its version as the tool prints it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Tool {
    pub name: String,
    pub version: String,
}

/// The answer, with the times to keep.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignedOn {
    /// What jobs may ask of it, as the service has it.
    pub labels: Vec<String>,
    /// How often it must beat.
    pub beat_ms: u64,
    /// After how long without a beat its attempts are lost.
    pub lease_ms: u64,
}

/// A runner that has ended its work leaves.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignOff {
    pub session: String,
}

/// The machine is about to be taken away: its runner takes nothing more.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct TakenAway {
    pub session: String,
}

/// An attempt that its runner cannot go on with: it is lost, and tried again elsewhere where its job says so.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LetGo {
    pub session: String,
    /// A sentence.
    pub why: String,
    /// What it went through.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub phases: Vec<PhaseView>,
}

/// A free slot asks for work; the call is held open for a while. A repeat for the same slot gets the same lease.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Claim {
    pub session: String,
    pub slot: u32,
}

/// Answers a claim or a result. Both are null when nothing came up.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Claimed {
    /// To be worked on now.
    pub lease: Option<Lease>,
    /// To be worked on next, or given back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ahead: Option<Lease>,
}

/// Gives back an attempt that the slot was leased ahead of time and has not begun, so that others can take the job.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct GiveBack {
    pub session: String,
    pub slot: u32,
    /// As the lease says: the slot may be leased the same attempt once more, and that is not meant.
    pub taken_at: i64,
}

/// Sent every `beat_ms`: the runner lives, and works on these.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Beat {
    pub session: String,
    /// The attempts whose leases are to be kept.
    pub holding: Vec<AttemptId>,
}

/// The answer to a beat.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Beaten {
    /// Attempts that someone asked to stop.
    pub stop: Vec<AttemptId>,
    /// Attempts that were given up: end them and say nothing more.
    pub unknown: Vec<AttemptId>,
}
