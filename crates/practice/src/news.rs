//! What the forge tells its hooks of, whatever dialect it speaks.

use crate::book::{Proposal, Review};

/// One branch or tag that names something else than before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Move {
    /// `refs/heads/…` or `refs/tags/…`
    pub(crate) name: String,
    pub(crate) before: Option<String>,
    pub(crate) now: Option<String>,
}

/// What happened to a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Turn {
    Offered,
    Changed,
    Closed,
    Landed,
}

/// Something that happened.
#[derive(Debug, Clone)]
pub(crate) enum News {
    Moved { moves: Vec<Move>, by: String },
    Proposal { proposal: Proposal, turn: Turn, by: String },
    Comment { proposal: Proposal, text: String, by: String },
    Review { proposal: Proposal, review: Review },
}
