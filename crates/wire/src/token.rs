//! Tokens that persons make for programs.

use jiff::Timestamp;
use ordotaxis_core::access::Role;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use utoipa::ToSchema;

/// Makes a token with which a program acts as the person, with the person's rights or fewer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// No more than this role anywhere; all that the person has when absent.
    #[serde(default)]
    pub role: Option<Role>,
    /// Nothing outside of these projects.
    #[serde(default)]
    pub projects: Option<BTreeSet<String>>,
    /// Good for so long, in milliseconds; 90 days when absent, a year at most.
    #[serde(default)]
    pub ends_ms: Option<i64>,
}

/// A personal token: everything about it but the token itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    pub id: i64,
    pub person: String,
    pub name: String,
    pub role: Option<Role>,
    pub projects: Option<BTreeSet<String>>,
    #[schema(value_type = String, format = DateTime)]
    pub made_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ends_at: Option<Timestamp>,
    /// To the minute.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used_at: Option<Timestamp>,
    /// The token itself; shown once, when it is made.
    #[serde(default)]
    pub token: Option<String>,
}
