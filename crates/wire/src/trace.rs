//! Where things come from and where they went.

use jiff::Timestamp;
use ordotaxis_core::engine::State;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a thing was found to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ThingKind {
    Commit,
    Run,
    Artifact,
    /// A file in artifacts.
    File,
    /// What a registry knows by this digest.
    Published,
    Environment,
    Release,
}

/// A thing, and all the chains that it stands in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TraceView {
    /// As it was asked for.
    pub thing: String,
    pub kind: ThingKind,
    /// What it is, in one sentence.
    pub sentence: String,
    /// The newest first.
    pub chains: Vec<TraceChain>,
    /// There are more than are listed.
    pub more: bool,
}

/// One artifact from its commit to where it is; of a run without artifacts the run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TraceChain {
    pub project: String,
    pub commit: String,
    pub title: String,
    pub author: String,
    /// The branch, `tag:…` or `proposal:…`; empty for a bare commit.
    pub reference: String,
    pub run: String,
    pub pipeline: String,
    pub state: State,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    pub job: Option<String>,
    pub artifact: Option<String>,
    /// `sha256:…`, of the artifact.
    pub digest: Option<String>,
    /// The file in it that was asked for.
    pub path: Option<String>,
    /// It is still in the store.
    pub kept: bool,
    /// There is a signed statement of it.
    pub signed: bool,
    /// Addresses that it was published under, each with its digest.
    pub published: Vec<String>,
    pub releases: Vec<TracedRelease>,
    /// Where it is and was, the newest first.
    pub stays: Vec<TracedStay>,
}

/// A release that holds it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TracedRelease {
    pub version: String,
    pub state: String,
}

/// A time for which it was well in an environment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TracedStay {
    pub project: String,
    pub environment: String,
    /// In the environment's history.
    pub number: i64,
    /// What put it there.
    pub run: String,
    pub job: String,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// None: it is there.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
}

/// A component of what is in an environment, or of what a run made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ComponentView {
    pub name: String,
    pub version: String,
    /// A package URL.
    pub purl: Option<String>,
    pub run: String,
    pub job: String,
    /// The bill that names it.
    pub file: String,
    /// `cyclonedx` or `spdx`
    pub form: String,
    /// Where it is now; none where runs were asked for.
    pub environment: Option<String>,
}

/// A bill of materials of a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BillView {
    pub job: String,
    pub file: String,
    /// `cyclonedx` or `spdx`
    pub form: String,
    pub components: i64,
    /// The document itself is still there.
    pub kept: bool,
}
