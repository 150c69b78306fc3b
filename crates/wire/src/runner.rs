//! The runner protocol: plain HTTP, always started by the runner, every call safe to repeat.
//!
//! A runner enrols once, signs on each time it starts (that begins a *session*), and then each of its slots claims,
//! works and finishes. A slot holds at most one attempt, so a claim that is repeated gets the same lease again. The
//! attempt's number is the fencing number: a call for a number that was given up is answered 409 and changes nothing.

use crate::view::{PhaseKind, PhaseView};
use indexmap::IndexMap;
use ordotaxis_core::engine::Outcome;
use ordotaxis_core::language::{Checkout, Give, Helper, JobId, Step};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

pub const VERSION: u32 = 1;

/// Names one attempt in addresses: `RUN-JOB-NUMBER`, all numbers of the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct AttemptId {
    pub run: i64,
    pub job: usize,
    pub attempt: u32,
}

impl fmt::Display for AttemptId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}-{}", self.run, self.job, self.attempt)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BadAttemptId;

impl FromStr for AttemptId {
    type Err = BadAttemptId;

    fn from_str(text: &str) -> Result<Self, BadAttemptId> {
        let mut parts = text.splitn(3, '-');
        let mut next = || parts.next().ok_or(BadAttemptId);
        let (run, job, attempt) = (next()?, next()?, next()?);
        Ok(AttemptId {
            run: run.parse().map_err(|_| BadAttemptId)?,
            job: job.parse().map_err(|_| BadAttemptId)?,
            attempt: attempt.parse().map_err(|_| BadAttemptId)?,
        })
    }
}

impl Serialize for AttemptId {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for AttemptId {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(|_| serde::de::Error::custom("an attempt is named RUN-JOB-NUMBER"))
    }
}

#[derive(Debug, Serialize, Deserialize)]
pub struct Enrol {
    pub token: String,
    pub name: String,
}

#[derive(Debug, Serialize, Deserialize)]
pub struct Enrolled {
    pub name: String,
    /// The runner's own credential, a bearer token.
    pub credential: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignOn {
    pub version: u32,
    /// Made anew at each start of the runner.
    pub session: String,
    pub slots: u32,
    pub labels: Vec<String>,
    pub isolation: String,
    #[serde(default)]
    pub tools: Vec<Tool>,
    #[serde(default)]
    pub cores: u32,
    #[serde(default)]
    pub memory_bytes: u64,
}

/// A tool that a runner's probe found, with its version as the tool prints it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Tool {
    pub name: String,
    pub version: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignedOn {
    pub beat_ms: u64,
    pub lease_ms: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignOff {
    pub session: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Claim {
    pub session: String,
    pub slot: u32,
}

/// Answers a claim; null when nothing came up while the call was held open.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Claimed {
    pub lease: Option<Lease>,
}

/// Everything a runner needs to do one job.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Lease {
    pub attempt: AttemptId,
    pub project: String,
    pub git_url: String,
    pub commit: String,
    /// For a branch that the commit was pushed to; helps a mirror fetch little.
    pub branch: Option<String>,
    /// For a proposal: `commit` is made from these, by the same rule everywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub merge: Option<Merge>,
    /// `PROJECT/NUMBER`
    pub run: String,
    pub job: JobId,
    pub steps: Vec<Step>,
    /// Everything a step finds in its environment but what only the runner knows.
    pub env: IndexMap<String, String>,
    pub takes: Vec<LeaseTake>,
    pub gives: Vec<Give>,
    pub checkout: Checkout,
    pub timeout_ms: Option<u64>,
    /// Variables, paths and folders are written as in a file: the runner fills what only it knows.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub late: bool,
    /// Tool → version wanted: the runner puts these first on `PATH`.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub tools: IndexMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// False: kept from the network.
    #[serde(default = "yes")]
    pub network: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<Helper>,
    /// `passed`, `failed`, `always` → steps run after the others.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub afterwards: IndexMap<String, Vec<Step>>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<LentSecret>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<Share>,
    /// Globs of JUnit files that say how long tests took.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub junit: Vec<String>,
    /// The most bytes its log may have.
    #[serde(default = "log_limit")]
    pub log_limit: u64,
    /// It holds a turn: without a lease it must end at once, since another may be given it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub holds_turn: bool,
}

fn yes() -> bool {
    true
}

/// What a log may have unless the service says otherwise.
pub fn log_limit() -> u64 {
    256 * 1024 * 1024
}

/// A secret that a job names.
#[derive(Clone, Serialize, Deserialize)]
pub struct LentSecret {
    pub name: String,
    pub value: Option<String>,
    /// Why there is no value: a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl fmt::Debug for LentSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LentSecret({})", self.name)
    }
}

/// Which copy of a `split` this is, counted from 1, and how long test files took in the past, in milliseconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Share {
    pub index: u32,
    pub count: u32,
    /// True: by past durations; false: by number.
    pub by_time: bool,
    pub usual: BTreeMap<String, i64>,
}

/// The two commits that a proposal's commit merges.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Merge {
    /// Of the branch that it is aimed at.
    pub base: String,
    /// What it offers.
    pub head: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LeaseTake {
    /// `STAGE.NAME/ARTIFACT`
    pub name: String,
    /// None when the giver's globs matched nothing and its file forgave that.
    pub digest: Option<String>,
    pub to: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Beat {
    pub session: String,
    pub holding: Vec<AttemptId>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Beaten {
    /// Attempts that someone asked to stop.
    pub stop: Vec<AttemptId>,
    /// Attempts that were given up: end them and say nothing more.
    pub unknown: Vec<AttemptId>,
}

/// All phases of the attempt so far; replaces what was told before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Phases {
    pub phases: Vec<PhaseView>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LogAnswer {
    /// How many bytes of the log the service has.
    pub offset: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Finish {
    pub session: String,
    pub slot: u32,
    pub outcome: Outcome,
    pub exit_code: Option<i32>,
    pub why: Option<String>,
    pub phases: Vec<PhaseView>,
    pub artifacts: Vec<GivenArtifact>,
    /// Whether the slot wants its next lease in the answer.
    pub claim: bool,
    /// Test file → milliseconds, as the job's reports say.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tests: BTreeMap<String, i64>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenArtifact {
    pub name: String,
    pub digest: String,
    pub bytes: u64,
    pub files: u64,
}

impl PhaseKind {
    pub fn word(self) -> &'static str {
        match self {
            PhaseKind::Checkout => "checkout",
            PhaseKind::Take => "take",
            PhaseKind::Step => "step",
            PhaseKind::Give => "give",
            PhaseKind::Beside => "beside",
            PhaseKind::After => "after",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_attempt_is_named_and_found_again() {
        let id = AttemptId { run: 12, job: 3, attempt: 2 };
        assert_eq!(id.to_string(), "12-3-2");
        assert_eq!("12-3-2".parse(), Ok(id));
        for bad in ["", "12", "12-3", "a-b-c", "12-3-2-1", "12--3"] {
            assert!(bad.parse::<AttemptId>().is_err(), "{bad:?}");
        }
    }
}
