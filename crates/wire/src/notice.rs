//! Notices: what someone wants to be told, and what was told.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a person wants to be told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ChoiceView {
    /// None: of all projects that have no line of their own.
    pub project: Option<String>,
    /// Occasions, such as `broke`.
    pub on: Vec<String>,
    /// `own`: what concerns one's own commits, proposals and approvals; or `all`.
    pub whose: String,
    /// `mail`, or `nothing`.
    pub by: String,
}

/// Chooses what one is told, of one project or of all others.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetChoice {
    #[serde(default)]
    pub project: Option<String>,
    /// As it was when absent; so are the others.
    #[serde(default)]
    pub on: Option<Vec<String>>,
    #[serde(default)]
    pub whose: Option<String>,
    #[serde(default)]
    pub by: Option<String>,
}

/// An occasion for notices.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OccasionWord {
    pub word: String,
    pub says: String,
}

/// All about one's own notices.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticesView {
    /// Where one's mail goes; none: an owner sets it.
    pub mail: Option<String>,
    /// Whether the service sends mail at all.
    pub sends_mail: bool,
    /// What holds without a choice of one's own.
    pub usual: ChoiceView,
    pub choices: Vec<ChoiceView>,
    pub occasions: Vec<OccasionWord>,
    /// What one was told last, newest first.
    pub last: Vec<NoticeView>,
}

/// Something that was told, or is about to be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeView {
    pub id: i64,
    pub project: String,
    pub occasion: String,
    pub sentence: String,
    pub link: String,
    /// A mail address, or the address of a webhook.
    pub to: String,
    /// The `[notice.NAME]` that names it.
    pub name: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// `waiting`, `sent` or `given up`.
    pub state: String,
    /// When it was sent, or given up.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// Why it was given up.
    pub why: Option<String>,
}

/// A sample was sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SampleView {
    pub to: String,
}
