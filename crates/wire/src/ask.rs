//! What people, the client and the console ask of the service.

use ordotaxis_core::access::Seen;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::plan::Occasion;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewProject {
    /// Lower-case letters, digits, `-` and `_`.
    pub name: String,
    /// Anything that `git clone` takes.
    pub git_url: String,
    #[serde(default = "main_branch")]
    pub main_branch: String,
    /// Where commit statuses go; none: only git notes are written.
    #[serde(default)]
    pub forge: Option<NewForge>,
}

fn main_branch() -> String {
    "main".into()
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewForge {
    /// The forge profile's name.
    pub profile: String,
    /// The forge's address, as its profile's request templates use it.
    pub url: String,
    /// The repository's name on the forge.
    pub repository: String,
    #[serde(default)]
    pub token: Option<String>,
}

/// A run by hand.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRun {
    /// A branch or a commit; the main branch when absent.
    #[serde(default, rename = "ref")]
    pub reference: Option<String>,
    /// `main` when absent.
    #[serde(default)]
    pub pipeline: Option<String>,
    /// Values for the inputs that the file asks for.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inputs: BTreeMap<String, String>,
    /// Only these jobs (or stages), and those they take from; all when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub jobs: Vec<String>,
}

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

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Stop {
    /// One job; the whole run when absent.
    #[serde(default)]
    pub job: Option<String>,
}

/// The same commit once more. With neither, a new run of everything.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Again {
    /// In the same run: what did not end well, and what follows it.
    #[serde(default)]
    pub failed: bool,
    /// In the same run: these jobs and what follows them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub jobs: Vec<String>,
    /// Nothing kept from before: neither caches nor earlier results.
    #[serde(default)]
    pub fresh: bool,
}

/// Starts a job that starts by hand only.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StartJob {
    pub job: String,
    /// Values for inputs, for this job alone.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inputs: BTreeMap<String, String>,
}

/// Asks a runner to take nothing more, or lets it go on.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drain {
    pub draining: bool,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSecret {
    pub value: String,
    #[serde(flatten)]
    pub reach: ReachAsk,
}

/// Where a secret goes: globs. With none of branches and tags, the main branch and every tag.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ReachAsk {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branches: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// Names of pipelines; every one when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pipelines: Option<Vec<String>>,
}

/// What a runner may have; its own word can only narrow it.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunnerGrant {
    /// What jobs may ask for with `where`, beside the system and its architecture: letters, digits, `-`, `_` and `.`, at most 64.
    #[serde(default)]
    pub labels: Vec<String>,
    /// The projects whose jobs it takes; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
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

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Enrols one runner, once.
    pub token: String,
}

/// What is done with proposals from outside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetOutside {
    /// `ask`, `run` or `never`.
    pub outside: String,
}

/// Sweep the store: only look, or take away.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Sweep {
    #[serde(default)]
    pub apply: bool,
}

/// User and password for a service outside.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewConnection {
    pub user: String,
    pub password: String,
    #[serde(flatten)]
    pub reach: ReachAsk,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetSeen {
    /// Who sees the project: `all` who are signed in, whom it was `granted`, or everybody (`public`).
    pub seen: Seen,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNote {
    /// At most 1,000 characters.
    pub text: String,
}
