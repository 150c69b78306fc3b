//! What a runner gets to know about a job: all it needs, and nothing it could use for another job.

use super::attempt::AttemptId;
use super::log::log_limit;
use super::parent::Parent;
use indexmap::IndexMap;
use ordotaxis_core::language::{Capacity, Checkout, Fact, Give, Helper, JobId, Step, Watch};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;

/// Everything a runner needs to do one job.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Lease {
    pub attempt: AttemptId,
    /// When it was leased, in milliseconds since 1970 by the service's clock.
    #[serde(default)]
    pub taken_at: i64,
    pub project: String,
    pub commit: String,
    /// Another one when a tag was set that a checkout of the commit shows: one that was made before is of no use then.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub tags_mark: String,
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
    pub secrets: Vec<LeaseSecret>,
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
    /// The environment that it puts something into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<String>,
    /// It puts back what was in its environment before: steps, files and artifacts are those of the earlier deployment.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub back: bool,
    /// It makes a release once it has passed. For the service alone: runners are not told.
    #[serde(skip)]
    pub releases: bool,
    /// Why it must not begin: nothing is touched then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forbidden: Option<String>,
    /// What must be well after its steps.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<LeaseCheck>,
    /// What must stay well after that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch: Option<Watch>,
    /// Steps that put what is there now in use, when all of that is well.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub switch: Vec<Step>,
    /// What it has of the machine for itself, and no more than that of its memory.
    #[serde(default, skip_serializing_if = "Capacity::is_none")]
    pub capacity: Capacity,
    /// Steps that are run when the machine is about to be taken away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checkpoint: Vec<Step>,
    /// The attempt's place in its run's trace; steps are told theirs as `TRACEPARENT`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Parent>,
}

/// What is asked after the steps of a job that deploys, until it is well.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeaseCheck {
    /// An address, asked from where the job's steps are; or none.
    pub url: Option<String>,
    /// What its answer must hold.
    pub says: Option<String>,
    /// A command, run as a step is; or none.
    pub run: Option<String>,
    /// The first good answer must come in this time.
    pub within_ms: u64,
    /// From then on every answer must be good for so long.
    pub for_ms: u64,
    /// It is asked when what is new has been put in use, not before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub switched: bool,
}

fn yes() -> bool {
    true
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
    pub with: Option<LeaseConnection>,
    /// Each file is sent with the fields of a form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upload: Option<LeaseUpload>,
}

/// The fields that a file is sent with.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LeaseUpload {
    /// May have placeholders that only the runner can fill.
    pub fields: Vec<(String, String)>,
    /// The field that carries the file.
    pub file: String,
    /// The field that gets the file's SHA-256.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
}

/// User and password for a service outside.
#[derive(Clone, Serialize, Deserialize)]
pub struct LeaseConnection {
    pub name: String,
    pub user: String,
    pub password: Option<String>,
    /// Why there is none: a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl fmt::Debug for LeaseConnection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LeaseConnection({})", self.name)
    }
}

/// A secret that a job names.
#[derive(Clone, Serialize, Deserialize)]
pub struct LeaseSecret {
    pub name: String,
    pub value: Option<String>,
    /// Why there is no value: a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl fmt::Debug for LeaseSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LeaseSecret({})", self.name)
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

/// An artifact of an earlier job that is put into the job's folder before its steps.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LeaseTake {
    /// `STAGE.NAME/ARTIFACT`
    pub name: String,
    /// The tree that was given. None when the giver's globs matched nothing and its file forgave that.
    pub tree: Option<String>,
    /// The folder below the job's folder; the folder itself when absent.
    pub to: Option<String>,
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
