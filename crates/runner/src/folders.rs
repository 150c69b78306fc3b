//! The folders of a job, outside of its fence.

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

/// Where the durations for `ordotaxis share` lie, below the job's `/tmp`.
pub(crate) const SHARE_FILE: &str = ".share.json";

/// Where a job writes its facts, below its own `/tmp`.
pub(crate) const FACTS: &str = "facts";
