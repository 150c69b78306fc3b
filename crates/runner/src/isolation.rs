//! How a job is fenced in.
//!
//! `sandbox` (bubblewrap; see [`crate::sandbox`]): of this machine only what building needs, a user without rights, a network
//! of its own. `container` (podman): an image's files in place of the system's. `host`: ordinary processes of the runner's
//! user in the job's folder, which is no fence at all.

use crate::beneath::Owner;
use crate::config::Limits;
use crate::container::{self, Container};
use crate::folders::JobFolders;
use crate::limits::{Group, Groups};
use crate::netns::{Network, Spares};
use crate::paths::program;
use crate::sandbox::{At, JOB, Sandbox, as_jobs_user};
use crate::stage::Stage;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;

/// What runs a step that names no shell. The whole path: nothing has to be searched for it.
pub(crate) const SHELL: &str = "/bin/sh -eu";

/// What keeps jobs apart from the machine and from each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Isolation {
    Sandbox,
    Host,
    /// Images for jobs that name one; the others as in a sandbox, or where that does not work on the host.
    Container,
}

impl Isolation {
    /// As the configuration and the service write it.
    pub fn word(self) -> &'static str {
        match self {
            Isolation::Sandbox => "sandbox",
            Isolation::Host => "host",
            Isolation::Container => "container",
        }
    }

    /// Whether sandboxes can be made here; tries one.
    pub fn sandbox_works() -> bool {
        let owner = nix::unistd::geteuid().is_root().then_some(crate::stage::JOBS);
        let mut line = owner.map(crate::sandbox::becoming).unwrap_or_default();
        let bwrap = [
            "bwrap",
            "--unshare-user",
            "--unshare-pid",
            "--unshare-net",
            "--unshare-uts",
            "--hostname",
            "job",
            "--ro-bind",
            "/",
            "/",
            "--proc",
            "/proc",
            "--",
            "true",
        ];
        line.extend(bwrap.map(str::to_owned));
        let mut command = std::process::Command::new(&line[0]);
        command.args(&line[1..]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command.status().is_ok_and(|status| status.success())
    }

    /// Whether containers can be made here.
    pub fn container_works() -> bool {
        container::works()
    }
}

/// What all fences of a runner are made of.
pub(crate) struct Fences {
    pub(crate) isolation: Isolation,
    /// None where no sandbox can be made.
    pub(crate) sandboxes: Option<Arc<(Stage, Sandbox)>>,
    /// Whether a network of a job's own can lead outward.
    pub(crate) outward: bool,
    pub(crate) spares: Spares,
    pub(crate) groups: Groups,
    /// Which system calls containers may make.
    pub(crate) container_filter: PathBuf,
}

impl Fences {
    /// For a runner that makes none.
    pub(crate) fn none() -> Fences {
        Fences {
            isolation: Isolation::Host,
            sandboxes: None,
            outward: false,
            spares: Spares::default(),
            groups: Groups::default(),
            container_filter: PathBuf::new(),
        }
    }

    pub(crate) fn makes_containers(&self) -> bool {
        self.isolation == Isolation::Container
    }

    /// Whether jobs run on the machine as they are.
    pub(crate) fn makes_none(&self) -> bool {
        self.isolation == Isolation::Host
    }

    /// A short script, run as a job's would be, with these arguments.
    pub(crate) fn trial(&self, script: &str, arguments: &[String]) -> std::io::Result<tokio::process::Command> {
        let script = ["sh", "-c", script, "sh"].map(str::to_owned).into_iter().chain(arguments.iter().cloned());
        let Some((stage, sandbox)) = self.sandboxes.as_deref() else {
            let mut built = tokio::process::Command::new("sh");
            built.args(script.skip(1));
            return Ok(built);
        };
        let path = std::env::join_paths(crate::paths::paths()).map_err(std::io::Error::other)?;
        let place = stage.folder.join("trial");
        std::fs::create_dir_all(&place)?;
        let homes = crate::paths::tool_homes().into_iter();
        let env: Vec<(String, String)> = [("PATH".to_owned(), path.to_string_lossy().into_owned()), ("HOME".to_owned(), "/tmp".to_owned())]
            .into_iter()
            .chain(homes)
            .collect();
        let at = At { files: &place, tmp: &place, dir: Path::new("/tmp"), alone: true, machines_network: false };
        let mut line = as_jobs_user(stage);
        line.extend(sandbox.line(&at, false, &env)?);
        line.extend(script);
        let mut built = tokio::process::Command::new(&line[0]);
        built.args(&line[1..]);
        Ok(built)
    }

    /// Whom the files of jobs belong to; None: the runner's own user.
    pub(crate) fn owner(&self) -> Option<Owner> {
        self.sandboxes.as_ref().and_then(|made| made.0.owner)
    }

