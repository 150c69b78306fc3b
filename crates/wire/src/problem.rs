//! Errors as RFC 9457 problem details: a stable `type`, a `detail` fit for a person, and for bad input a pointer
//! (RFC 6901) to each wrong field.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The media type of every refusal and error (RFC 9457).
pub const MEDIA_TYPE: &str = "application/problem+json";

/// What every call that did not succeed is answered with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A stable word, such as `/problems/unknown-project`.
    #[serde(rename = "type")]
    pub kind: String,
    pub title: String,
    pub status: u16,
    /// What happened and what to do, for a person.
    pub detail: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldProblem>,
}

/// One wrong field of a request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldProblem {
    /// RFC 6901, within the request's body.
    pub pointer: String,
    pub detail: String,
}
