//! What lies in the folder, as a runner would see it: files that git ignores are not there.

use crate::commands::local;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use toml::Table;

/// More files than this are not looked at.
const MOST: usize = 50_000;
/// No build file is larger.
const LARGEST: u64 = 1 << 20;

pub(super) struct Folder {
    root: PathBuf,
    /// By their paths below the root, with `/`.
    files: BTreeSet<String>,
}

impl Folder {
    pub(super) fn look(root: &Path) -> Folder {
        let listed = local::git(root, &["-c", "core.quotepath=off", "ls-files", "-z", "--cached", "--others", "--exclude-standard"]);
        let files = match listed {
            Some(text) => text.split('\0').filter(|name| !name.is_empty()).take(MOST).map(str::to_owned).collect(),
            None => walked(root),
        };
        Folder { root: root.to_owned(), files }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.files.contains(name) && self.root.join(name).is_file()
    }

    /// The first of these files that is there.
    pub(super) fn first<'a>(&self, names: &[&'a str]) -> Option<&'a str> {
        names.iter().copied().find(|name| self.has(name))
    }

    /// The text of a file that is there, and is one.
    pub(super) fn read(&self, name: &str) -> Option<String> {
        let path = self.root.join(name);
        let fits = self.has(name) && std::fs::metadata(&path).is_ok_and(|found| found.len() <= LARGEST);
        if fits { std::fs::read_to_string(path).ok() } else { None }
    }

    /// The texts of those of these files that are there, together.
    pub(super) fn texts(&self, names: &[&str]) -> String {
        names.iter().filter_map(|name| self.read(name)).collect::<Vec<_>>().join("\n")
    }

    pub(super) fn toml(&self, name: &str) -> Option<Table> {
        self.read(name)?.parse().ok()
    }

    /// Files whose paths fit, in order.
    pub(super) fn all(&self, fits: impl Fn(&str) -> bool) -> Vec<&str> {
        self.files.iter().map(String::as_str).filter(|path| fits(path)).collect()
    }

    pub(super) fn is_executable(&self, name: &str) -> bool {
        use std::os::unix::fs::PermissionsExt;
        std::fs::metadata(self.root.join(name)).is_ok_and(|found| found.permissions().mode() & 0o100 != 0)
    }
}

/// Without git: all files but those in hidden folders and the usual folders of what was built or fetched.
fn walked(root: &Path) -> BTreeSet<String> {
    let rest =
        |name: &str| !matches!(name, "node_modules" | "target" | "build" | "dist" | "venv" | "__pycache__") && !name.starts_with('.');
    let entries = walkdir::WalkDir::new(root).max_depth(6).into_iter();
    let entries =
        entries.filter_entry(|entry| entry.depth() == 0 || !entry.file_type().is_dir() || entry.file_name().to_str().is_some_and(rest));
    let files = entries.flatten().filter(|entry| entry.file_type().is_file()).take(MOST);
    files.filter_map(|entry| Some(entry.path().strip_prefix(root).ok()?.to_str()?.to_owned())).collect()
}

/// A file's name in a step, where the shell would read it otherwise.
pub(super) fn word(name: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./+@".contains(c);
    if name.chars().all(plain) && !name.starts_with('-') { name.to_owned() } else { format!("'{}'", name.replace('\'', "'\\''")) }
}
