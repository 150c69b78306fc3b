//! Where a rehearsal works, and what it leaves. Below the user's cache folder, in `ordotaxis/rehearsals`:
//!
//! - `live-…`: everything of one rehearsal, gone with it. What one left that was killed goes when the next begins.
//! - `kept-…`: what the caches of one rehearsed folder hold, for its next rehearsal. Those unused longest go when there
//!   is too much of it.
//!
//! A folder in use is locked through a file of its own: nobody else takes it away or writes to it.

use super::ask::cannot;
use crate::commands::local;
use crate::failure::Failure;
use crate::out;
use sha2::{Digest, Sha256};
use std::fs::{File, TryLockError};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use tempfile::TempDir;

/// What the caches of one rehearsed folder may hold, in bytes.
pub(super) const KEPT_EACH: u64 = 2 << 30;
/// What those of all together may hold, in bytes.
const KEPT_ALL: u64 = 8 << 30;
const LIVE: &str = "live-";
const KEPT: &str = "kept-";
const LOCK: &str = "lock";
/// The runner's folder within the living one.
pub(super) const RUNNER: &str = "runner";

/// The folders of one rehearsal. When it is dropped the living one goes.
pub(super) struct Folders {
    live: TempDir,
    kept: Option<PathBuf>,
    /// Held as long as the folders are in use.
    _locks: Vec<File>,
}

impl Folders {
    /// Makes them for a rehearsal of `root`. `fresh`: nothing cached before counts.
    pub(super) async fn open(root: &Path, fresh: bool) -> Result<Folders, Failure> {
        let home = match home() {
            Ok(home) => home,
            Err(error) => {
                out::remark(format!("nothing is cached for the next rehearsal: {error}"));
                let live = tempfile::Builder::new().prefix("ordotaxis-rehearsal-").tempdir();
                return Ok(Folders { live: live.map_err(|error| cannot("a folder for it", &error))?, kept: None, _locks: Vec::new() });
            }
        };
        remove_left(&home).await;
        Folders::below(&home, root, fresh).map_err(|error| cannot("a folder for it", &error))
    }

    fn below(home: &Path, root: &Path, fresh: bool) -> io::Result<Folders> {
        let live = tempfile::Builder::new().prefix(LIVE).tempdir_in(home)?;
        let mut locks: Vec<File> = lock(live.path())?.into_iter().collect();
        let kept = home.join(format!("{KEPT}{}", name_of(&root.canonicalize()?)));
        private(&kept)?;
        let Some(own) = lock(&kept)? else {
            out::remark("another rehearsal of this folder goes on: what this one caches is not kept");
            return Ok(Folders { live, kept: None, _locks: locks });
        };
        if fresh {
            empty(&kept)?;
        }
        // Its time says when it was used last.
        own.set_modified(SystemTime::now())?;
        locks.push(own);
        make_room(home, KEPT_ALL);
        Ok(Folders { live, kept: Some(kept), _locks: locks })
    }

    pub(super) fn live(&self) -> &Path {
        self.live.path()
    }

    pub(super) fn kept(&self) -> Option<&Path> {
        self.kept.as_deref()
    }

    /// Takes the living one away. What a job made unreadable is made readable first.
    pub(super) fn close(self) {
        let place = self.live.keep();
        if let Err(error) = remove(&place) {
            out::remark(format!("{} could not be taken away: {error}", place.display()));
        }
    }
}

/// The folder of all rehearsals: this user's own, and for nobody else.
fn home() -> io::Result<PathBuf> {
    let home = local::cache().join("rehearsals");
    private(&home)?;
    let found = std::fs::symlink_metadata(&home)?;
    if !found.is_dir() || found.uid() != nix::unistd::geteuid().as_raw() {
        return Err(io::Error::other(format!("{} does not belong to this user", home.display())));
    }
    Ok(home)
}

fn private(folder: &Path) -> io::Result<()> {
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)
}

fn name_of(root: &Path) -> String {
    Sha256::digest(root.as_os_str().as_bytes()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}

/// None when another process holds it.
fn lock(folder: &Path) -> io::Result<Option<File>> {
    let file = File::options().create(true).append(true).open(folder.join(LOCK))?;
    match file.try_lock() {
        Ok(()) => Ok(Some(file)),
        Err(TryLockError::WouldBlock) => Ok(None),
        Err(TryLockError::Error(error)) => Err(error),
    }
}

/// Folders of rehearsals by their kind.
fn all(home: &Path, prefix: &str) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(home).into_iter().flatten().flatten();
    let ours = entries.filter(|entry| entry.file_name().as_bytes().starts_with(prefix.as_bytes()));
    ours.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir())).map(|entry| entry.path()).collect()
}

/// Takes away what rehearsals left that were killed, and ends what still runs of them.
async fn remove_left(home: &Path) {
    for folder in all(home, LIVE) {
        // One that has no lock yet is being made just now, or was killed just then: a day tells which.
        let young = || {
            std::fs::metadata(&folder)
                .and_then(|found| found.modified())
                .is_ok_and(|at| at.elapsed().is_ok_and(|age| age.as_secs() < 86_400))
        };
        if !folder.join(LOCK).exists() && young() {
            continue;
        }
        if let Ok(Some(_held)) = lock(&folder) {
            ordotaxis_runner::end_left(&folder.join(RUNNER)).await;
            let _ = remove(&folder);
        }
    }
}

