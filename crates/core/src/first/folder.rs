//! What lies in a folder or a commit, as a runner would see it: names at hand, texts read when they are asked for.

use std::collections::BTreeSet;
use toml::Table;

/// Reads what lies under the paths of a [`Folder`].
pub trait Reader {
    /// Whether a file of that path can be read; links are none.
    fn is_file(&self, path: &str) -> bool;
    /// The text of a file that is no larger than a build file ever is; none where it is no text.
    fn read(&self, path: &str) -> Option<String>;
    /// Whether its owner may run it.
    fn is_executable(&self, path: &str) -> bool;
}

/// The files of one folder.
pub struct Folder {
    /// By their paths below the root, with `/`.
    files: BTreeSet<String>,
    reader: Box<dyn Reader>,
}

impl Folder {
    /// A folder with these files; what they hold is read by `reader`.
    pub fn new(files: BTreeSet<String>, reader: Box<dyn Reader>) -> Folder {
        Folder { files, reader }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.files.contains(name) && self.reader.is_file(name)
    }

    /// The first of these files that is there.
    pub(super) fn first<'a>(&self, names: &[&'a str]) -> Option<&'a str> {
        names.iter().copied().find(|name| self.has(name))
    }

    /// The text of a file that is there, and is one.
    pub(super) fn read(&self, name: &str) -> Option<String> {
        if self.has(name) { self.reader.read(name) } else { None }
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
        self.reader.is_executable(name)
    }
}

/// A file's name in a step, where the shell would read it otherwise.
pub(super) fn word(name: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./+@".contains(c);
    if name.chars().all(plain) && !name.starts_with('-') { name.to_owned() } else { format!("'{}'", name.replace('\'', "'\\''")) }
}
