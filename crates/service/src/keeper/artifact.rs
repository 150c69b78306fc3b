//! Artifacts of runs that go on.

use ordotaxis_store::StoredArtifact;
use std::collections::HashMap;

/// An artifact that was found to be whole in the store.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct CompleteArtifact {
    pub(crate) name: String,
    pub(crate) tree: String,
    /// For people.
    pub(crate) digest: String,
    /// Names what is in it, without times.
    pub(crate) content: String,
    pub(crate) files: i64,
    pub(crate) raw_bytes: i64,
    /// New to the store.
    pub(crate) bytes: i64,
}

/// What a run's jobs have given so far, by job and name.
pub(crate) type Given = HashMap<(usize, String), CompleteArtifact>;

/// An artifact as it was stored.
pub(crate) fn of_row(row: StoredArtifact) -> Option<CompleteArtifact> {
    let StoredArtifact { name, digest, content, files, raw_bytes, bytes, .. } = row;
    Some(CompleteArtifact { name, tree: row.tree?, digest, content, files, raw_bytes, bytes })
}
