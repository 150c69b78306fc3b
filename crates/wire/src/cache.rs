//! What caches of a project hold.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An entry of a project's cache.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CacheView {
    pub key: String,
    pub files: u64,
    /// Of its files.
    pub bytes: u64,
    /// What of it was new to the store, packed.
    pub stored_bytes: u64,
    /// The run and job that saved it.
    pub run: String,
    pub job: String,
    #[schema(value_type = String, format = DateTime)]
    pub saved_at: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    pub used_at: Timestamp,
    pub uses: u64,
}

/// How much of a project's cache was dropped.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DroppedView {
    /// How many entries.
    pub dropped: u64,
}