/// Removes a folder, also where a job took the right to from its owner. The lock goes last: what is left by a failure is
/// found by the next rehearsal.
fn remove(folder: &Path) -> io::Result<()> {
    if empty(folder).is_ok() {
        return std::fs::remove_dir_all(folder);
    }
    for entry in walkdir::WalkDir::new(folder).into_iter().flatten().filter(|entry| entry.file_type().is_dir()) {
        let _ = std::fs::set_permissions(entry.path(), std::os::unix::fs::PermissionsExt::from_mode(0o700));
    }
    empty(folder)?;
    std::fs::remove_dir_all(folder)
}

/// Everything but the lock.
fn empty(folder: &Path) -> io::Result<()> {
    for entry in std::fs::read_dir(folder)?.flatten().filter(|entry| entry.file_name() != LOCK) {
        if entry.file_type()?.is_dir() { std::fs::remove_dir_all(entry.path())? } else { std::fs::remove_file(entry.path())? }
    }
    Ok(())
}

/// Takes away what was unused longest until the rest is within `most` bytes. What is in use stays.
fn make_room(home: &Path, most: u64) {
    let size = |folder: &Path| -> u64 {
        let entries = walkdir::WalkDir::new(folder).into_iter().flatten();
        entries.filter_map(|entry| entry.metadata().ok()).filter(|found| found.is_file()).map(|found| found.len()).sum()
    };
    let used = |folder: &Path| std::fs::metadata(folder.join(LOCK)).and_then(|found| found.modified()).ok();
    let mut kept: Vec<_> = all(home, KEPT).into_iter().map(|folder| (used(&folder), size(&folder), folder)).collect();
    kept.sort();
    let mut sum: u64 = kept.iter().map(|(_, bytes, _)| bytes).sum();
    for (_, bytes, folder) in kept {
        if sum <= most {
            return;
        }
        if let Ok(Some(_held)) = lock(&folder)
            && remove(&folder).is_ok()
        {
            sum -= bytes;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;
    use std::time::Duration;

    fn names(home: &Path) -> Vec<PathBuf> {
        let mut names = [all(home, LIVE), all(home, KEPT)].concat();
        names.sort();
        names
    }

    #[tokio::test]
    async fn what_a_killed_rehearsal_left_goes_and_what_is_in_use_stays() {
        let home = tempfile::tempdir().unwrap();
        let root = tempfile::tempdir().unwrap();
        let going = Folders::below(home.path(), root.path(), false).unwrap();
        let left = home.path().join("live-killed");
        std::fs::create_dir_all(left.join("shut/below")).unwrap();
        File::create(left.join(LOCK)).unwrap();
        std::fs::write(left.join("shut/below/file"), "x").unwrap();
        std::fs::set_permissions(left.join("shut"), PermissionsExt::from_mode(0o000)).unwrap();
        std::fs::create_dir(home.path().join("live-new")).unwrap();
        remove_left(home.path()).await;
        let beside = Folders::below(home.path(), root.path(), false).unwrap();
        assert!(beside.kept().is_none(), "the first one writes there");
        assert!(!left.exists() && going.live().exists() && home.path().join("live-new").exists());
        let place = going.live().to_owned();
        going.close();
        drop(beside);
        assert!(!place.exists());
        let again = Folders::below(home.path(), root.path(), false).unwrap();
        assert!(again.kept().is_some());
    }

    #[test]
    fn fresh_empties_what_was_kept_and_nothing_else() {
        let (home, root, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let written = |root: &Path, fresh: bool| {
            let folders = Folders::below(home.path(), root, fresh).unwrap();
            let kept = folders.kept().unwrap().to_owned();
            std::fs::create_dir_all(kept.join("blobs")).unwrap();
            std::fs::write(kept.join("blobs/pack"), "x").unwrap();
            folders.close();
            kept
        };
        let (one, two) = (written(root.path(), false), written(other.path(), false));
        assert_ne!(one, two);
        let folders = Folders::below(home.path(), root.path(), true).unwrap();
        assert!(!one.join("blobs").exists() && two.join("blobs/pack").exists());
        folders.close();
    }

    #[test]
    fn what_was_unused_longest_makes_room() {
        let home = tempfile::tempdir().unwrap();
        for (name, age) in [("kept-old", 30), ("kept-older", 40), ("kept-new", 10)] {
            let folder = home.path().join(name);
            std::fs::create_dir(&folder).unwrap();
            std::fs::write(folder.join("pack"), [0; 100]).unwrap();
            let held = lock(&folder).unwrap().unwrap();
            held.set_modified(SystemTime::now() - Duration::from_secs(age)).unwrap();
        }
        let held = lock(&home.path().join("kept-older")).unwrap();
        make_room(home.path(), 250);
        assert_eq!(names(home.path()), ["kept-new", "kept-older"].map(|name| home.path().join(name)), "the oldest is in use");
        drop(held);
        make_room(home.path(), 100);
        assert_eq!(names(home.path()), [home.path().join("kept-new")]);
    }
}
