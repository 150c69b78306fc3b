//! What the forge remembers: one JSON file beside its repositories.

use crate::status::Status;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

#[derive(Debug, Default, Serialize, Deserialize)]
pub(crate) struct Book {
    pub(crate) repositories: BTreeMap<String, Repository>,
}

#[derive(Debug, Default, Serialize, Deserialize)]
pub(crate) struct Repository {
    pub(crate) token: String,
    /// Only who is `practice` with the token as password may read it.
    #[serde(default)]
    pub(crate) private: bool,
    pub(crate) hook: Option<Hook>,
    #[serde(default)]
    pub(crate) proposals: Vec<Proposal>,
    /// By commit, all in the order they came.
    pub(crate) statuses: BTreeMap<String, Vec<Status>>,
    /// By version.
    #[serde(default)]
    pub(crate) releases: BTreeMap<String, Release>,
    /// Comments are counted over the whole repository.
    #[serde(default)]
    pub(crate) comments: usize,
}

/// A change offered from one branch to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proposal {
    #[serde(default)]
    pub number: usize,
    pub title: String,
    pub source: String,
    /// It stands for one that comes from another repository.
    #[serde(default)]
    pub outside: bool,
    pub target: String,
    #[serde(default)]
    pub draft: bool,
    #[serde(default)]
    pub by: String,
    /// What the source branch names, or named last.
    #[serde(default)]
    pub commit: String,
    #[serde(default)]
    pub state: Offered,
    #[serde(default)]
    pub landed_as: Option<String>,
    #[serde(default)]
    pub reviews: Vec<Review>,
    #[serde(default)]
    pub comments: Vec<Comment>,
}

/// Whether it is still offered.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Offered {
    #[default]
    Open,
    Closed,
    Landed,
}

/// What the forge was told of a release, the last time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Release {
    pub tag: String,
    pub commit: String,
    pub title: String,
    pub state: String,
    pub text: String,
    pub link: String,
}

/// Someone's word on a proposal, for the commit that it offered then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Review {
    pub by: String,
    pub approves: bool,
    pub commit: String,
}

/// What someone wrote on a proposal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Comment {
    pub id: usize,
    pub by: String,
    pub text: String,
}

/// Where a repository's webhooks go, and what signs them.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Hook {
    pub(crate) url: String,
    pub(crate) secret: String,
}
