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
    /// The one that the repository itself names when absent.
    #[serde(default)]
    pub main_branch: Option<String>,
    /// What the repository is read with by HTTP, where not all may read it.
    #[serde(default)]
    pub login: Option<NewLogin>,
    /// Where commit statuses go; none: only git notes are written.
    #[serde(default)]
    pub forge: Option<NewForge>,
    /// The first look that it was prepared with: the project keeps its key, its hook secret and the servers that were met.
    #[serde(default)]
    pub look: Option<String>,
}

/// A user and password for the repository, or for a server that submodules are on.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLogin {
    /// `https://HOST` or `https://HOST:PORT`: the password goes to no other. The repository's own when absent.
    #[serde(default)]
    pub origin: Option<String>,
    pub user: String,
    /// A password, or a token in its place. Stored sealed, never answered.
    pub password: String,
}

impl std::fmt::Debug for NewLogin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "NewLogin({} at {:?})", self.user, self.origin)
    }
}

/// What a project's repository is, and what the service reads it with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RepositoryView {
    pub address: String,
    pub main_branch: String,
    /// The main branch is the one that the repository names.
    pub main_follows: bool,
    pub logins: Vec<LoginView>,
    /// The public half of the key that the service reads it with by SSH; null where none was made.
    pub key: Option<String>,
    /// The servers whose keys were pinned when they were first met.
    pub hosts: Vec<HostView>,
}

/// Who the service is on a server. The password is never shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoginView {
    pub origin: String,
    pub user: String,
}

/// A server's pinned key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostView {
    /// `HOST`, or `[HOST]:PORT`.
    pub host: String,
    /// `ssh-ed25519` and similar.
    pub kind: String,
    /// `SHA256:…`, as ssh shows it.
    pub fingerprint: String,
}

/// Which branch is a project's main one.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetMainBranch {
    /// The one that the repository itself names when null.
    pub branch: Option<String>,
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

/// Where to look for repositories.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FindRepositories {
    /// The forge profile's name.
    pub profile: String,
    /// The forge's address.
    pub url: String,
    /// What opens the forge. It is used for this call and not kept.
    #[serde(default)]
    pub token: Option<String>,
}

/// A repository that a forge has.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundRepository {
    /// What the forge calls it.
    pub repository: String,
    /// What `git clone` takes.
    pub git_url: String,
    /// The project here that it is already.
    pub project: Option<String>,
}

/// What is done with proposals from outside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetOutside {
    /// `ask`, `run` or `never`.
    pub outside: String,
}

/// How often a project's repository is looked at.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetPoll {
    /// At least 1,000, or 0 for never; null: as its forge needs.
    pub poll_ms: Option<i64>,
}

/// What a project's forge sends webhooks to and signs them with. The secret is shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct HookSecretView {
    pub hook_url: String,
    pub hook_secret: String,
}

/// A project's badge, and what shows it in a text of each kind.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct BadgeView {
    pub address: String,
    /// The page that it leads to.
    pub link: String,
    pub markdown: String,
    pub restructured_text: String,
    pub asciidoc: String,
    pub html: String,
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
    #[serde(default)]
    pub hook_secret: Option<String>,
    /// What is done with proposals from outside: `ask`, `run` or `never`.
    pub outside: String,
    pub seen: Seen,
    /// How often the repository is looked at, in milliseconds; null: as its forge needs, 0: never.
    #[serde(default)]
    pub poll_ms: Option<i64>,
    /// When it was last looked at.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub looked_at: Option<Timestamp>,
    /// What was found by looking that no hook had told.
    #[serde(default)]
    pub found: Option<String>,
    /// The forge profile that its webhooks are read by: `plain` where it has no forge.
    #[serde(default)]
    pub profile: String,
    /// What is to be known about the repository now that the project is added.
    #[serde(default)]
    pub remark: Option<String>,
    /// What keeps its repository from being read, while that is tried again.
    #[serde(default)]
    pub trouble: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub created_at: Timestamp,
}

/// What a run can be started of.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RefsView {
    pub main_branch: String,
    /// Those with the newest commits first; of many the newest.
    pub branches: Vec<RefView>,
    /// The newest first; of many the newest.
    pub tags: Vec<RefView>,
    /// The newest commits of the main branch, or of the branch that was asked for.
    pub commits: Vec<RefView>,
}

/// A branch, a tag or a commit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RefView {
    /// As one writes it: of a commit its id.
    pub name: String,
    pub commit: String,
    pub title: String,
    pub author: String,
}
