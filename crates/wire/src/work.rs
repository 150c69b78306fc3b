//! Work for the outside that failed: what was given up, and what is tried again.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A piece of work that failed at least once: a row of `GET /api/v1/work`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WorkView {
    pub id: i64,
    pub project: String,
    /// `occasion`, `status`, `note` or `landing`.
    pub kind: String,
    /// What it is about: the commit, for a report to one.
    pub commit: Option<String>,
    /// The run that is reported.
    pub run: Option<String>,
    /// `waiting` for another try, or `given up`.
    pub state: String,
    pub tries: i64,
    /// When it is tried again.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub given_up_at: Option<Timestamp>,
    /// What the last try ended with.
    pub why: String,
}
