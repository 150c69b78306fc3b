//! Containers, made with podman's command line. One for each job: it does nothing by itself, and every step, helper and
//! readiness command is run in it. What a step changes outside the job's folder stays for the next step and no longer.

use crate::config::Limits;
use crate::folders::JobFolders;
use crate::sandbox::JOB;
use nix::sys::resource::{Resource, getrlimit};
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

/// How long an image may take to be fetched and the container to be there.
const START: Duration = Duration::from_secs(600);
/// Where a job finds the runner's own binary, for `ordotaxis share`.
const BINARY: &str = "/usr/local/bin/ordotaxis";

/// What root inside needs to install packages into the container's own files. Nothing of it reaches out.
const CAPABILITIES: &str = "CHOWN,DAC_OVERRIDE,FOWNER,SETUID,SETGID,KILL";

/// A job's container; removed with [`Container::close`], and at the latest when the runner restarts.
pub(crate) struct Container {
    name: String,
    /// Its first process, as seen from here.
    pid: i32,
}

/// Options that come before the verb. With the old control groups podman's defaults do not work.
fn general() -> Vec<String> {
    let unified = Path::new("/sys/fs/cgroup/cgroup.controllers").exists();
    let old = ["--runtime", "runc", "--cgroup-manager", "cgroupfs"];
    if unified { Vec::new() } else { old.map(str::to_owned).to_vec() }
}

fn podman() -> tokio::process::Command {
    let mut command = tokio::process::Command::new("podman");
    command.args(general()).stdin(Stdio::null()).kill_on_drop(true);
    command
}

/// Whether podman is there and answers.
pub(crate) fn works() -> bool {
    let mut command = std::process::Command::new("podman");
    command.args(general()).args(["info", "--format", "ok"]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.status().is_ok_and(|status| status.success())
}

/// Removes what an earlier life of this runner left.
pub(crate) async fn remove_all(mark: &str) {
    let label = format!("label=ordotaxis={mark}");
    let listed = podman().args(["ps", "--all", "--quiet", "--filter", &label]).stderr(Stdio::null()).output().await;
    let ids: Vec<String> =
        listed.map(|output| String::from_utf8_lossy(&output.stdout).split_whitespace().map(str::to_owned).collect()).unwrap_or_default();
    if !ids.is_empty() {
        let _ = podman().args(["rm", "--force", "--time", "0"]).args(ids).output().await;
    }
}

/// What this process has itself, within what podman leaves itself: its own wish for the container can be more than is
/// allowed here, and then nothing starts.
fn limit_of(resource: Resource, most: u64) -> u64 {
    getrlimit(resource).map_or(1024, |(soft, _)| soft.min(most))
}

impl Container {
    /// Starts the container that a job's steps run in; it waits until they come.
    pub(crate) async fn open(
        image: &str,
        attempt: &str,
        mark: &str,
        folders: &JobFolders,
        network: bool,
        limits: &Limits,
        filter: &Path,
    ) -> Result<Container, String> {
        let name = format!("ordotaxis-{attempt}-{:08x}", rand::random::<u32>());
        let volume = |from: &Path, to: &str| format!("{}:{to}:rw", from.display());
        let (open_files, processes) = (limit_of(Resource::RLIMIT_NOFILE, 1 << 16), limit_of(Resource::RLIMIT_NPROC, 1 << 15));
        let mut command = podman();
        command.args(["run", "--detach", "--rm", "--name", &name, "--label", &format!("ordotaxis={mark}")]);
        // Not the machine's own: its loopback and abstract sockets are nothing for a job.
        command.args(["--network", if network { "slirp4netns:allow_host_loopback=false" } else { "none" }]);
        command.args(["--volume", &volume(&folders.files, JOB), "--volume", &volume(&folders.tmp, "/tmp")]);
        command.args(["--ulimit", &format!("nofile={open_files}:{open_files}"), "--ulimit", &format!("nproc={processes}:{processes}")]);
        command.args(["--security-opt", &format!("seccomp={}", filter.display())]);
        command.args(["--security-opt", "no-new-privileges", "--cap-drop", "ALL", "--cap-add", CAPABILITIES]);
        if let Ok(own) = crate::own::program() {
            command.args(["--volume", &format!("{}:{BINARY}:ro", own.display())]);
        }
        if let Some(mib) = limits.memory_mib {
            command.args(["--memory", &format!("{mib}m"), "--memory-swap", &format!("{mib}m")]);
        }
        command.args(["--pids-limit", &limits.processes.unwrap_or(4096).to_string()]);
        // A name that begins with `-` would be read as an option.
        command.args(["--entrypoint", "[\"sh\", \"-c\", \"while :; do sleep 3600; done\"]", "--"]).arg(image);
        let failed = |why: String| format!("the image {image} could not be run: {why}");
        let output = tokio::time::timeout(START, command.output()).await;
        let output = output.map_err(|_| failed("it took too long".into()))?.map_err(|error| failed(error.to_string()))?;
        if !output.status.success() {
            let said = String::from_utf8_lossy(&output.stderr);
            return Err(failed(said.trim().lines().last().unwrap_or("podman says nothing").to_owned()));
        }
        let inspect = podman().args(["inspect", "--format", "{{.State.Pid}}", &name]).output().await;
        let pid = inspect.ok().and_then(|output| String::from_utf8_lossy(&output.stdout).trim().parse().ok());
        match pid {
            Some(pid) => {
                let container = Container { name, pid };
                if network {
                    crate::netns::shut_link_local(pid).await;
                }
                Ok(container)
            }
            None => {
                Container { name, pid: 0 }.close().await;
                Err(failed("it ended at once; it must have `sh` and `sleep`".into()))
            }
        }
    }

    /// The process that holds the container's name spaces.
    pub(crate) fn pid(&self) -> i32 {
        self.pid
    }

    /// A command that runs what follows in the container.
    pub(crate) fn entered(&self, dir: &Path, env: &[(String, String)]) -> Vec<String> {
        let mut args = vec!["podman".to_owned()];
        args.extend(general());
        args.extend(["exec".to_owned(), "--workdir".to_owned(), dir.display().to_string()]);
        args.extend(env.iter().flat_map(|(name, value)| ["--env".to_owned(), format!("{name}={value}")]));
        args.push(self.name.clone());
        args
    }

    /// Removes it with all that runs in it.
    pub(crate) async fn close(self) {
        let _ = podman().args(["rm", "--force", "--time", "0", &self.name]).stderr(Stdio::null()).output().await;
    }
}
