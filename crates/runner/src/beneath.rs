//! Files in a folder that a job can change, reached by the folder's handle and never through a link.
//!
//! A job may put a link wherever it can write, also while it is looked at. So nothing of a job is reached by joining its
//! path to a folder: every path is looked up here, beneath an open handle, with links refused on the way (`openat2` with
//! `RESOLVE_BENEATH` and `RESOLVE_NO_SYMLINKS`; on kernels before 5.6 name by name with `O_NOFOLLOW`, which has the
//! same). A link itself is data: it can be read, made and moved as a link.

use nix::errno::Errno;
use nix::fcntl::{OFlag, OpenHow, ResolveFlag, openat, openat2, readlinkat};
use nix::sys::stat::Mode;
use std::ffi::OsStr;
use std::fs::{File, FileType, Metadata};
use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::os::unix::fs::fchown;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whom files belong to that are made for a job: the user that its processes are outside of their fence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Owner {
    pub(crate) uid: u32,
    pub(crate) gid: u32,
}

/// An open folder.
#[derive(Debug, Clone)]
pub(crate) struct Beneath(Arc<OwnedFd>);

/// What is in the way is a link.
pub(crate) fn is_link_error(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::ELOOP as i32)
}

/// There is nothing at a path; anything else that goes wrong only means that it could not be looked at.
pub(crate) fn is_missing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

impl Beneath {
    /// The folder itself is one that the runner has made: its path is trusted.
    pub(crate) fn open(root: &Path) -> io::Result<Beneath> {
        let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
        Ok(Beneath(Arc::new(nix::fcntl::open(root, flags, Mode::empty())?)))
    }

