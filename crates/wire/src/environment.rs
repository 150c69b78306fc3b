//! Environments: what is in each, what waits to come in and why, and all that was ever put there.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A place that software is put into.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentView {
    pub project: String,
    pub name: String,
    /// Where people look, as the rules say.
    pub url: Option<String>,
    /// In one sentence: what is there, or since when nobody knows.
    pub sentence: String,
    /// What was last put there well.
    pub present: Option<DeploymentView>,
    /// What the main branch has that is not there; none when that cannot be said.
    pub behind: Option<Behind>,
    /// A deployment that did not end well, and left nobody knows what.
    pub doubt: Option<DoubtView>,
    pub frozen: Option<FrozenView>,
    /// The deployment that goes on: `tidegauge/41 ship.trial`.
    pub inside: Option<InsideView>,
    /// In the order in which they go in.
    pub waiting: Vec<WaitingView>,
    /// What went past the rules, until someone else confirms it.
    pub unconfirmed: Vec<EmergencyView>,
    /// A preview that was taken away: when.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub closed_at: Option<Timestamp>,
    /// Why a preview could not be closed the last time.
    pub unclosed: Option<String>,
    /// Why nobody knows its rules; nothing goes in until then.
    pub trouble: Option<String>,
}

/// How far what is there is behind the main branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Behind {
    pub commits: i64,
    /// More than are counted.
    pub more: bool,
    /// Since the oldest commit that is missing there.
    pub ms: i64,
}

/// Since when nobody knows what is there.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DoubtView {
    pub run: String,
    pub job: String,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub why: String,
}

/// Nothing goes in but roll-backs and emergencies.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FrozenView {
    pub by: String,
    pub reason: String,
    /// None: until someone lets it thaw.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
}

/// The deployment that goes on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InsideView {
    pub run: String,
    pub job: String,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
}

/// How something comes to be put into an environment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WayView {
    /// What was there was taken away.
    Close,
    Forward,
    RollBack,
    Emergency,
    /// The roll-out that it was part of failed elsewhere: what was there before is there again.
    Undo,
}

/// A job that waits to go in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WaitingView {
    pub run: String,
    pub job: String,
    pub commit: String,
    pub reference: String,
    pub way: WayView,
    /// All that still keeps it out, the soonest way to open first.
    pub why: String,
    #[schema(value_type = String, format = DateTime)]
    pub asked_at: Timestamp,
    /// Digests of what it would put there; of a job that takes nothing the commit.
    pub artifacts: Vec<String>,
    /// Whose change it is: their approval does not count, unless the rules say so.
    pub authors: Vec<String>,
    pub words: Vec<WordView>,
    /// Whether an approval by the caller would count now.
    pub asks_you: bool,
}

/// An approval or a refusal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WordView {
    pub by: String,
    pub agrees: bool,
    pub reason: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// Something that went past the rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EmergencyView {
    pub run: String,
    pub job: String,
    pub by: String,
    pub reason: String,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Whether the caller may confirm it.
    pub asks_you: bool,
}

/// How a deployment ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeploymentEnd {
    Well,
    /// No step of it began.
    Untouched,
    Failed,
    /// Nobody knows.
    Lost,
}

/// What was let into an environment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeploymentView {
    /// Counted from 1 in its environment.
    pub number: i64,
    pub run: String,
    pub job: String,
    pub commit: String,
    pub reference: String,
    pub way: WayView,
    /// Of an emergency: why.
    pub reason: Option<String>,
    /// Who started its run; of an emergency who asked for it; none: a rule.
    pub by: Option<String>,
    pub approved_by: Vec<String>,
    pub artifacts: Vec<String>,
    /// The main branch's commit whose rules let it in.
    pub rules_commit: String,
    #[schema(value_type = String, format = DateTime)]
    pub let_in_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// None: it goes on.
    pub outcome: Option<DeploymentEnd>,
    /// What was there before was put there again.
    pub back: bool,
    pub why: Option<String>,
    /// What its check was answered.
    pub answer: Option<String>,
    /// When something else took its place.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub left_at: Option<Timestamp>,
    /// What went wrong with it while it was there.
    pub trouble: Option<String>,
    /// Of an emergency: who confirmed it.
    pub confirmed_by: Option<String>,
}

/// One environment with its history, the newest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentPage {
    pub environment: EnvironmentView,
    pub deployments: Vec<DeploymentView>,
    /// There are older ones: ask with `before` the last one's number.
    pub more: bool,
}

/// Approves or refuses what a job would put into its environment; of an emergency, confirms it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Speak {
    /// The job's id; none when only one job of the run waits.
    #[serde(default)]
    pub job: Option<String>,
    pub agrees: bool,
    /// At most 1,000 bytes.
    #[serde(default)]
    pub reason: Option<String>,
}

/// Puts what a run made into one more environment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskPromotion {
    /// The run's number; none: the newest that is well in all environments that the rules name.
    #[serde(default)]
    pub run: Option<i64>,
}

/// Puts what was in an environment before there again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskRollBack {
    /// The deployment's number; none: the one before the present.
    #[serde(default)]
    pub to: Option<i64>,
}

/// Lets a job into its environment past the rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskEmergency {
    /// The job's id.
    pub job: String,
    /// At most 1,000 bytes: everybody reads it.
    pub reason: String,
}

/// Freezes an environment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Freeze {
    /// At most 1,000 bytes.
    pub reason: String,
    /// None: until someone lets it thaw.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
}

/// Something that waits for the caller, or for anyone who may.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NeedView {
    pub kind: NeedKind,
    pub project: String,
    pub run: Option<String>,
    pub job: Option<String>,
    pub environment: Option<String>,
    /// What waits and for what, in one sentence.
    pub sentence: String,
    /// The command that does it.
    pub command: String,
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// Below the service's address.
    pub page: String,
}

/// What is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NeedKind {
    /// An approval, or a refusal.
    Approval,
    /// That someone else confirms an emergency.
    Confirmation,
    /// A run from outside waits for someone to allow it.
    Allow,
}

/// What the history of an environment comes to. Lengths are medians, in milliseconds.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InsightView {
    pub environment: String,
    /// Of how many days.
    pub days: i64,
    /// How many new things were put there, well or not.
    pub deployments: usize,
    /// How many of them failed, were lost or were rolled back.
    pub failed: usize,
    /// From a commit to its first being well there.
    pub lead_ms: Option<i64>,
    /// From something going wrong to the environment being well again.
    pub mend_ms: Option<i64>,
    /// Something went wrong and nothing has been well since.
    pub open: bool,
    /// The same time in equal parts, the oldest first.
    pub parts: Vec<InsightPart>,
}

/// A part of the time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InsightPart {
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    pub well: usize,
    pub failed: usize,
    pub lead_ms: Option<i64>,
}

/// What lies between two deployments of an environment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BetweenView {
    /// The number of the earlier one; none: from the beginning of the history.
    pub from: Option<i64>,
    pub to: i64,
    /// Commits that came with `to`, newest first.
    pub came: Vec<BetweenCommit>,
    /// Commits that `to` is without, newest first.
    pub went: Vec<BetweenCommit>,
    /// There are more than are listed.
    pub more: bool,
}

/// A commit between two deployments.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BetweenCommit {
    pub id: String,
    pub title: String,
    pub author: String,
}
