//! A tag of a repository.

/// A tag, and the commit that it names in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tag {
    /// Without `refs/tags/`.
    pub name: String,
    /// Of the tag itself where it is an object of its own, else the commit's.
    pub id: String,
    pub commit: String,
}