    /// A path that stays the folder's own whatever is renamed above it.
    pub(crate) fn path(&self) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}", self.0.as_raw_fd()))
    }

    /// A folder below; `.` is the folder itself.
    pub(crate) fn folder(&self, path: &Path) -> io::Result<Beneath> {
        let fd = self.look_up(path, OFlag::O_RDONLY | OFlag::O_DIRECTORY, Mode::empty())?;
        Ok(Beneath(Arc::new(fd)))
    }

    /// A folder below, made where it is not there, with all above it.
    pub(crate) fn make_folder(&self, path: &Path, owner: Option<Owner>) -> io::Result<Beneath> {
        let mut at = self.clone();
        for name in names(path)? {
            at = match at.folder(Path::new(name)) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    let made = std::fs::create_dir(at.path().join(name));
                    if let Err(error) = made
                        && error.kind() != io::ErrorKind::AlreadyExists
                    {
                        return Err(error);
                    }
                    let folder = at.folder(Path::new(name))?;
                    own(&folder.0, owner)?;
                    folder
                }
                other => other?,
            };
        }
        Ok(at)
    }

    /// The same, where whatever is in the way and no folder is removed: what is laid over it takes its place.
    pub(crate) fn lay_folder(&self, path: &Path, owner: Option<Owner>) -> io::Result<Beneath> {
        let mut at = self.clone();
        for name in names(path)? {
            let one = Path::new(name);
            let in_the_way = at.stat(one).is_ok_and(|meta| !meta.is_dir());
            if in_the_way {
                std::fs::remove_file(at.path().join(name))?;
            }
            at = at.make_folder(one, owner)?;
        }
        Ok(at)
    }

    /// An ordinary file, for reading. A pipe or device in its place is an error, and does not hold anybody up.
    pub(crate) fn file(&self, path: &Path) -> io::Result<File> {
        let file = File::from(self.look_up(path, OFlag::O_RDONLY | OFlag::O_NONBLOCK | OFlag::O_NOCTTY, Mode::empty())?);
        if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::other("it is not an ordinary file")) }
    }

    /// A new file with these bits of mode, in the place of whatever was there and is no folder. Folders above it are made.
    pub(crate) fn create(&self, path: &Path, mode: u32, owner: Option<Owner>) -> io::Result<File> {
        let (folder, name) = self.place(path, owner)?;
        folder.clear(name)?;
        let flags = OFlag::O_WRONLY | OFlag::O_CREAT | OFlag::O_EXCL | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC;
        let fd = openat(folder.0.as_fd(), name, flags, Mode::from_bits_truncate(mode & 0o777))?;
        own(&fd, owner)?;
        Ok(File::from(fd))
    }

    /// A link with this target, whatever it is, in the place of what was there and is no folder.
    pub(crate) fn create_link(&self, path: &Path, target: &OsStr, owner: Option<Owner>) -> io::Result<()> {
        let (folder, name) = self.place(path, owner)?;
        folder.clear(name)?;
        let full = folder.path().join(name);
        std::os::unix::fs::symlink(target, &full)?;
        match owner {
            Some(Owner { uid, gid }) => std::os::unix::fs::lchown(full, Some(uid), Some(gid)),
            None => Ok(()),
        }
    }

    /// What lies at a path, a link as itself.
    pub(crate) fn stat(&self, path: &Path) -> io::Result<Metadata> {
        File::from(self.look_up(path, OFlag::O_PATH | OFlag::O_NOFOLLOW, Mode::empty())?).metadata()
    }

    /// Where a link leads.
    pub(crate) fn link_target(&self, path: &Path) -> io::Result<Vec<u8>> {
        let link = self.look_up(path, OFlag::O_PATH | OFlag::O_NOFOLLOW, Mode::empty())?;
        Ok(readlinkat(link.as_fd(), "")?.as_bytes().to_vec())
    }

    /// Moves a file to a place of the runner's own, on the same file system.
    pub(crate) fn move_out(&self, path: &Path, to: &Path) -> io::Result<()> {
        let (above, name) = parent(path)?;
        std::fs::rename(self.folder(above)?.path().join(name), to)
    }

    /// Everything below a folder, folders before what lies in them; `visit` says whether a folder is gone into. What
    /// vanishes meanwhile is left out.
    pub(crate) fn walk(&self, from: &Path, visit: &mut dyn FnMut(&Path, FileType) -> bool) -> io::Result<()> {
        let mut left = vec![from.to_owned()];
        while let Some(path) = left.pop() {
            let folder = match self.folder(&path) {
                Err(error) if is_missing(&error) => continue,
                other => other.map_err(|error| named(&path, error))?,
            };
            for entry in std::fs::read_dir(folder.path()).map_err(|error| named(&path, error))? {
                let entry = entry?;
                let full = if path == Path::new(".") { PathBuf::from(entry.file_name()) } else { path.join(entry.file_name()) };
                let kind = match entry.file_type() {
                    Err(error) if is_missing(&error) => continue,
                    other => other?,
                };
                if visit(&full, kind) && kind.is_dir() {
                    left.push(full);
                }
            }
        }
        Ok(())
    }

    fn place<'p>(&self, path: &'p Path, owner: Option<Owner>) -> io::Result<(Beneath, &'p OsStr)> {
        let (above, name) = parent(path)?;
        Ok((self.make_folder(above, owner)?, name))
    }

    fn clear(&self, name: &OsStr) -> io::Result<()> {
        match std::fs::remove_file(self.path().join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    fn look_up(&self, path: &Path, flags: OFlag, mode: Mode) -> io::Result<OwnedFd> {
        static OLD_KERNEL: AtomicBool = AtomicBool::new(false);
        names(path)?;
        let flags = flags | OFlag::O_CLOEXEC;
        if !OLD_KERNEL.load(Ordering::Relaxed) {
            let resolve = ResolveFlag::RESOLVE_BENEATH | ResolveFlag::RESOLVE_NO_SYMLINKS | ResolveFlag::RESOLVE_NO_MAGICLINKS;
            match openat2(self.0.as_fd(), path, OpenHow::new().flags(flags).mode(mode).resolve(resolve)) {
                Err(Errno::ENOSYS) => OLD_KERNEL.store(true, Ordering::Relaxed),
                other => return Ok(other?),
            }
        }
        self.name_by_name(path, flags, mode)
    }

    /// What `openat2` does in one call.
    fn name_by_name(&self, path: &Path, flags: OFlag, mode: Mode) -> io::Result<OwnedFd> {
        let mut at: Option<OwnedFd> = None;
        let mut names = names(path)?.into_iter().peekable();
        let own = || openat(self.0.as_fd(), ".", flags, mode);
        if names.peek().is_none() {
            return Ok(own()?);
        }
        while let Some(name) = names.next() {
            let last = names.peek().is_none();
            let here = at.as_ref().map_or(self.0.as_fd(), |fd| fd.as_fd());
            let step = if last { flags } else { OFlag::O_PATH | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC };
            at = Some(match openat(here, name, step | OFlag::O_NOFOLLOW, mode) {
                // What O_DIRECTORY says of a link.
                Err(Errno::ENOTDIR) if std::fs::symlink_metadata(proc_path(&here, name)).is_ok_and(|meta| meta.is_symlink()) => {
                    return Err(Errno::ELOOP.into());
                }
                other => other?,
            });
        }
        at.ok_or_else(|| Errno::ENOENT.into())
    }
}

fn proc_path(folder: &impl AsRawFd, name: &OsStr) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}", folder.as_raw_fd())).join(name)
}

