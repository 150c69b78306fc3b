//! What the service tells people.

mod results;

pub use results::*;

use crate::plan::DiagnosticView;
use crate::runner::Tool;
use jiff::Timestamp;
use ordotaxis_core::access::Seen;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::JobId;
use ordotaxis_core::plan::Event;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

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

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OccasionView {
    pub event: Event,
    pub by: Option<String>,
    pub tag: Option<String>,
    /// The branch that a proposal is aimed at.
    pub target: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunView {
    /// `PROJECT/NUMBER`
    pub run: String,
    pub project: String,
    pub number: i64,
    pub pipeline: String,
    pub title: Option<String>,
    pub state: State,
    /// The sentence a person would say about it.
    pub sentence: String,
    pub commit: String,
    pub commit_title: String,
    pub commit_author: String,
    pub branch: Option<String>,
    pub occasion: OccasionView,
    pub why: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub created_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// How long, between `started_at` and `ended_at` (or now), it had ended already, before someone brought it back:
    /// it went on for that much less.
    #[serde(default)]
    pub rest_ms: i64,
    /// How many jobs are in which state.
    pub counts: Vec<StateCount>,
    /// The median time of the last passed runs of this pipeline on this branch, when there are some.
    pub usual_ms: Option<i64>,
    /// The number of the run that this one does once more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again_of: Option<i64>,
    /// It waits for someone to allow it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub held: bool,
    /// Who let it go on that came from outside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowed_by: Option<String>,
    /// Pipeline files that its commit changes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes_pipeline: Vec<String>,
    /// Only where one run is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<Vec<JobView>>,
    /// With jobs: what their reports and facts come to.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, f64>,
    /// With jobs: what made the run as long as it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<TimeView>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub diagnostics: Vec<DiagnosticView>,
}

/// What made a run as long as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TimeView {
    /// The chain of jobs that was waited for longest, first to last.
    pub critical: Vec<JobId>,
    /// What it would have taken had every job begun the moment it might.
    pub unlimited_ms: i64,
    /// What all its attempts took of runners, added.
    pub runner_ms: i64,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StateCount {
    pub state: State,
    pub jobs: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JobView {
    pub id: JobId,
    pub stage: String,
    pub state: State,
    pub why: Option<String>,
    pub may_fail: bool,
    /// Starts only when someone starts it.
    #[serde(default)]
    pub by_hand: bool,
    /// Who started it by hand, or asked for it again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_by: Option<String>,
    /// What was given when it was started by hand.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inputs: BTreeMap<String, String>,
    /// How long it usually takes, when it has passed before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usual_ms: Option<i64>,
    /// When it came into its present state.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub attempts: Vec<AttemptView>,
    /// What it left for later jobs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
    /// What its reports and facts come to.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, f64>,
    /// The run whose result it took over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reused_from: Option<String>,
    /// Why no earlier result was taken over, where the file would have that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_reused: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AttemptView {
    pub number: u32,
    pub runner: String,
    pub state: State,
    pub why: Option<String>,
    pub exit_code: Option<i32>,
    #[schema(value_type = String, format = DateTime)]
    pub started_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    pub phases: Vec<PhaseView>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<crate::runner::CacheUse>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum PhaseKind {
    Checkout,
    Take,
    Step,
    Give,
    /// Restoring a cache.
    Cache,
    /// Saving one.
    Save,
    /// Sending an artifact elsewhere.
    Publish,
    /// A helper process, until it is ready.
    Beside,
    /// A step of `afterwards`.
    After,
}

/// A part of an attempt. While it runs `duration_ms` is null.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PhaseView {
    pub name: String,
    pub kind: PhaseKind,
    #[schema(value_type = String, format = DateTime)]
    pub started_at: Timestamp,
    pub duration_ms: Option<i64>,
    /// For a step that was forgiven or that ended the job.
    pub failed: bool,
    pub exit_code: Option<i32>,
    /// Where its output begins in the attempt's log, in bytes.
    pub log_from: u64,
    /// The same in line ends before it.
    #[serde(default)]
    pub log_line: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArtifactView {
    pub job: JobId,
    pub name: String,
    /// `sha256:` and 64 hexadecimal digits: of what `sha256sum` prints for its files in order of their paths.
    pub digest: String,
    /// Of its files.
    pub bytes: u64,
    /// What of it was new to the store, packed.
    pub stored_bytes: u64,
    pub files: u64,
    /// Where it can be fetched.
    pub url: String,
    /// When it may be swept away.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub kept_until: Option<Timestamp>,
    /// Who said that it is to be kept for good.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned_by: Option<String>,
}

/// A file of an artifact or of a cache's entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    pub path: String,
    /// Permission bits, as `0644`.
    pub mode: String,
    pub bytes: u64,
    pub digest: Option<String>,
    /// For a link: where it points.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
}

/// What lies in one folder of an artifact or of a cache's entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FolderView {
    /// Empty for the outermost.
    pub folder: String,
    pub folders: Vec<SubfolderView>,
    pub files: Vec<FileView>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubfolderView {
    pub name: String,
    /// In it, however deep.
    pub files: u64,
    pub bytes: u64,
}

/// Where an artifact's files can be seen for an hour, by whoever has the address.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownView {
    /// A file's path follows it.
    pub url: String,
}

/// An entry of a project's cache.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CacheView {
    pub key: String,
    pub files: u64,
    /// Of its files.
    pub bytes: u64,
    /// What of it was new to the store, packed.
    pub stored_bytes: u64,
    /// The run and job that saved it.
    pub run: String,
    pub job: String,
    #[schema(value_type = String, format = DateTime)]
    pub saved_at: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    pub used_at: Timestamp,
    pub uses: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DroppedView {
    /// How many entries.
    pub dropped: u64,
}

/// What looking through the whole store came to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VerifiedView {
    pub packs: u64,
    pub chunks: u64,
    /// As stored.
    pub bytes: u64,
    pub damaged: Vec<DamageView>,
    /// Artifacts, entries of caches and logs that are not whole.
    pub broken: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DamageView {
    pub pack: String,
    pub why: String,
    /// How many chunks were lost.
    pub chunks: u64,
}

/// What a sweep takes away, or took.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SweepView {
    /// `RUN JOB/ARTIFACT` or `PROJECT KEY`, each with why.
    pub artifacts: Vec<SweptView>,
    pub caches: Vec<SweptView>,
    /// Packs of which nothing, or little, is needed.
    pub packs: u64,
    /// Small packs that are joined into larger ones.
    pub small: u64,
    pub strays: u64,
    /// What it frees, as stored: about.
    pub bytes: u64,
    pub done: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SweptView {
    pub what: String,
    pub why: String,
    pub bytes: u64,
}

/// Why a job, or each job of a run that has not ended, is as it is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WhyView {
    pub run: String,
    pub state: State,
    pub why: String,
    pub jobs: Vec<JobWhyView>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JobWhyView {
    pub id: JobId,
    pub state: State,
    pub why: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunnerView {
    pub name: String,
    pub labels: Vec<String>,
    pub isolation: String,
    pub slots: u32,
    pub busy: u32,
    pub connected: bool,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub seen_at: Option<Timestamp>,
    /// What it does now: `RUN JOB`.
    pub doing: Vec<String>,
    /// The same in parts.
    pub now: Vec<DoingView>,
    pub tools: Vec<Tool>,
    /// 0: not known.
    pub cores: u32,
    pub memory_bytes: u64,
    /// Who asked it to take nothing more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub draining_by: Option<String>,
    /// What it may have; `labels` is what it offers of that.
    pub grant: crate::ask::RunnerGrant,
    /// What it fences jobs in with, in words.
    pub fence: String,
    /// How full its slots were, in thousandths, in each of the last six hours' quarters, oldest first.
    pub full: Vec<u16>,
}

/// One job on a runner.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DoingView {
    pub run: String,
    pub job: JobId,
    pub attempt: u32,
    /// The phase it is in.
    pub phase: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
}

/// Lines of a log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LinesView {
    pub attempt: u32,
    /// More may come.
    pub open: bool,
    /// How many lines there are; the last may still grow.
    pub total: u64,
    /// The number of the first, counted from 0.
    pub first: u64,
    /// Offset of its first byte in the log.
    pub offset: u64,
    /// The lines with their ends.
    pub text: String,
    /// When each was printed, in milliseconds since 1970.
    pub times: Vec<i64>,
}

