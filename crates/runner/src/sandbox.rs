//! The command line of a sandbox (bubblewrap): what a step sees of this machine, and as whom.
//!
//! A list of what is there, and nothing else: the system's programs (`/usr`), what `/etc` needs for names, certificates and
//! tools, the tools that the runner offers, the job's own folder (at `/job`) and its `/tmp`. Everything but the last two is
//! read-only, and nothing on it makes anybody another user. No user name space within, no capability, no new privileges.

use crate::beneath::Owner;
use crate::bound::Bound;
use crate::stage::{INSIDE, Stage, StageError};
use std::path::{Path, PathBuf};

/// What the job's folder is called inside.
pub(crate) const JOB: &str = "/job";
/// Where the runner's own binary is to be found inside.
pub(crate) const BINARY: &str = "/run/ordotaxis/ordotaxis";

/// Folders of `/` that are links into `/usr` on most systems, and folders on others.
const LINKED: &[&str] = &["bin", "sbin", "lib", "lib32", "lib64", "libx32"];

/// Where a step is, and what its network is.
pub(crate) struct At<'a> {
    pub(crate) files: &'a Path,
    pub(crate) tmp: &'a Path,
    /// Inside.
    pub(crate) dir: &'a Path,
    /// No network but a loopback of its own, made with this very sandbox.
    pub(crate) alone: bool,
    /// The machine's own network, because no other can be made: names are resolved as on the machine.
    pub(crate) machines_network: bool,
}

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

fn text(path: &Path) -> String {
    path.display().to_string()
}

/// Becomes the jobs' user, where the runner is root. Before the sandbox: it is made without any right of root's.
pub(crate) fn as_jobs_user(stage: &Stage) -> Vec<String> {
    stage.owner.map(becoming).unwrap_or_default()
}

/// Becomes this user, with no right left that root has.
pub(crate) fn becoming(owner: Owner) -> Vec<String> {
    let (uid, gid) = (owner.uid.to_string(), owner.gid.to_string());
    words(&[
        "setpriv",
        "--reuid",
        &uid,
        "--regid",
        &gid,
        "--clear-groups",
        "--no-new-privs",
        "--inh-caps=-all",
        "--bounding-set=-all",
        "--",
    ])
}

/// What every sandbox of this runner has in common; made once.
#[derive(Debug)]
pub(crate) struct Sandbox {
    common: Vec<String>,
    program: Bound,
}

/// A root with nothing but the system's programs, for a process that only has to be there. Nothing of it comes and goes while it
/// is made, as mounts of jobs do.
pub(crate) fn bare() -> Vec<String> {
    let mut line = words(&["--ro-bind", "/usr", "/usr"]);
    line.extend(LINKED.iter().flat_map(|name| linked(name)));
    line
}

impl Sandbox {
    /// The part of bubblewrap's arguments that all jobs of this runner share.
    pub(crate) fn new(stage: &Stage) -> Result<Sandbox, StageError> {
        let user = INSIDE.to_string();
        let mut line = words(&["bwrap", "--unshare-user", "--uid", &user, "--gid", &user, "--disable-userns"]);
        line.extend(words(&["--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try"]));
        line.extend(words(&["--die-with-parent", "--new-session", "--cap-drop", "ALL", "--clearenv", "--hostname", "job"]));
        line.extend(bare());
        line.extend(words(&["--ro-bind", &text(&stage.folder.join("etc")), "/etc"]));
        // Process 1 is the fence's: its memory is not to be seen or written.
        line.extend(words(&["--proc", "/proc", "--tmpfs", "/proc/1", "--remount-ro", "/proc/1"]));
        for name in ["/proc/sys", "/proc/sysrq-trigger", "/proc/irq", "/proc/bus"] {
            line.extend(words(&["--ro-bind-try", name, name]));
        }
        line.extend(words(&["--dev", "/dev", "--size", &stage.memory.to_string(), "--tmpfs", "/dev/shm", "--remount-ro", "/dev"]));
        line.extend(words(&["--ro-bind-try", "/sys/devices/system/cpu", "/sys/devices/system/cpu"]));
        line.extend(words(&["--size", "67108864", "--tmpfs", "/run"]));
        for shown in &stage.shown {
            line.extend(words(&["--ro-bind", &text(&shown.from), &text(&shown.inside)]));
        }
        Ok(Sandbox { common: line, program: stage.program()? })
    }

    /// All of it up to the command. The filters' files are open as 8 and 9 where there are any.
    pub(crate) fn line(&self, at: &At<'_>, filtered: bool, env: &[(String, String)]) -> std::io::Result<Vec<String>> {
        let mut line = self.common.clone();
        line.extend(words(&["--ro-bind", &text(&self.program.now()?), BINARY]));
        if at.machines_network {
            line.extend(words(&["--ro-bind-try", "/etc/resolv.conf", "/etc/resolv.conf"]));
        }
        line.extend(words(&["--bind", &text(at.tmp), "/tmp", "--bind", &text(at.files), JOB, "--remount-ro", "/"]));
        if at.alone {
            line.push("--unshare-net".into());
        }
        if filtered {
            line.extend(words(&["--add-seccomp-fd", "8", "--add-seccomp-fd", "9"]));
        }
        line.extend(words(&["--chdir", &text(at.dir)]));
        line.extend(env.iter().flat_map(|(name, value)| words(&["--setenv", name, value])));
        line.push("--".into());
        Ok(line)
    }
}

fn linked(name: &str) -> Vec<String> {
    let path = PathBuf::from("/").join(name);
    match (std::fs::read_link(&path), path.is_dir()) {
        (Ok(target), _) if target.starts_with("usr") || target.starts_with("/usr") => words(&["--symlink", &text(&target), &text(&path)]),
        (_, true) => words(&["--ro-bind", &text(&path), &text(&path)]),
        _ => Vec::new(),
    }
}

/// The folders of a `PATH` that can be seen inside, in its order.
pub(crate) fn visible(stage: &Stage, folder: &Path) -> bool {
    let system = ["usr"].iter().chain(LINKED).any(|name| folder.starts_with(Path::new("/").join(name)));
    system || stage.shown.iter().any(|shown| folder.starts_with(&shown.inside))
}
