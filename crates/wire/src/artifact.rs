//! Artifacts, whole or file by file.

use jiff::Timestamp;
use ordotaxis_core::language::JobId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Files that a job gave, under a name. What is uploaded again under the same digest is stored once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArtifactView {
    pub job: JobId,
    pub name: String,
    /// `sha256:` and 64 hexadecimal digits: of what `sha256sum` prints for its files in order of their paths.
    pub digest: String,
    /// Of its files.
    pub bytes: u64,
    /// What of it was new to the store, packed.
    pub stored_bytes: u64,
    pub files: u64,
    /// Where it can be fetched.
    pub url: String,
    /// When it may be swept away.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub kept_until: Option<Timestamp>,
    /// Who said that it is to be kept for good.
    #[serde(default)]
    pub pinned_by: Option<String>,
}

/// A file of an artifact or of a cache's entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    pub path: String,
    /// Permission bits, as `0644`.
    pub mode: String,
    pub bytes: u64,
    pub digest: Option<String>,
    /// For a link: where it points.
    #[serde(default)]
    pub link: Option<String>,
}

/// What lies in one folder of an artifact or of a cache's entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FolderView {
    /// Empty for the outermost.
    pub folder: String,
    pub folders: Vec<SubfolderView>,
    pub files: Vec<FileView>,
}

/// A folder in a folder, with all that lies below it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubfolderView {
    pub name: String,
    /// In it, however deep.
    pub files: u64,
    pub bytes: u64,
}

/// Where an artifact's files can be seen for an hour, by anyone who has the address.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownView {
    /// A file's path follows it.
    pub url: String,
}
