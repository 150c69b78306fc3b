//! What sandboxes are built from, made once when the runner starts: a folder with the places that fences bind.
//!
//! - `etc/`: of `/etc` what jobs need, copied once (a mount for each would cost every fence milliseconds), and the few files that
//!   are made up (names of users, where names of hosts are asked);
//! - `shown/N`: folders of tools that lie where a job's user could not get to them, say below `/root`;
//! - `bin/ordotaxis`: this binary, for `ordotaxis share`;
//! - `slots/N/job`, `slots/N/tmp`: where the folders of running jobs are mounted;
//! - two filters of system calls.
//!
//! As root it is a file system in memory that only this runner's mount name space has. A job's processes belong to a user
//! of their own then, who may pass through it, and through no other folder of the runner. As an ordinary user there is no
//! such user, and the stage is a folder in the runner's own.

use crate::beneath::Owner;
use crate::bound::{Bound, bind};
use crate::filter::{self, FilterError};
use nix::mount::{MsFlags, mount};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Where root's stage is mounted.
const MOUNTED_AT: &str = "/run/ordotaxis-runner";

/// Of the system's `/etc`, as far as it is there. Nothing here is secret on any system.
const ETC: &[&str] = &[
    "alternatives",
    "ca-certificates",
    "ca-certificates.conf",
    "chromium",
    "chromium.d",
    "crypto-policies",
    "debian_version",
    "fonts",
    "java-11-openjdk",
    "java-17-openjdk",
    "java-21-openjdk",
    "java-25-openjdk",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "magic",
    "magic.mime",
    "maven",
    "mime.types",
    "os-release",
    "perl",
    "pki/ca-trust",
    "pki/tls/certs",
    "pki/tls/cert.pem",
    "protocols",
    "python3",
    "services",
    "ssl/cert.pem",
    "ssl/certs",
    "ssl/openssl.cnf",
    "terminfo",
    "timezone",
    "xdg",
];
/// No file of `/etc` that is needed is larger.
const LARGEST_ETC: u64 = 4 * 1024 * 1024;

/// The user and group of jobs outside of their fence, where the runner is root: a number that nothing else on the machine
/// has. (Numbers from 60001 to 65533 are given to nobody by the usual rules of distributions.)
pub(crate) const JOBS: Owner = Owner { uid: 64_001, gid: 64_001 };

/// What the user is inside: an ordinary one, so that programs do not take themselves for root and try what only root may.
pub(crate) const INSIDE: u32 = 1000;

/// The address at which a job's own network answers questions for names of hosts.
pub(crate) const NAMES_AT: &str = "10.0.2.3";

/// Why sandboxes cannot be made here.
#[derive(Debug, thiserror::Error)]
pub(crate) enum StageError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error(transparent)]
    Filter(#[from] FilterError),
    #[error("this process has no mounts of its own, so a sandbox for another user cannot be made; start the runner as an ordinary user")]
    NoMounts,
}

fn io(path: &Path) -> impl Fn(std::io::Error) -> StageError + use<'_> {
    move |source| StageError::Io { path: path.to_owned(), source }
}

/// A folder that jobs may read: what it is called inside, and where it is bound from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Shown {
    pub(crate) inside: PathBuf,
    pub(crate) from: PathBuf,
}

/// What all sandboxes of this runner share.
#[derive(Debug, Clone)]
pub(crate) struct Stage {
    pub(crate) folder: PathBuf,
    /// None: the runner's own user.
    pub(crate) owner: Option<Owner>,
    pub(crate) shown: Vec<Shown>,
    pub(crate) filters: Option<[PathBuf; 2]>,
    /// How much a job's memory for `/dev/shm` and similar may grow, in bytes.
    pub(crate) memory: u64,
}

impl Stage {
    /// Makes it. `shows` are folders that jobs may read beside the system's; those that are not there are left out.
    pub(crate) fn open(runner: &Path, mounts: bool, shows: &[PathBuf], memory: u64) -> Result<Stage, StageError> {
        let root = nix::unistd::geteuid().is_root();
        if root && !mounts {
            return Err(StageError::NoMounts);
        }
        let folder = if root { PathBuf::from(MOUNTED_AT) } else { runner.join("stage") };
        std::fs::create_dir_all(&folder).map_err(io(&folder))?;
        if root {
            let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV;
            let mounted = mount(Some("tmpfs"), &folder, Some("tmpfs"), flags, Some("mode=0711,size=64m"));
            mounted.map_err(|error| io(&folder)(error.into()))?;
        }
        let mut stage = Stage { folder, owner: root.then_some(JOBS), shown: Vec::new(), filters: None, memory };
        for name in ["etc", "shown", "bin", "slots"] {
            stage.make(&stage.folder.join(name))?;
        }
        stage.write_etc()?;
        stage.filters = match filter::write(&stage.folder) {
            Ok(filters) => Some(filters),
            Err(FilterError::Arch) => None,
            Err(error) => return Err(error.into()),
        };
        for inside in shows {
            stage.show(inside)?;
        }
        Ok(stage)
    }