fn own(fd: &OwnedFd, owner: Option<Owner>) -> io::Result<()> {
    match owner {
        Some(Owner { uid, gid }) => fchown(fd, Some(uid), Some(gid)),
        None => Ok(()),
    }
}

/// The parts of a path that stays beneath; `.` has none.
fn names(path: &Path) -> io::Result<Vec<&OsStr>> {
    let mut names = Vec::new();
    for part in path.components() {
        match part {
            Component::Normal(name) => names.push(name),
            Component::CurDir => {}
            _ => return Err(Errno::EXDEV.into()),
        }
    }
    Ok(names)
}

fn parent(path: &Path) -> io::Result<(&Path, &OsStr)> {
    let name = path.file_name().ok_or(Errno::EISDIR)?;
    Ok((path.parent().unwrap_or(Path::new(".")), name))
}

fn named(path: &Path, error: io::Error) -> io::Error {
    io::Error::new(error.kind(), format!("{}: {error}", path.display()))
}

/// When a file was changed, as trees say it: in nanoseconds since 1970.
pub(crate) fn modified(meta: &std::fs::Metadata) -> i64 {
    meta.mtime().saturating_mul(1_000_000_000).saturating_add(meta.mtime_nsec())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read, Write};
    use std::os::unix::fs::symlink;

    /// A job's folder with links out of it in every place, and a secret beside it.
    fn hostile() -> (tempfile::TempDir, Beneath) {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().join("job");
        std::fs::create_dir_all(root.join("out/deep")).unwrap();
        std::fs::write(root.join("out/deep/gauge"), "high water").unwrap();
        std::fs::create_dir(folder.path().join("outside")).unwrap();
        std::fs::write(folder.path().join("outside/secret"), "salt and mud").unwrap();
        symlink("../outside", root.join("exit")).unwrap();
        symlink("/proc/self", root.join("self")).unwrap();
        symlink("../outside/secret", root.join("leak")).unwrap();
        symlink("out", root.join("inner")).unwrap();
        symlink("loop", root.join("loop")).unwrap();
        let beneath = Beneath::open(&root).unwrap();
        (folder, beneath)
    }

    fn text(mut file: File) -> String {
        let mut text = String::new();
        file.read_to_string(&mut text).unwrap();
        text
    }

    #[test]
    fn what_lies_beneath_is_reached_and_nothing_through_a_link() {
        let (_folder, job) = hostile();
        assert_eq!(text(job.file(Path::new("out/deep/gauge")).unwrap()), "high water");
        assert_eq!(text(job.file(Path::new("./out/./deep/gauge")).unwrap()), "high water");
        for path in ["exit/secret", "leak", "self/environ", "inner/deep/gauge", "loop", "loop/x"] {
            let error = job.file(Path::new(path)).unwrap_err();
            assert!(is_link_error(&error), "{path}: {error}");
            assert!(job.folder(Path::new(path)).is_err(), "{path}");
        }
        for path in ["../outside/secret", "/etc/passwd", "out/../../outside/secret"] {
            assert!(job.file(Path::new(path)).is_err(), "{path}");
            assert!(job.create(Path::new(path), 0o644, None).is_err(), "{path}");
            assert!(job.make_folder(Path::new(path), None).is_err(), "{path}");
        }
        assert!(is_missing(&job.file(Path::new("out/none")).unwrap_err()));
        assert!(is_missing(&job.file(Path::new("out/deep/gauge/x")).unwrap_err()));
        assert!(job.file(Path::new("out")).is_err(), "a folder is no file");
    }

    #[test]
    fn name_by_name_comes_to_the_same() {
        let (_folder, job) = hostile();
        let read = OFlag::O_RDONLY | OFlag::O_CLOEXEC;
        let paths = [
            ".",
            "out",
            "out/deep",
            "out/deep/gauge",
            "exit",
            "exit/secret",
            "leak",
            "inner/deep",
            "loop",
            "none",
            "out/none/x",
            "self/environ",
        ];
        for path in paths {
            for flags in [read, read | OFlag::O_DIRECTORY, OFlag::O_PATH | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC] {
                let word = |done: io::Result<OwnedFd>| {
                    done.map(|fd| File::from(fd).metadata().unwrap().file_type()).map_err(|error| error.raw_os_error())
                };
                let one = word(job.look_up(Path::new(path), flags, Mode::empty()));
                let other = word(job.name_by_name(Path::new(path), flags, Mode::empty()));
                assert_eq!(one, other, "{path} {flags:?}");
            }
        }
    }

    #[test]
    fn writing_never_leaves_the_folder() {
        let (folder, job) = hostile();
        for path in ["exit/new", "exit/deep/new", "self/new", "inner/new"] {
            assert!(is_link_error(&job.create(Path::new(path), 0o644, None).unwrap_err()), "{path}");
            assert!(is_link_error(&job.make_folder(Path::new(path), None).unwrap_err()), "{path}");
            assert!(is_link_error(&job.create_link(Path::new(path), OsStr::new("x"), None).unwrap_err()), "{path}");
        }
        // A link where the file is to be gives way; what it led to stays as it was.
        job.create(Path::new("leak"), 0o644, None).unwrap().write_all(b"low water").unwrap();
        assert_eq!(text(job.file(Path::new("leak")).unwrap()), "low water");
        assert_eq!(std::fs::read_to_string(folder.path().join("outside/secret")).unwrap(), "salt and mud");
        // So does one where a folder is laid.
        job.lay_folder(Path::new("exit/deep"), None).unwrap();
        job.create(Path::new("exit/deep/new"), 0o600, None).unwrap();
        assert_eq!(std::fs::read_dir(folder.path().join("outside")).unwrap().count(), 1);
        assert!(job.create(Path::new("out"), 0o644, None).is_err(), "a folder does not give way");
    }

    #[test]
    fn links_are_data_and_pipes_hold_nobody_up() {
        let (folder, job) = hostile();
        assert_eq!(job.link_target(Path::new("exit")).unwrap(), b"../outside");
        assert!(job.stat(Path::new("exit")).unwrap().is_symlink());
        job.create_link(Path::new("new/python3"), OsStr::new("/usr/bin/python3"), None).unwrap();
        assert_eq!(job.link_target(Path::new("new/python3")).unwrap(), b"/usr/bin/python3");
        let pipe = folder.path().join("job/pipe");
        nix::unistd::mkfifo(&pipe, Mode::from_bits_truncate(0o600)).unwrap();
        assert!(job.file(Path::new("pipe")).unwrap_err().to_string().contains("ordinary"));
        let mut seen = Vec::new();
        job.walk(Path::new("."), &mut |path, kind| {
            seen.push(path.display().to_string());
            kind.is_dir()
        })
        .unwrap();
        seen.sort();
        assert_eq!(seen, ["exit", "inner", "leak", "loop", "new", "new/python3", "out", "out/deep", "out/deep/gauge", "pipe", "self"]);
        job.move_out(Path::new("out/deep/gauge"), &folder.path().join("kept")).unwrap();
        assert!(is_link_error(&job.move_out(Path::new("exit/secret"), &folder.path().join("stolen")).unwrap_err()));
        assert!(folder.path().join("kept").exists() && !folder.path().join("stolen").exists());
    }
}
