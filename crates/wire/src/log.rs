//! Logs by line, and lines by what is in them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Lines of a log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LinesView {
    pub attempt: u32,
    /// More may come.
    pub open: bool,
    /// How many lines there are; the last may still grow.
    pub total: u64,
    /// The number of the first, counted from 0.
    pub first: u64,
    /// Offset of its first byte in the log.
    pub offset: u64,
    /// The lines with their ends.
    pub text: String,
    /// When each was printed, in milliseconds since 1970.
    pub times: Vec<i64>,
}

/// Lines of a log in which something stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SearchView {
    pub attempt: u32,
    pub found: Vec<FoundView>,
    /// There may be more from this line on.
    pub more_from: Option<u64>,
}

/// One line in which the text that was searched for stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundView {
    /// Counted from 0.
    pub line: u64,
    pub offset: u64,
    /// Milliseconds since 1970.
    pub at: i64,
    pub text: String,
}
