//! Runs and their jobs: started, shown, stopped, done again; and their live events.

use crate::plan::DiagnosticView;
use jiff::Timestamp;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::JobId;
use ordotaxis_core::plan::Event;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

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

/// Asks to stop a run or one of its jobs. What has ended already stays as it is.
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

/// Adds a remark to a run, for the people who look at it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNote {
    /// At most 1,000 characters.
    pub text: String,
}

/// What began a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OccasionView {
    pub event: Event,
    pub by: Option<String>,
    pub tag: Option<String>,
    /// The branch that a proposal is aimed at.
    pub target: Option<String>,
    /// Of a promotion or a roll-back: the environment.
    #[serde(default)]
    pub environment: Option<String>,
    /// The run whose jobs are done once more, with what that made.
    #[serde(default)]
    pub from: Option<String>,
}

/// A run with its verdict in one sentence; with its jobs where a single run is asked for.
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
    #[serde(default)]
    pub again_of: Option<i64>,
    /// It waits for someone to allow it.
    #[serde(default)]
    pub held: bool,
    /// Who let it go on that came from outside.
    #[serde(default)]
    pub allowed_by: Option<String>,
    /// Pipeline files that its commit changes.
    #[serde(default)]
    pub changes_pipeline: Vec<String>,
    /// Only where one run is asked for.
    #[serde(default)]
    pub jobs: Option<Vec<JobView>>,
    /// With jobs: what their reports and facts come to.
    #[serde(default)]
    pub numbers: BTreeMap<String, f64>,
    /// With jobs: caches that should have been saved or used and were not. Nothing fails for it.
    #[serde(default)]
    pub uncached: Vec<UncachedView>,
    /// With jobs: when its logs were dropped; those of attempts that ended later are there.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub logs_dropped_at: Option<Timestamp>,
    /// With jobs: what made the run as long as it was.
    #[serde(default)]
    pub time: Option<TimeView>,
    #[serde(default)]
    pub diagnostics: Vec<DiagnosticView>,
}

/// A cache that a job's newest attempt could not save or use.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UncachedView {
    pub job: JobId,
    pub key: String,
    /// `not saved: nothing lies at target`
    pub why: String,
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

/// How many jobs of a run are in a state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StateCount {
    pub state: State,
    pub jobs: i64,
}

/// A job of a run, with all its attempts.
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
    /// The environment that it puts something into.
    #[serde(default)]
    pub deploys: Option<String>,
    /// Who started it by hand, or asked for it again.
    #[serde(default)]
    pub started_by: Option<String>,
    /// What was given when it was started by hand.
    #[serde(default)]
    pub inputs: BTreeMap<String, String>,
    /// How long it usually takes, when it has passed before.
    #[serde(default)]
    pub usual_ms: Option<i64>,
    /// When it came into its present state.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub attempts: Vec<AttemptView>,
    /// What it left for later jobs.
    #[serde(default)]
    pub facts: BTreeMap<String, String>,
    /// What its reports and facts come to.
    #[serde(default)]
    pub numbers: BTreeMap<String, f64>,
    /// The run whose result it took over.
    #[serde(default)]
    pub reused_from: Option<String>,
    /// Why no earlier result was taken over, where the file would have that.
    #[serde(default)]
    pub not_reused: Option<String>,
}

/// One attempt at a job, on one runner. Its log is fetched by its number.
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
    #[serde(default)]
    pub caches: Vec<crate::runner::CacheUse>,
}

/// What an attempt spends time on.
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
    /// What is asked after the steps of a job that deploys.
    Check,
    /// What must stay well in the first cells of a roll-out.
    Watch,
    /// A step that puts in use what was put on the side that is not.
    Switch,
    /// A step of `checkpoint`.
    Checkpoint,
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

/// Why a job, or each job of a run that has not ended, is as it is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WhyView {
    pub run: String,
    pub state: State,
    pub why: String,
    pub jobs: Vec<JobWhyView>,
}

/// One job of a [`WhyView`].
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JobWhyView {
    pub id: JobId,
    pub state: State,
    pub why: String,
}

/// Something that happened, as live events carry it: a run or one of its jobs is another now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    pub run: String,
    pub state: State,
    #[serde(default)]
    pub job: Option<JobId>,
    #[serde(default)]
    pub why: Option<String>,
}

impl PhaseKind {
    /// The word by which logs, the API and the database name the kind.
    pub fn word(self) -> &'static str {
        match self {
            PhaseKind::Checkout => "checkout",
            PhaseKind::Take => "take",
            PhaseKind::Step => "step",
            PhaseKind::Give => "give",
            PhaseKind::Cache => "cache",
            PhaseKind::Save => "save",
            PhaseKind::Publish => "publish",
            PhaseKind::Beside => "beside",
            PhaseKind::Check => "check",
            PhaseKind::Watch => "watch",
            PhaseKind::Switch => "switch",
            PhaseKind::Checkpoint => "checkpoint",
            PhaseKind::After => "after",
        }
    }
}
