//! How a job is fenced in.
//!
//! `host`: ordinary processes in the job's folder. `sandbox` (bubblewrap): the system read-only, a private `/tmp` and
//! `/run`, its own process tree, and of the disk only the job's own folder writable; the runner's folder, with its
//! credential and other jobs, is not to be seen. `container` (podman): an image's files in place of the system's.

use crate::container::{self, Container};
use crate::limits::Group;
use crate::netns::Network;
use crate::tools::Limits;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Stdio;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Isolation {
    Sandbox,
    Host,
    /// Images for jobs that name one; the others as in a sandbox, or where that does not work on the host.
    Container,
}

impl Isolation {
    pub fn word(self) -> &'static str {
        match self {
            Isolation::Sandbox => "sandbox",
            Isolation::Host => "host",
            Isolation::Container => "container",
        }
    }

    /// Whether sandboxes can be made here; tries one.
    pub fn sandbox_works() -> bool {
        let mut command = std::process::Command::new("bwrap");
        command.args(["--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc", "--unshare-pid", "--unshare-ipc", "true"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|status| status.success())
    }

    /// Whether containers can be made here.
    pub fn container_works() -> bool {
        container::works()
    }
}

/// The folders a job may use.
#[derive(Debug, Clone)]
pub(crate) struct JobFolders {
    /// Where its steps start.
    pub(crate) files: PathBuf,
    pub(crate) tmp: PathBuf,
    /// The runner's own folder, hidden from a sandbox.
    pub(crate) runner: PathBuf,
    /// Where what it writes really lies.
    pub(crate) written: Vec<PathBuf>,
}

/// What a job wants of its fence.
pub(crate) struct Wanted<'a> {
    pub(crate) isolation: Isolation,
    pub(crate) image: Option<&'a str>,
    pub(crate) network: bool,
    /// Several processes share the job's network: helpers and steps.
    pub(crate) shared: bool,
    pub(crate) limits: Limits,
    /// It must not outlive the runner, for then another may do the like.
    pub(crate) holds_turn: bool,
    /// Names the attempt.
    pub(crate) attempt: &'a str,
    /// Marks what belongs to this runner.
    pub(crate) mark: &'a str,
}

/// One job's fence: every command of it is made here. Open until [`Fence::close`].
pub(crate) struct Fence {
    kind: Kind,
    folders: JobFolders,
    network: bool,
    group: Option<Group>,
}

enum Kind {
    Host { dies_with_runner: bool },
    Sandbox { network: Option<Network> },
    Container(Container),
}

/// A variable that marks a job's processes is set by the fence, inside, so that its own processes can be told apart.
pub(crate) struct Inside<'a> {
    pub(crate) dir: &'a Path,
    /// Program and arguments.
    pub(crate) command: &'a [String],
    pub(crate) env: &'a [(String, String)],
    /// Values that must not stand in an argument list, where every user of the machine could read them.
    pub(crate) secrets: &'a [(String, String)],
}

impl Fence {
    /// Makes the fence, or says in a sentence why it cannot.
    pub(crate) async fn open(wanted: Wanted<'_>, folders: JobFolders) -> Result<Fence, String> {
        let Wanted { isolation, image, network, shared, limits, holds_turn, attempt, mark } = wanted;
        let kind = match (isolation, image) {
            (Isolation::Container, Some(image)) => {
                let container = Container::open(image, attempt, mark, &folders, network, limits).await?;
                return Ok(Fence { kind: Kind::Container(container), folders, network, group: None });
            }
            (_, Some(_)) => return Err("the job runs in an image, and this runner makes no containers".into()),
            (Isolation::Host, None) => Kind::Host { dies_with_runner: holds_turn },
            (Isolation::Container, None) if !Isolation::sandbox_works() => Kind::Host { dies_with_runner: holds_turn },
            (_, None) if shared && !network => Kind::Sandbox { network: Some(Network::open().await?) },
            (_, None) => Kind::Sandbox { network: None },
        };
        if matches!(kind, Kind::Host { .. }) && !network {
            return Err("network = false needs a sandbox or a container, and this runner makes neither".into());
        }
        let group = Group::open(attempt, limits);
        Ok(Fence { kind, folders, network, group })
    }

    pub(crate) fn is_host(&self) -> bool {
        matches!(self.kind, Kind::Host { .. })
    }

    pub(crate) fn is_container(&self) -> bool {
        matches!(self.kind, Kind::Container(_))
    }

    /// The process whose network the job has, where that is not the machine's.
    pub(crate) fn network_of(&self) -> Option<i32> {
        match &self.kind {
            Kind::Container(container) if !self.network => Some(container.pid()),
            Kind::Sandbox { network: Some(network) } => Some(network.pid()),
            _ => None,
        }
    }

    /// Whether the job used more memory than it may.
    pub(crate) fn out_of_memory(&self) -> bool {
        self.group.as_ref().is_some_and(Group::out_of_memory)
    }