    /// What the fence consists of, for people: in `runner list` and when the runner starts.
    pub(crate) fn told(&self, limits: &Limits) -> String {
        let Some((stage, _)) = self.sandboxes.as_deref() else {
            return "none: jobs are processes of the runner's own user, who may do all that it may".to_owned();
        };
        let user =
            if stage.owner.is_some() { "jobs run as a user of their own" } else { "jobs run as the runner's user, without its rights" };
        let calls = if stage.filters.is_some() { "system calls are filtered" } else { "system calls are not filtered on this processor" };
        let network = if self.outward { "a network of their own" } else { "the machine's own network, for want of slirp4netns" };
        format!("{user}; the system is read-only and only what building needs of it is there; {calls}; {network}; {}", limits.told())
    }
}

/// What a job wants of its fence.
pub(crate) struct Wanted<'a> {
    pub(crate) fences: &'a Fences,
    pub(crate) image: Option<&'a str>,
    pub(crate) network: bool,
    /// Several processes share the job's network: helpers and steps.
    pub(crate) shared: bool,
    pub(crate) limits: &'a Limits,
    /// So much memory the job asked for.
    pub(crate) asked_mib: Option<u64>,
    /// It must not outlive the runner: then another job may get the turn.
    pub(crate) holds_turn: bool,
    /// Names the attempt.
    pub(crate) attempt: &'a str,
    /// Marks what belongs to this runner.
    pub(crate) mark: &'a str,
    pub(crate) slot: u32,
}

/// One job's fence: every command of it is made here. Open until [`Fence::close`].
pub(crate) struct Fence {
    kind: Kind,
    folders: JobFolders,
    inside: PathBuf,
    group: Group,
}

enum Kind {
    Host { dies_with_runner: bool },
    Sandbox { made: Arc<(Stage, Sandbox)>, network: Wire },
    Container(Container),
}

/// A sandbox's network.
enum Wire {
    /// Each command alone, with nothing but a loopback.
    Alone,
    /// One for all of the job's commands.
    Own(Box<Network>),
    Machines,
}

/// A variable that marks a job's processes is set by the fence, inside, so that the fence's own processes are not counted as the job's.
pub(crate) struct Inside<'a> {
    /// As it is called inside.
    pub(crate) dir: &'a Path,
    /// Program and arguments.
    pub(crate) command: &'a [String],
    pub(crate) env: &'a [(String, String)],
    /// Values that must not appear in an argument list, where every user of the machine could read them.
    pub(crate) secrets: &'a [(String, String)],
}

/// From where the runner looks whether something of a job answers.
pub(crate) enum Lookout<'a> {
    /// From where it stands.
    Here,
    /// From the network of this process.
    Within(i32),
    /// By a process that is sent there.
    Through(&'a Network),
}

impl Fence {
    /// Makes the fence, or says in a sentence why it cannot.
    pub(crate) async fn open(wanted: Wanted<'_>, folders: JobFolders) -> Result<Fence, String> {
        let Wanted { fences, image, network, shared, limits, asked_mib, holds_turn, attempt, mark, slot } = wanted;
        let group = fences.groups.open(mark, slot, limits, asked_mib);
        let memory_mib = limits.memory_mib.into_iter().chain(asked_mib).min();
        let limits = &Limits { memory_mib, ..*limits };
        let sandbox = fences.sandboxes.clone().filter(|_| fences.isolation != Isolation::Host);
        let kind = match (image, sandbox) {
            (Some(image), _) if fences.isolation == Isolation::Container => {
                Kind::Container(Container::open(image, attempt, mark, &folders, network, limits, &fences.container_filter).await?)
            }
            (Some(_), _) => return Err("the job runs in an image, and this runner makes no containers".into()),
            (None, Some(made)) => {
                let stage = &made.0;
                let network = match (network, shared) {
                    (true, _) if fences.outward => Wire::Own(Box::new(fences.spares.take(stage).await?)),
                    (true, _) => Wire::Machines,
                    (false, true) => Wire::Own(Box::new(Network::open(stage, false).await?)),
                    (false, false) => Wire::Alone,
                };
                Kind::Sandbox { made, network }
            }
            (None, None) if !network => {
                return Err("network = false needs a sandbox or a container, and this runner makes neither".into());
            }
            (None, None) => Kind::Host { dies_with_runner: holds_turn },
        };
        let inside = if matches!(kind, Kind::Host { .. }) { folders.files.clone() } else { PathBuf::from(JOB) };
        Ok(Fence { kind, folders, inside, group })
    }

    /// Whether jobs run on the machine without a fence.
    pub(crate) fn is_host(&self) -> bool {
        matches!(self.kind, Kind::Host { .. })
    }

    /// Whether the job has an image.
    pub(crate) fn is_container(&self) -> bool {
        matches!(self.kind, Kind::Container(_))
    }

    /// What the job's folder is called inside.
    pub(crate) fn files_inside(&self) -> &Path {
        &self.inside
    }

    /// The stage of sandboxes, where jobs run in one.
    pub(crate) fn stage(&self) -> Option<&Stage> {
        if let Kind::Sandbox { made, .. } = &self.kind { Some(&made.0) } else { None }
    }

