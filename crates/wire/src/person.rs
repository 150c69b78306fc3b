//! Persons, groups and roles.

use jiff::Timestamp;
use ordotaxis_core::access::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Adds a person, who has no rights until a role is granted. A name that is taken is refused.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPerson {
    /// Letters, digits, `-`, `_` and `.`, at most 64, lower case.
    pub name: String,
    #[serde(default)]
    pub mail: Option<String>,
}

/// Changes a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetPerson {
    /// None takes it away.
    pub mail: Option<String>,
}

/// How a person is known elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Identity {
    /// The address of an OpenID Connect issuer, or of a forge.
    pub issuer: String,
    /// The subject there; at a forge, the login.
    pub subject: String,
}

/// A person with groups and role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    pub name: String,
    /// Shown to owners, and to the person.
    #[serde(default)]
    pub mail: Option<String>,
    pub groups: Vec<String>,
    /// The role on the service, groups included.
    pub role: Option<Role>,
    /// Shown to owners, and to the person.
    #[serde(default)]
    pub identities: Vec<Identity>,
    #[schema(value_type = String, format = DateTime)]
    pub added_at: Timestamp,
}

/// Sets the members of a group, and makes the group where there is none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetGroup {
    /// Names of persons: these and no others.
    pub members: Vec<String>,
}

/// A group and its members.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct GroupView {
    pub name: String,
    pub members: Vec<String>,
}

/// A role of someone on something.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetGrant {
    /// A person's name, or a group's with `@` before it.
    pub who: String,
    /// None: the whole service.
    #[serde(default)]
    pub project: Option<String>,
    pub role: Role,
}

/// A role that was granted, and by whom.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct GrantView {
    pub who: String,
    pub project: Option<String>,
    pub role: Role,
    pub given_by: String,
    #[schema(value_type = String, format = DateTime)]
    pub given_at: Timestamp,
}
