//! What is told, before it is known to whom.

use ordotaxis_core::access::Action;
use ordotaxis_core::notice::Notice;
use std::collections::BTreeSet;

/// A notice, the persons whom it concerns, and what whoever is told must be able to do.
pub(super) struct Found {
    pub(super) notice: Notice,
    pub(super) own: BTreeSet<i64>,
    pub(super) needs: Action,
}
