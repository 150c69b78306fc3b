//! Signing in, and browsers that are signed in.

use jiff::Timestamp;
use ordotaxis_core::access::Role;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What a browser signs in with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NewSession {
    Token(String),
    /// From a link.
    Code(String),
    /// A provider (OpenID Connect) answered: what its answer carried.
    Provider {
        code: String,
        state: String,
    },
}

/// A link that signs one browser in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// Good once, for ten minutes.
    pub url: String,
}

/// How one can sign in here.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInWays {
    /// What the provider (OpenID Connect) is called; none where there is none.
    pub provider: Option<String>,
    /// Send the browser there.
    pub url: Option<String>,
}

/// Who is signed in, and what they may.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    pub name: String,
    /// The role on the service.
    pub role: Option<Role>,
    /// Roles on projects, where they are more.
    pub projects: BTreeMap<String, Role>,
}

/// A browser that is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    pub id: i64,
    pub person: String,
    /// What the browser calls itself.
    pub agent: String,
    pub address: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    pub made_at: Timestamp,
    /// To the minute.
    #[schema(value_type = String, format = DateTime)]
    pub used_at: Timestamp,
    /// However often it is used.
    #[schema(value_type = String, format = DateTime)]
    pub ends_at: Timestamp,
}
