//! A commit's files as a folder: what lies in it is listed at once, and read when it is asked for.

use ordotaxis_core::first::{FirstFile, Folder, LARGEST_FILE, MOST_FILES, Reader, first_file};
use ordotaxis_git::{GitError, Mirror};
use std::collections::BTreeMap;
use std::sync::Arc;
use tokio::runtime::Handle;

struct Commit {
    mirror: Arc<Mirror>,
    id: String,
    /// With whether it may be run.
    files: BTreeMap<String, bool>,
    runtime: Handle,
}

impl Reader for Commit {
    fn is_file(&self, path: &str) -> bool {
        self.files.contains_key(path)
    }

    fn read(&self, path: &str) -> Option<String> {
        let bytes = self.runtime.block_on(self.mirror.read(&self.id, path)).ok()??;
        if bytes.len() as u64 > LARGEST_FILE { None } else { String::from_utf8(bytes).ok() }
    }

    fn is_executable(&self, path: &str) -> bool {
        self.files.get(path).copied().unwrap_or_default()
    }
}

/// The pipeline file that is offered for a commit without one; its runs begin on pushes to `branch`.
pub(crate) async fn first_file_of(mirror: Arc<Mirror>, commit: &str, branch: &str) -> Result<FirstFile, GitError> {
    let files = mirror.all_files(commit, MOST_FILES).await?;
    let names = files.keys().cloned().collect();
    let (commit, branch) = (Commit { mirror, id: commit.to_owned(), files, runtime: Handle::current() }, branch.to_owned());
    let looking = tokio::task::spawn_blocking(move || first_file(&Folder::new(names, Box::new(commit)), &branch));
    Ok(looking.await.unwrap_or_else(|_| FirstFile { text: String::new(), found: Vec::new(), unsure: Vec::new() }))
}
