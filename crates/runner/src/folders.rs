//! The folders of a job, outside of its fence.

use crate::archive::ArchiveError;
use crate::beneath::Beneath;
use std::path::PathBuf;

/// The folders a job may use.
#[derive(Debug, Clone)]
pub(crate) struct JobFolders {
    /// Where its files lie, outside of the fence.
    pub(crate) files: PathBuf,
    pub(crate) tmp: PathBuf,
    /// Where what it writes really lies.
    pub(crate) written: Vec<PathBuf>,
}

impl JobFolders {
    /// The job's files, by their handle.
    pub(crate) fn job(&self) -> Result<Beneath, ArchiveError> {
        let failed = |source| ArchiveError::Io { path: self.files.clone(), source };
        Beneath::open(&self.files).map_err(failed)
    }
}

/// Where the durations for `ordotaxis share` lie, below the job's `/tmp`.
pub(crate) const SHARE_FILE: &str = ".share.json";

/// Where a job writes its facts, below its own `/tmp`.
pub(crate) const FACTS: &str = "facts";
