//! What lies in the folder, as a runner would see it: files that git ignores are not there.

use crate::commands::local;
use ordotaxis_core::first::{Folder, LARGEST_FILE, MOST_FILES, Reader};
use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

struct Disk(PathBuf);

impl Reader for Disk {
    fn is_file(&self, path: &str) -> bool {
        self.0.join(path).is_file()
    }

    fn read(&self, path: &str) -> Option<String> {
        let path = self.0.join(path);
        let fits = std::fs::metadata(&path).is_ok_and(|found| found.len() <= LARGEST_FILE);
        if fits { std::fs::read_to_string(path).ok() } else { None }
    }

    fn is_executable(&self, path: &str) -> bool {
        std::fs::metadata(self.0.join(path)).is_ok_and(|found| found.permissions().mode() & 0o100 != 0)
    }
}

pub(super) fn look(root: &Path) -> Folder {
    let listed = local::git(root, &["-c", "core.quotepath=off", "ls-files", "-z", "--cached", "--others", "--exclude-standard"]);
    let files = match listed {
        Some(text) => text.split('\0').filter(|name| !name.is_empty()).take(MOST_FILES).map(str::to_owned).collect(),
        None => walked(root),
    };
    Folder::new(files, Box::new(Disk(root.to_owned())))
}

/// Without git: all files but those in hidden folders and the usual folders of what was built or fetched.
fn walked(root: &Path) -> BTreeSet<String> {
    let rest =
        |name: &str| !matches!(name, "node_modules" | "target" | "build" | "dist" | "venv" | "__pycache__") && !name.starts_with('.');
    let entries = walkdir::WalkDir::new(root).max_depth(6).into_iter();
    let entries =
        entries.filter_entry(|entry| entry.depth() == 0 || !entry.file_type().is_dir() || entry.file_name().to_str().is_some_and(rest));
    let files = entries.flatten().filter(|entry| entry.file_type().is_file()).take(MOST_FILES);
    files.filter_map(|entry| Some(entry.path().strip_prefix(root).ok()?.to_str()?.to_owned())).collect()
}
