//! What people, the client and the console ask of the service.

use serde::{Deserialize, Serialize};
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
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Stop {
    /// One job; the whole run when absent.
    #[serde(default)]
    pub job: Option<String>,
}

/// Signs a browser in: with a token, or with a one-use code from a sign-in link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum NewSession {
    Token(String),
    Code(String),
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// Works once, for ten minutes.
    pub url: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Enrols one runner, once, within an hour.
    pub token: String,
}
