//! How a runner gets a commit's files: it asks what there is, then for a pack of git's objects, and for large files one by one.
//!
//! The commit is the attempt's; a runner names none. Only the service speaks with the repository itself.

use ordotaxis_core::language::Depth;
use serde::{Deserialize, Serialize};

/// Asks about the attempt's commit, or about that of a submodule.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct AskFiles {
    /// From submodule to submodule, by path; empty for the repository itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<String>,
    #[serde(default)]
    pub depth: Depth,
    /// Whether submodules are wanted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub submodules: bool,
    /// Whether files of git-lfs are wanted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub lfs: bool,
}

/// The answer. Everything in it can be had now.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct FilesAbout {
    pub commit: String,
    /// Of the repository, for people; without a password.
    pub address: String,
    /// For a proposal from outside: what comes with it is kept apart from what others have.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub apart: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<CommitTag>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub submodules: Vec<InnerModule>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub large: Vec<LargeFile>,
}

/// A tag that names a commit within the depth.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CommitTag {
    pub name: String,
    /// Of the tag itself where it is an object, else the commit's.
    pub id: String,
    pub commit: String,
}

/// A submodule of the commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct InnerModule {
    pub name: String,
    pub path: String,
    pub address: String,
}

/// The content of a file that git-lfs keeps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LargeFile {
    /// SHA-256, in hexadecimal digits.
    pub oid: String,
    pub bytes: u64,
}

/// Asks for a pack: the commit with so much of its history, without what the runner has. Answered as `git upload-pack` does.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct AskPack {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<String>,
    #[serde(default)]
    pub depth: Depth,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub haves: Vec<String>,
    /// Those of them whose parents the runner does not have.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub shallows: Vec<String>,
}

/// Asks for the content of a large file that the commit names.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct AskLarge {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<String>,
    pub oid: String,
}
