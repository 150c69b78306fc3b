//! Secrets and connections of a project: values go in and never come out.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Sets a secret of a project; a value that is there already is replaced. It is stored sealed and never answered.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSecret {
    pub value: String,
    #[serde(flatten)]
    pub reach: ReachAsk,
}

/// Where a secret goes: globs. With none of branches and tags, the main branch and every tag.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ReachAsk {
    #[serde(default)]
    pub branches: Option<Vec<String>>,
    #[serde(default)]
    pub tags: Option<Vec<String>>,
    /// Names of pipelines; every one when absent.
    #[serde(default)]
    pub pipelines: Option<Vec<String>>,
}

/// A secret: never its value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretView {
    pub name: String,
    /// The environment whose jobs get this value; none: all others.
    #[serde(default)]
    pub environment: Option<String>,
    pub set_by: String,
    #[schema(value_type = String, format = DateTime)]
    pub set_at: Timestamp,
    /// Where it goes.
    #[serde(flatten)]
    pub reach: crate::secret::ReachAsk,
}

/// User and password for a service outside.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewConnection {
    pub user: String,
    /// Where it leads: jobs that name it in `connections` find it in a variable.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    pub password: String,
    #[serde(flatten)]
    pub reach: ReachAsk,
}

/// User and password for a service outside: never the password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionView {
    pub name: String,
    pub user: String,
    pub address: Option<String>,
    pub set_by: String,
    #[schema(value_type = String, format = DateTime)]
    pub set_at: Timestamp,
    /// Where it goes.
    #[serde(flatten)]
    pub reach: crate::secret::ReachAsk,
}
