//! A first pipeline file for a repository that has none: what lies in it, seen through a [`Folder`], becomes jobs, and
//! those become a commented file.

mod folder;
mod job;
mod kinds;
mod write;

pub use folder::{Folder, Reader};

/// A folder with more files than this is looked at in part.
pub const MOST_FILES: usize = 50_000;
/// No build file is larger, in bytes.
pub const LARGEST_FILE: u64 = 1 << 20;

/// A file that is offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstFile {
    pub text: String,
    /// What was found, the main kind first: `a Cargo package`.
    pub found: Vec<String>,
    /// What could not be known, in whole sentences.
    pub unsure: Vec<String>,
}

/// Writes the file; its runs begin on pushes to `branch`.
pub fn first_file(folder: &Folder, branch: &str) -> FirstFile {
    let found = kinds::look(folder);
    let below: Vec<&str> = kinds::below(folder).into_iter().collect();
    let of_kind = |kind: &job::Kind| kind.unsure.iter().chain(kind.jobs.iter().flat_map(|job| &job.unsure)).cloned().collect::<Vec<_>>();
    FirstFile {
        text: write::text(&found, &below, branch),
        found: found.iter().map(|kind| kind.says.clone()).collect(),
        unsure: found.iter().flat_map(of_kind).collect(),
    }
}
