//! What runners give and fetch: artifacts and entries of caches.

use serde::{Deserialize, Serialize};

/// An artifact that an attempt gave; its chunks were sent before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenArtifact {
    pub name: String,
    /// Names its tree in the store: 64 hexadecimal digits.
    pub tree: String,
    /// What was new to the store, as sent.
    pub bytes: u64,
}

/// Asks for the entry of a cache: of this key, else the newest of the first beginning that fits one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FindCache {
    pub key: String,
    pub otherwise: Vec<String>,
}

/// The answer to [`FindCache`].
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FoundCache {
    pub entry: Option<CacheEntry>,
    /// False for a proposal from outside: it reads, and saves nothing.
    pub may_save: bool,
}

/// An entry of a cache, by which the runner fetches the tree.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CacheEntry {
    pub key: String,
    pub tree: String,
    /// The run that saved it.
    pub run: String,
}

/// Gives a saved tree its key.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SaveCache {
    pub key: String,
    pub tree: String,
    /// What was new to the store, as sent.
    pub bytes: u64,
}

/// The answer to [`SaveCache`].
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SavedCache {
    /// False when the key was there already: another was quicker.
    pub saved: bool,
}

/// What an attempt did with one of its caches.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct CacheUse {
    pub key: String,
    pub paths: Vec<String>,
    /// The entry that was restored, if one was: its key and the run that saved it.
    pub restored: Option<String>,
    pub from: Option<String>,
    pub files: u64,
    /// Of the files.
    pub bytes: u64,
    /// What had to be sent for it.
    pub fetched_bytes: u64,
    pub restore_ms: i64,
    pub saved: bool,
    pub saved_files: u64,
    /// Of the files.
    pub saved_bytes: u64,
    /// What was new to the store.
    pub sent_bytes: u64,
    pub save_ms: i64,
    /// Why it was not restored, or not saved.
    pub notices: Vec<String>,
}

impl CacheUse {
    /// What a notice begins with of a cache that should have been saved and was not.
    pub const NOT_SAVED: &str = "not saved: ";
    /// And of one that is there, and could not be used.
    pub const NOT_USED: &str = "counts as not there: ";

    /// What went otherwise than the pipeline wants: it costs time in later runs and fails nothing, so it has to be told.
    pub fn trouble(&self) -> impl Iterator<Item = &str> {
        let is_trouble = |notice: &&String| [CacheUse::NOT_SAVED, CacheUse::NOT_USED].iter().any(|begin| notice.starts_with(begin));
        self.notices.iter().filter(is_trouble).map(String::as_str)
    }
}
