//! What forges sent: deliveries as they came, how each was read, what came of it; and the profiles they are read by.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A delivery of a forge: a row of `GET /api/v1/projects/{project}/deliveries`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliveryView {
    pub id: i64,
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// What the forge, or the body's digest, names it.
    pub given: Option<String>,
    /// `taken`; `nothing`: of a kind that starts nothing; `unread`: something was missing in it; `refused`: not signed as
    /// the profile says.
    pub state: String,
    /// Why nothing came of it, or what was missing.
    pub why: Option<String>,
    /// What was read, in words.
    pub events: Vec<String>,
    /// What came of it.
    pub outcomes: Vec<OutcomeView>,
    /// How often it came.
    pub times: i64,
    /// The body's bytes.
    pub size: i64,
    pub address: Option<String>,
    /// Only where one delivery is asked for: headers without secrets.
    pub headers: BTreeMap<String, String>,
    /// Only where one delivery is asked for: the body, as text. Of one that was refused the beginning.
    pub body: Option<String>,
}

/// What came of one event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OutcomeView {
    /// The work's number.
    pub work: i64,
    /// `waiting`, `done` or `given up`.
    pub state: String,
    /// `run 12`
    pub said: Option<String>,
}

/// A forge profile that the service knows.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProfileView {
    pub name: String,
    /// The events that it reads.
    pub events: Vec<String>,
    /// The requests that it can make.
    pub requests: Vec<String>,
}
