//! Folders in which a job did nothing at all: the next job gets the same ones, since making and deleting three folders
//! takes longer than many a job.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// A folder as it was before the job.
#[derive(Debug)]
pub(crate) struct AsMade {
    path: PathBuf,
    /// How many entries it has when nobody has done anything in it.
    entries: usize,
    seen: Seen,
}

/// What changes with any change to a folder: its entries, mode, owner, attributes. Where two changes within one tick of the
/// clock have the same time (Linux before 6.13), attributes that were set in the very tick of this look are not seen.
#[derive(Debug, PartialEq, Eq)]
struct Seen {
    device: u64,
    inode: u64,
    mode: u32,
    owner: (u32, u32),
    changed: (i64, i64),
}

/// None where it cannot be looked at, or is no folder.
fn look(path: &Path) -> Option<Seen> {
    let meta = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_dir)?;
    Some(Seen {
        device: meta.dev(),
        inode: meta.ino(),
        mode: meta.mode(),
        owner: (meta.uid(), meta.gid()),
        changed: (meta.ctime(), meta.ctime_nsec()),
    })
}

fn entries(path: &Path) -> Option<usize> {
    std::fs::read_dir(path).ok()?.try_fold(0, |count, entry| entry.ok().map(|_| count + 1))
}

impl AsMade {
    /// Remembers a folder that should have so many entries. None when it cannot be looked at.
    pub(crate) fn of(path: &Path, entries: usize) -> Option<AsMade> {
        Some(AsMade { path: path.to_owned(), entries, seen: look(path)? })
    }

    /// Whether it has only what it should have, and nobody has changed anything about it since. False where that cannot be
    /// found out.
    pub(crate) fn is_untouched(&self) -> bool {
        look(&self.path).as_ref() == Some(&self.seen) && entries(&self.path) == Some(self.entries)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::{self, Permissions};
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn whatever_is_done_to_a_folder_is_seen() {
        type Deed = (&'static str, fn(&Path));
        let deeds: [Deed; 7] = [
            ("a file", |at| fs::write(at.join("x"), "").unwrap()),
            ("a file that is gone again", |at| {
                fs::write(at.join("x"), "").unwrap();
                fs::remove_file(at.join("x")).unwrap();
            }),
            ("another mode", |at| fs::set_permissions(at, Permissions::from_mode(0o777)).unwrap()),
            ("another mode and back", |at| {
                let mode = fs::metadata(at).unwrap().permissions();
                fs::set_permissions(at, Permissions::from_mode(0o000)).unwrap();
                fs::set_permissions(at, mode).unwrap();
            }),
            ("another folder", |at| {
                fs::rename(at, at.with_extension("old")).unwrap();
                fs::create_dir(at).unwrap();
            }),
            ("a link in its place", |at| {
                fs::rename(at, at.with_extension("old")).unwrap();
                symlink(at.with_extension("old"), at).unwrap();
            }),
            ("nothing in its place", |at| fs::remove_dir(at).unwrap()),
        ];
        for (what, deed) in deeds {
            let folder = tempfile::tempdir().unwrap();
            let at = folder.path().join("job");
            fs::create_dir(&at).unwrap();
            let made = AsMade::of(&at, 0).expect("an empty folder");
            assert!(made.is_untouched(), "looking at it changes nothing");
            deed(&at);
            assert!(!made.is_untouched(), "{what}");
        }
    }

    #[test]
    fn only_a_folder_with_the_expected_entries_is_remembered() {
        let folder = tempfile::tempdir().unwrap();
        assert!(AsMade::of(&folder.path().join("none"), 0).is_none());
        fs::write(folder.path().join("file"), "").unwrap();
        assert!(AsMade::of(&folder.path().join("file"), 0).is_none(), "no folder");
        let is_untouched = |entries| AsMade::of(folder.path(), entries).is_some_and(|made| made.is_untouched());
        assert!(is_untouched(1) && !is_untouched(0), "one entry too many was there before");
    }
}
