//! A repository looked at before it is a project: nothing is created by it.

use crate::project::{HostView, NewLogin};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to look at. The same look can be asked again with something else: it keeps its key and its hook secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLook {
    /// Goes on with a look; begins one when absent.
    #[serde(default)]
    pub look: Option<String>,
    /// What the project would be called.
    pub name: String,
    /// Anything that `git clone` takes.
    pub git_url: String,
    #[serde(default)]
    pub login: Option<NewLogin>,
    /// The forge profile that deliveries are read by; `plain` when absent.
    #[serde(default)]
    pub profile: Option<String>,
}

/// What a look found, and what the forge is given.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct LookView {
    pub look: String,
    /// Nobody having asked for it until then, it is forgotten.
    #[schema(value_type = String, format = DateTime)]
    pub ends_at: Timestamp,
    /// The public half of the key that the repository would be read with, where it is reached by SSH.
    pub key: Option<String>,
    /// Servers that were met by SSH, and would be pinned.
    pub hosts: Vec<HostView>,
    pub hook_url: String,
    /// What webhooks would be signed with.
    pub hook_secret: String,
    /// What keeps the name from being used.
    pub name_trouble: Option<String>,
    /// What keeps the repository from being read.
    pub trouble: Option<String>,
    /// What is there; none where it could not be read.
    pub found: Option<LookedAt>,
}

/// What a repository has.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LookedAt {
    /// The branch that the repository names as its main one; none where it is empty.
    pub main_branch: Option<String>,
    /// The first of them by name.
    pub branches: Vec<String>,
    pub branches_all: usize,
    pub tags_all: usize,
    /// Of its main branch.
    pub pipelines: Vec<LookedAtFile>,
    /// What is offered where there is no pipeline.
    pub first_file: Option<FirstFileView>,
}

/// A pipeline file that was found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LookedAtFile {
    pub name: String,
    pub path: String,
    /// How many mistakes it has.
    pub errors: usize,
}

/// A pipeline file for a repository that has none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstFileView {
    pub text: String,
    /// What it was written for, such as `a Cargo package`; empty where nothing to build was found.
    pub found: Vec<String>,
    /// What could not be known, in whole sentences.
    pub unsure: Vec<String>,
}

/// What has come for a look: nothing was begun by it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeardView {
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// As of a project's deliveries: `taken`, `nothing`, `unread` or `refused`.
    pub state: String,
    /// What was read, in words.
    pub events: Vec<String>,
    /// Why nothing was read.
    pub why: Option<String>,
}
