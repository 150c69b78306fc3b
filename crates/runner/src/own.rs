//! The runner's own program, as jobs and helpers get it: for `ordotaxis share` within a job, for `runner ask` from a job's network.
//!
//! It lies where it was started from. Where it was replaced while it runs, as an upgrade does, that file is gone, and what lies
//! there is of another version. The system still has the one that runs: then a copy of it is made in the runner's folder, once.

use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

/// What runs here, wherever it lies.
const RUNNING: &str = "/proc/self/exe";

/// Where a copy goes; a process has one program, whatever it runs.
static COPY: OnceLock<PathBuf> = OnceLock::new();
/// Whether the copy was made in this life.
static MADE: Mutex<bool> = Mutex::new(false);

/// Says where a copy may be made. One of an earlier life is of no more use.
pub(crate) fn may_be_kept_in(folder: &Path) {
    let copy = folder.join("program");
    let _ = std::fs::remove_file(&copy);
    let _ = COPY.set(copy);
}

/// A path at which the program that runs here can be started and bound.
pub(crate) fn program() -> io::Result<PathBuf> {
    let own = std::env::current_exe()?;
    if is(&own, Path::new(RUNNING)) {
        return Ok(own);
    }
    let failed = |why: String| io::Error::other(format!("the runner's program was replaced while it ran, and could not be copied: {why}"));
    let copy = COPY.get().ok_or_else(|| failed("it has no folder".into()))?;
    let mut made = MADE.lock().unwrap_or_else(PoisonError::into_inner);
    if !*made {
        copied(copy).map_err(|error| failed(format!("{}: {error}", copy.display())))?;
        *made = true;
    }
    Ok(copy.clone())
}

/// Whether two paths lead to one file.
fn is(one: &Path, other: &Path) -> bool {
    let file = |path: &Path| std::fs::metadata(path).map(|data| (data.dev(), data.ino()));
    matches!((file(one), file(other)), (Ok(one), Ok(other)) if one == other)
}

/// Whole or not at all: what an earlier life left there is replaced in one step.
fn copied(to: &Path) -> io::Result<()> {
    let new = to.with_extension("new");
    std::fs::copy(RUNNING, &new)?;
    std::fs::set_permissions(&new, std::fs::Permissions::from_mode(0o755))?;
    std::fs::rename(&new, to)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_runs_is_where_it_was_started_from() {
        assert_eq!(program().unwrap(), std::env::current_exe().unwrap());
        assert!(!is(Path::new("/dev/null"), Path::new(RUNNING)) && !is(Path::new("/nowhere"), Path::new("/nowhere")));
    }

    #[test]
    fn a_copy_is_whole_and_replaces_what_was_there() {
        let folder = tempfile::tempdir().unwrap();
        let to = folder.path().join("program");
        std::fs::write(&to, "of another life").unwrap();
        copied(&to).unwrap();
        let lengths = [Path::new(RUNNING), &to].map(|path| std::fs::metadata(path).unwrap().len());
        assert_eq!(lengths[0], lengths[1]);
        assert_eq!(std::fs::metadata(&to).unwrap().permissions().mode() & 0o777, 0o755);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing half is left");
    }
}