    /// A folder that the jobs' user may pass through.
    fn make(&self, path: &Path) -> Result<(), StageError> {
        std::fs::create_dir_all(path).map_err(io(path))?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).map_err(io(path))
    }

    fn write_etc(&self) -> Result<(), StageError> {
        for name in ETC {
            let to = self.folder.join("etc").join(name);
            for folder in to.ancestors().skip(1).take_while(|folder| *folder != self.folder.join("etc")) {
                self.make(folder)?;
            }
            copy(&Path::new("/etc").join(name), &to).map_err(io(&to))?;
        }
        let user = INSIDE;
        let files = [
            (
                "passwd",
                format!(
                    "root:x:0:0::/nonexistent:/usr/sbin/nologin\njob:x:{user}:{user}::/tmp:/bin/sh\nnobody:x:65534:65534::/nonexistent:/usr/sbin/nologin\n"
                ),
            ),
            ("group", format!("root:x:0:\njob:x:{user}:\nnogroup:x:65534:\n")),
            ("hosts", "127.0.0.1 localhost\n::1 localhost\n".to_owned()),
            ("nsswitch.conf", "passwd: files\ngroup: files\nhosts: files dns\n".to_owned()),
            ("resolv.conf", format!("nameserver {NAMES_AT}\n")),
        ];
        for (name, text) in files {
            let path = self.folder.join("etc").join(name);
            std::fs::write(&path, text).map_err(io(&path))?;
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).map_err(io(&path))?;
        }
        Ok(())
    }

    fn show(&mut self, inside: &Path) -> Result<(), StageError> {
        if self.shown.iter().any(|shown| inside.starts_with(&shown.inside)) || !inside.is_dir() {
            return Ok(());
        }
        let mut from = inside.to_owned();
        if self.owner.is_some() {
            from = self.folder.join("shown").join(self.shown.len().to_string());
            self.make(&from)?;
            bind(inside, &from).map_err(io(inside))?;
        }
        self.shown.push(Shown { inside: inside.to_owned(), from });
        Ok(())
    }

    /// The runner's own program, where fences can bind it from.
    pub(crate) fn program(&self) -> Result<Bound, StageError> {
        let place = self.folder.join("bin/ordotaxis");
        Bound::new(self.owner.map(|_| place.clone())).map_err(io(&place))
    }

    /// Where a slot's folders are to be seen by fences; None where they are as they lie.
    pub(crate) fn slot(&self, slot: u32) -> Result<Option<PathBuf>, StageError> {
        if self.owner.is_none() {
            return Ok(None);
        }
        let folder = self.folder.join("slots").join(slot.to_string());
        self.make(&folder)?;
        for name in ["job", "tmp"] {
            self.make(&folder.join(name))?;
        }
        Ok(Some(folder))
    }
}

/// Copies a file or folder of the system's with its modes, links as links; what cannot be read is left out, as jobs could not
/// read it either.
fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    // What an earlier life of an ordinary user's runner left may be of another version.
    let _ = std::fs::remove_dir_all(to).or_else(|_| std::fs::remove_file(to));
    if let Ok(target) = std::fs::read_link(from) {
        return std::os::unix::fs::symlink(target, to);
    }
    for entry in walkdir::WalkDir::new(from).max_depth(8).into_iter().flatten() {
        let below = entry.path().strip_prefix(from).unwrap_or(Path::new(""));
        let place = if below.as_os_str().is_empty() { to.to_owned() } else { to.join(below) };
        let kind = entry.file_type();
        let Ok(data) = entry.metadata() else { continue };
        if kind.is_symlink() {
            std::os::unix::fs::symlink(std::fs::read_link(entry.path())?, &place)?;
            continue;
        }
        let made = match kind.is_dir() {
            true => std::fs::create_dir(&place),
            false if kind.is_file() && data.len() <= LARGEST_ETC => std::fs::copy(entry.path(), &place).map(drop),
            false => continue,
        };
        match made {
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => continue,
            made => made?,
        }
        // A folder of an ordinary user's stays its to change; who reads it is the same.
        let more = if kind.is_dir() { 0o700 } else { 0 };
        std::fs::set_permissions(&place, std::fs::Permissions::from_mode(data.permissions().mode() & 0o777 | more))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_copy_has_the_same_modes_and_links_and_nothing_of_before() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("from"), folder.path().join("to"));
        std::fs::create_dir_all(from.join("deep")).unwrap();
        std::fs::create_dir_all(to.join("old")).unwrap();
        for (name, mode) in [("open", 0o644), ("deep/shut", 0o600)] {
            std::fs::write(from.join(name), name).unwrap();
            std::fs::set_permissions(from.join(name), std::fs::Permissions::from_mode(mode)).unwrap();
        }
        std::fs::write(from.join("huge"), vec![0; 5 << 20]).unwrap();
        std::os::unix::fs::symlink("../../secret", from.join("deep/link")).unwrap();
        copy(&from, &to).unwrap();
        let mode = |name: &str| to.join(name).metadata().unwrap().permissions().mode() & 0o777;
        assert_eq!((mode("open"), mode("deep/shut")), (0o644, 0o600));
        assert_eq!(std::fs::read_to_string(to.join("deep/shut")).unwrap(), "deep/shut");
        assert_eq!(std::fs::read_link(to.join("deep/link")).unwrap(), Path::new("../../secret"), "a link is data");
        assert!(!to.join("old").exists() && !to.join("huge").exists());
        // A link itself, what is not there, and all of it once more.
        std::os::unix::fs::symlink("/usr/share/zoneinfo/UTC", folder.path().join("localtime")).unwrap();
        copy(&folder.path().join("localtime"), &folder.path().join("copied")).unwrap();
        assert_eq!(std::fs::read_link(folder.path().join("copied")).unwrap(), Path::new("/usr/share/zoneinfo/UTC"));
        copy(&folder.path().join("none"), &folder.path().join("nothing")).unwrap();
        assert!(!folder.path().join("nothing").exists());
        copy(&from, &to).unwrap();
    }
}
