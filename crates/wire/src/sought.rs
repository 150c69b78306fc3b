//! What is found by words: places of the console.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a place is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PlaceKind {
    Project,
    Run,
    Job,
    Test,
    Commit,
    Person,
}

/// Something that has a page.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlaceView {
    pub kind: PlaceKind,
    pub name: String,
    /// A little more, to tell it from others.
    pub about: Option<String>,
    /// The page's address in the console.
    pub page: String,
}
