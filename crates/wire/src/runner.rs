//! The runner protocol: plain HTTP, always started by the runner, every call safe to repeat.
//!
//! A runner enrols once, signs on each time it starts (that begins a *session*), and then each of its slots claims,
//! works and finishes. A slot holds at most one attempt, so a claim that is repeated gets the same lease again. The
//! attempt's number is the fencing number: a call for a number that was given up is answered 409 and changes nothing.

use crate::view::{PhaseKind, PhaseView};
use indexmap::IndexMap;
use ordotaxis_core::engine::{Number, Outcome};
use ordotaxis_core::language::{Checkout, Fact, Give, Helper, JobId, Step};
use ordotaxis_core::report::{Case, Coverage, Finding};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

/// 2: what jobs give and keep is sent in chunks. 3: labels are granted by the service.
pub const VERSION: u32 = 4;

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
}

/// A tool that a runner's probe found, with its version as the tool prints it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Tool {
    pub name: String,
    pub version: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SignedOn {
    /// What jobs may ask of it, as the service has it.
    pub labels: Vec<String>,
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
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<LeaseCache>,
    /// Nothing kept from before is wanted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fresh: bool,
    /// Kind of report → globs.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub reports: IndexMap<String, Vec<String>>,
    /// What it leaves for later jobs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub facts: Vec<Fact>,
    /// What earlier jobs left: `STAGE.JOB.NAME` → value.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub known_facts: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub publish: Vec<LeasePublish>,
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

/// An artifact that is sent elsewhere.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LeasePublish {
    pub artifact: String,
    /// May have placeholders that only the runner can fill.
    pub to: String,
    /// `artifact` or `image`
    pub form: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fact: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with: Option<LentConnection>,
}

/// User and password for a service outside.
#[derive(Clone, Serialize, Deserialize)]
pub struct LentConnection {
    pub name: String,
    pub user: String,
    pub password: Option<String>,
    /// Why there is none: a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl fmt::Debug for LentConnection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LentConnection({})", self.name)
    }
}

/// What an attempt leaves beside files, told before its result. A repeat changes nothing.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Left {
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
}

/// What the service makes of it: sentences for the job's log and for why it failed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Taken {
    pub said: Vec<String>,
    /// The first test that fails now and did not before, else the first that fails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
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
    /// The tree that was given. None when the giver's globs matched nothing and its file forgave that.
    pub tree: Option<String>,
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
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<CacheUse>,
    /// Test file → milliseconds, as the job's reports say.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tests: BTreeMap<String, i64>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenArtifact {
    pub name: String,
    /// Names its tree in the store: 64 hexadecimal digits.
    pub tree: String,
    /// What was new to the store, as sent.
    pub bytes: u64,
}

/// A cache that a job uses. Texts may have placeholders that only the runner can fill.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeaseCache {
    pub paths: Vec<String>,
    pub key: String,
    pub otherwise: Vec<String>,
    /// `passed`, `always`, `never`
    pub save: String,
}

/// Asks for the entry of a cache: of this key, else the newest of the first beginning that fits one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FindCache {
    pub key: String,
    pub otherwise: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FoundCache {
    pub entry: Option<CacheEntry>,
    /// False for a proposal from outside: it reads, and saves nothing.
    pub may_save: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CacheEntry {
    pub key: String,
    pub tree: String,
    /// The run that saved it.
    pub run: String,
}

/// Gives a saved tree its key.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SaveCache {
    pub key: String,
    pub tree: String,
    /// What was new to the store, as sent.
    pub bytes: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SavedCache {
    /// False when the key was there already: another was quicker.
    pub saved: bool,
}

/// What an attempt did with one of its caches.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct CacheUse {
    pub key: String,
    pub paths: Vec<String>,
    /// The entry that was restored, if one was: its key and the run that saved it.
    pub restored: Option<String>,
    pub from: Option<String>,
    pub files: u64,
    /// Of the files.
    pub bytes: u64,
    /// What had to be sent for it.
    pub fetched_bytes: u64,
    pub restore_ms: i64,
    pub saved: bool,
    pub saved_files: u64,
    /// Of the files.
    pub saved_bytes: u64,
    /// What was new to the store.
    pub sent_bytes: u64,
    pub save_ms: i64,
    /// Why it was not restored, or not saved.
    pub notices: Vec<String>,
}

impl PhaseKind {
    pub fn word(self) -> &'static str {
        match self {
            PhaseKind::Checkout => "checkout",
            PhaseKind::Take => "take",
            PhaseKind::Step => "step",
            PhaseKind::Give => "give",
            PhaseKind::Cache => "cache",
            PhaseKind::Save => "save",
            PhaseKind::Publish => "publish",
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
