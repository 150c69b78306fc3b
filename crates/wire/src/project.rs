//! Projects: added, shown, changed.

use jiff::Timestamp;
use ordotaxis_core::access::Seen;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Adds a project. A name that is taken is refused.
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

/// Where a project's commit statuses are sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewForge {
    /// The forge profile's name.
    pub profile: String,
    /// The forge's address, as its profile's request templates use it.
    pub url: String,
    /// The repository's name on the forge.
    pub repository: String,
    /// What statuses are sent with. Stored sealed, never answered.
    #[serde(default)]
    pub token: Option<String>,
}

/// What is done with proposals from outside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetOutside {
    /// `ask`, `run` or `never`.
    pub outside: String,
}

/// Changes who sees a project.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetSeen {
    /// Who sees the project: `all` who are signed in, whom it was `granted`, or everybody (`public`).
    pub seen: Seen,
}

/// A project as people see it; nothing in it is secret but `hook_secret`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProjectView {
    pub name: String,
    pub git_url: String,
    pub main_branch: String,
    /// Where the forge sends its webhooks.
    pub hook_url: String,
    /// What webhooks are signed with; shown once, when the project is added.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hook_secret: Option<String>,
    /// What is done with proposals from outside: `ask`, `run` or `never`.
    pub outside: String,
    pub seen: Seen,
    /// What keeps its repository from being read, while that is tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub created_at: Timestamp,
}