    /// From where the job's own network is looked at.
    pub(crate) fn lookout(&self) -> Lookout<'_> {
        match &self.kind {
            Kind::Container(container) => Lookout::Within(container.pid()),
            Kind::Sandbox { network: Wire::Own(network), .. } => {
                network.open_to_runner().map_or(Lookout::Through(network), Lookout::Within)
            }
            _ => Lookout::Here,
        }
    }

    /// The memory that it may use, in MiB.
    pub(crate) fn memory_mib(&self) -> Option<u64> {
        self.group.memory_mib()
    }

    /// Whether the job used more memory than it may.
    pub(crate) fn out_of_memory(&self) -> bool {
        self.group.out_of_memory()
    }

    /// The process to start for a command, with nothing else in its environment.
    pub(crate) fn command(&self, inside: &Inside<'_>) -> std::io::Result<tokio::process::Command> {
        let filters = self.stage().and_then(|stage| stage.filters.as_ref());
        let mut line = self.group.wrapped(filters);
        let mut on_host: Option<&Path> = None;
        match &self.kind {
            Kind::Host { dies_with_runner } => {
                on_host = Some(inside.dir);
                match self.group.prelude().filter(|_| !dies_with_runner).and_then(|prelude| with_prelude(inside.command, &prelude)) {
                    Some(whole) => line = whole,
                    None if *dies_with_runner => line.extend(dying_with_runner().into_iter().chain(inside.command.iter().cloned())),
                    None => line.extend(inside.command.iter().cloned()),
                }
            }
            Kind::Sandbox { made, network } => {
                let (stage, sandbox) = &**made;
                if let Wire::Own(network) = network {
                    line.extend(network.entered());
                }
                line.extend(as_jobs_user(stage));
                let at = At {
                    files: &self.folders.files,
                    tmp: &self.folders.tmp,
                    dir: inside.dir,
                    alone: matches!(network, Wire::Alone),
                    machines_network: matches!(network, Wire::Machines),
                };
                line.extend(sandbox.line(&at, filters.is_some(), inside.env)?);
                line.extend(self.with_secrets(inside.secrets)?);
                line.extend(inside.command.iter().cloned());
            }
            Kind::Container(container) => {
                line.extend(container.entered(inside.dir, inside.env));
                line.extend(self.with_secrets(inside.secrets)?);
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

    /// A shell that takes secrets from a file which only this job can read, removes it, and becomes what follows.
    fn with_secrets(&self, secrets: &[(String, String)]) -> std::io::Result<Vec<String>> {
        use std::io::Write;
        use std::os::unix::fs::{OpenOptionsExt, fchown};
        if secrets.is_empty() {
            return Ok(Vec::new());
        }
        let name = format!(".secrets-{:016x}", rand::random::<u64>());
        let mut file = std::fs::OpenOptions::new().create_new(true).write(true).mode(0o600).open(self.folders.tmp.join(&name))?;
        for (name, value) in secrets {
            writeln!(file, "export {name}='{}'", value.replace('\'', "'\\''"))?;
        }
        if let Some(Owner { uid, gid }) = self.folders_owner() {
            fchown(&file, Some(uid), Some(gid))?;
        }
        let script = ". \"$0\"; rm -f \"$0\"; exec \"$@\"";
        Ok(["sh", "-c", script].map(str::to_owned).into_iter().chain([format!("/tmp/{name}")]).collect())
    }

    fn folders_owner(&self) -> Option<Owner> {
        match &self.kind {
            Kind::Sandbox { made, .. } => made.0.owner,
            Kind::Container(_) | Kind::Host { .. } => None,
        }
    }

    /// Whether the job had a network that leads outward, of which the next job wants another.
    pub(crate) fn used_outward(&self) -> bool {
        matches!(&self.kind, Kind::Sandbox { network: Wire::Own(network), .. } if network.is_outward())
    }

    /// Takes the fence down, with all that is left in it.
    pub(crate) async fn close(self) {
        if let Kind::Container(container) = self.kind {
            container.close().await;
        }
    }
}

/// An ordinary step whose own shell first puts itself under the limits: starting another shell for that takes as long as
/// starting the step. On the same line, so that the numbers of lines in messages stay. None where the shell is another.
fn with_prelude(command: &[String], prelude: &str) -> Option<Vec<String>> {
    let [shell, options, flag, run] = command else { return None };
    let usual = format!("{shell} {options}") == SHELL && flag == "-c";
    usual.then(|| vec![shell.clone(), options.clone(), flag.clone(), format!("{prelude}; {run}")])
}

/// A command that ends what follows when the runner dies, however it does: a process tree of its own where this may be
/// made, else at least the first process. A sandbox does the same by itself.
fn dying_with_runner() -> Vec<String> {
    let mut line = [&program("setpriv"), "--pdeathsig", "KILL", "--"].map(str::to_owned).to_vec();
    if nix::unistd::geteuid().is_root() {
        line.extend([&program("unshare"), "--pid", "--fork", "--kill-child", "--"].map(str::to_owned));
    }
    line
}