/// Lines of a log in which something stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SearchView {
    pub attempt: u32,
    pub found: Vec<FoundView>,
    /// There may be more from this line on.
    pub more_from: Option<u64>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundView {
    /// Counted from 0.
    pub line: u64,
    pub offset: u64,
    /// Milliseconds since 1970.
    pub at: i64,
    pub text: String,
}

/// A job that no runner has taken yet.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueuedView {
    pub run: String,
    pub job: JobId,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub why: String,
}

/// A secret: never its value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretView {
    pub name: String,
    pub set_by: String,
    #[schema(value_type = String, format = DateTime)]
    pub set_at: Timestamp,
    /// Where it goes.
    #[serde(flatten)]
    pub reach: crate::ask::ReachAsk,
}

/// User and password for a service outside: never the password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionView {
    pub name: String,
    pub user: String,
    pub set_by: String,
    #[schema(value_type = String, format = DateTime)]
    pub set_at: Timestamp,
    /// Where it goes.
    #[serde(flatten)]
    pub reach: crate::ask::ReachAsk,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SlotsView {
    pub slots: u32,
    pub busy: u32,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardView {
    pub projects: Vec<BoardLine>,
    pub slots: u32,
    pub busy: u32,
}

/// A project on the board: is it broken, since when, and whose is it?
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardLine {
    pub project: String,
    pub main_branch: String,
    /// The newest verdict on the main branch.
    pub main: Option<State>,
    /// When the main branch came to this verdict from another.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// For a broken one: what broke first, since which commit, whose.
    pub broke: Option<BrokeView>,
    /// Up to 30, the newest last.
    pub runs: Vec<BoardRun>,
    /// What is going on now, with jobs.
    pub now: Vec<RunView>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BrokeView {
    pub run: String,
    pub job: Option<JobId>,
    pub why: String,
    pub commit: String,
    pub commit_title: String,
    pub author: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BoardRun {
    pub run: String,
    pub state: State,
    pub branch: Option<String>,
    pub commit_title: String,
    pub duration_ms: Option<i64>,
}

/// Something that happened, as live events carry it: a run or one of its jobs is another now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    pub run: String,
    pub state: State,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<JobId>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}
