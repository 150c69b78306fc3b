//! The journal: who did what.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// One row of the journal: who did what, to what, when and from where. Rows are never changed or removed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalView {
    /// 1, 2, 3 and so on, without a gap.
    pub id: i64,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// `person`, `runner`, `job`, `service` or `nobody`.
    pub kind: String,
    pub who: String,
    /// `console`, `client`, `api`, `hook`, `comment` or `rule`.
    pub way: String,
    pub address: Option<String>,
    /// What was done: `secret.set`, say.
    pub action: String,
    pub project: Option<String>,
    /// What it was done to.
    pub object: String,
    /// Why it was refused; none: it was done.
    pub refused: Option<String>,
    pub before: Option<Value>,
    pub after: Option<Value>,
    /// What was changed, in a line: `all → granted`, `branch main, commit 0fa6b9d9`; or why it was refused.
    pub change: String,
    /// SHA-256 of this row and, through `previous`, of all before it.
    pub digest: String,
    pub previous: String,
}

/// Asks the service to check the chain of the journal from its first row on.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VerifyJournal {
    /// A row's number and the digest that it had when someone wrote it down: `128:9f86d0…`.
    #[serde(default)]
    pub against: Option<String>,
}

/// Whether every row of the journal fits the digest of the row before it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalVerified {
    pub whole: bool,
    /// How many rows there are; where something is wrong, how many are sound.
    pub rows: i64,
    /// Of the last row: kept elsewhere, it proves later that no row was changed.
    pub digest: Option<String>,
    /// What is wrong, and with which row.
    pub why: Option<String>,
}
