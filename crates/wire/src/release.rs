//! Releases: what was made known, with what it rests on.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How far a release is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReleaseState {
    /// Someone publishes it later.
    Draft,
    Published,
    /// Nobody should use it any more.
    Withdrawn,
}

impl ReleaseState {
    /// As the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            ReleaseState::Draft => "draft",
            ReleaseState::Published => "published",
            ReleaseState::Withdrawn => "withdrawn",
        }
    }
}

/// One release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseView {
    pub project: String,
    pub version: String,
    pub title: String,
    pub state: ReleaseState,
    pub commit: String,
    pub tag: String,
    /// The commit that the tag names now, where that is another.
    pub tag_names: Option<String>,
    pub run: String,
    pub job: String,
    /// Markdown
    pub notes: String,
    #[schema(value_type = String, format = DateTime)]
    pub made_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub published_at: Option<Timestamp>,
    /// None: it was published as it was made.
    pub published_by: Option<String>,
    pub withdrawn_by: Option<String>,
    pub reason: Option<String>,
    /// What became of telling the forge; none where there is no forge to tell.
    pub told: Option<String>,
    pub assets: Vec<AssetView>,
    /// Environments that hold something of it now.
    pub environments: Vec<String>,
    /// How often title or notes were changed.
    pub edits: u64,
}

/// An artifact that is fetched of a release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AssetView {
    pub job: String,
    pub name: String,
    pub digest: String,
    pub bytes: u64,
    pub files: u64,
    /// Where it is fetched.
    pub url: String,
}

/// A project's releases, the newest version first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleasesView {
    pub releases: Vec<ReleaseView>,
    /// Jobs that passed and whose release could not be made.
    pub unmade: Vec<UnmadeView>,
}

/// A release that could not be made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UnmadeView {
    pub run: String,
    pub job: String,
    pub why: String,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// One release, with all that was ever written on it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleasePage {
    pub release: ReleaseView,
    /// The newest first; the last is as it was made.
    pub edits: Vec<EditView>,
    /// What it rests on: commit, jobs, tests, approvals, digests.
    #[schema(value_type = Object)]
    pub evidence: serde_json::Value,
    /// Of the evidence's bytes: `sha256:…`
    pub evidence_digest: String,
}

/// Title and notes as they once were.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EditView {
    pub number: i64,
    pub title: String,
    pub notes: String,
    /// None: as it was made.
    pub by: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// New words for a release; what is absent stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EditRelease {
    pub title: Option<String>,
    pub notes: Option<String>,
}

/// Why nobody should use a release any more.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WithdrawRelease {
    pub reason: String,
}
