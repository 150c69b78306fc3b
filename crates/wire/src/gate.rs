//! What hooks of a plain git server ask and tell: version 1. Addresses `/hooks/v1/{project}` (told) and
//! `/hooks/v1/{project}/gate` (asked), both signed after the Standard Webhooks specification.

use serde::{Deserialize, Serialize};

/// One ref of a push.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Moved {
    /// `refs/heads/…` or `refs/tags/…`
    #[serde(rename = "ref")]
    pub name: String,
    /// What it named; nothing but zeros: it is new.
    pub before: String,
    /// What it names now; nothing but zeros: it is removed.
    pub commit: String,
}

/// A push that someone makes, or has made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Asked {
    pub moved: Vec<Moved>,
    /// Who pushes, as the server knows them.
    #[serde(default)]
    pub by: Option<String>,
}

/// A ref that may not be pushed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refused {
    #[serde(rename = "ref")]
    pub name: String,
    pub why: String,
}

/// The answer to [`Asked`].
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GateView {
    /// Empty: the push may go on.
    pub refused: Vec<Refused>,
}