    /// The process to start for a command, with nothing else in its environment.
    pub(crate) fn command(&self, inside: &Inside<'_>) -> std::io::Result<tokio::process::Command> {
        let mut line: Vec<String> = self.group.as_ref().map(Group::wrapped).unwrap_or_default();
        let mut on_host: Option<&Path> = None;
        match &self.kind {
            Kind::Host { dies_with_runner } => {
                on_host = Some(inside.dir);
                if *dies_with_runner {
                    line.extend(dying_with_runner());
                }
                line.extend(inside.command.iter().cloned());
            }
            Kind::Sandbox { network } => {
                line.extend(network.iter().flat_map(Network::entered));
                line.push("bwrap".into());
                line.extend(self.sandbox(inside.dir, inside.env, network.is_some()));
                line.extend(self.lent(inside.secrets)?);
                line.extend(inside.command.iter().cloned());
            }
            Kind::Container(container) => {
                line.extend(container.entered(inside.dir, inside.env));
                line.extend(self.lent(inside.secrets)?);
                line.extend(inside.command.iter().cloned());
            }
        }
        let mut built = tokio::process::Command::new(OsString::from(&line[0]));
        built.args(&line[1..]).env_clear().process_group(0).stdin(Stdio::null());
        match on_host {
            Some(dir) => {
                built.current_dir(dir).envs(inside.env.iter().map(|(name, value)| (name, value)));
                built.envs(inside.secrets.iter().map(|(name, value)| (name, value)));
            }
            None => {
                built.env("PATH", std::env::var_os("PATH").unwrap_or_default());
                built.envs(["HOME", "XDG_RUNTIME_DIR"].iter().filter_map(|name| Some((name, std::env::var_os(name)?))));
            }
        }
        Ok(built)
    }

    fn sandbox(&self, dir: &Path, env: &[(String, String)], entered: bool) -> Vec<String> {
        let path = |path: &Path| path.display().to_string();
        let (files, tmp, runner) = (path(&self.folders.files), path(&self.folders.tmp), path(&self.folders.runner));
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let mut args = words(&["--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc"]);
        // Sockets of the system's services lie in /run; names are still found where they are looked up there.
        args.extend(words(&["--tmpfs", "/run", "--ro-bind-try", "/run/systemd/resolve", "/run/systemd/resolve"]));
        args.extend(words(&["--bind", &tmp, "/tmp", "--tmpfs", &runner, "--bind", &files, &files]));
        args.extend(words(&["--unshare-pid", "--unshare-ipc", "--unshare-uts", "--die-with-parent", "--new-session"]));
        if !self.network && !entered {
            args.push("--unshare-net".into());
        }
        if nix::unistd::geteuid().is_root() {
            // Root keeps what building needs with its own files, and nothing that reaches out of here.
            args.extend(words(&["--cap-drop", "ALL"]));
            let kept = ["CAP_CHOWN", "CAP_DAC_OVERRIDE", "CAP_FOWNER", "CAP_SETUID", "CAP_SETGID", "CAP_KILL"];
            args.extend(kept.iter().flat_map(|cap| words(&["--cap-add", cap])));
        }
        args.extend(words(&["--chdir", &path(dir)]));
        args.extend(env.iter().flat_map(|(name, value)| words(&["--setenv", name, value])));
        args.push("--".into());
        args
    }

    /// A shell that takes secrets from a file which only this job can read, removes it, and becomes what follows.
    fn lent(&self, secrets: &[(String, String)]) -> std::io::Result<Vec<String>> {
        use std::io::Write;
        use std::os::unix::fs::OpenOptionsExt;
        if secrets.is_empty() {
            return Ok(Vec::new());
        }
        let name = format!(".lent-{:016x}", rand::random::<u64>());
        let mut file = std::fs::OpenOptions::new().create_new(true).write(true).mode(0o600).open(self.folders.tmp.join(&name))?;
        for (name, value) in secrets {
            writeln!(file, "export {name}='{}'", value.replace('\'', "'\\''"))?;
        }
        let script = ". \"$0\"; rm -f \"$0\"; exec \"$@\"";
        Ok(["sh", "-c", script].map(str::to_owned).into_iter().chain([format!("/tmp/{name}")]).collect())
    }

    /// Takes the fence down, with all that is left in it.
    pub(crate) async fn close(self) {
        if let Kind::Container(container) = self.kind {
            container.close().await;
        }
        let group = self.group;
        let _ = tokio::task::spawn_blocking(move || drop(group)).await;
    }
}

/// A command that ends what follows when the runner dies, however it does: a process tree of its own where this may be
/// made, else at least the first process. A sandbox does the same by itself.
fn dying_with_runner() -> Vec<String> {
    let mut line = ["setpriv", "--pdeathsig", "KILL", "--"].map(str::to_owned).to_vec();
    if nix::unistd::geteuid().is_root() {
        line.extend(["unshare", "--pid", "--fork", "--kill-child", "--"].map(str::to_owned));
    }
    line
}
