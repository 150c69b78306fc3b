//! A network that a job has for itself: all its processes share it, and the runner can look into it to see whether a helper
//! is ready.
//!
//! A closed one has nothing but its own loopback. One that leads outward is served by a small network in user space
//! (slirp4netns): the job reaches other machines as the runner could, but not the machine's own loopback, not its abstract
//! sockets, and no link-local address, where clouds hand out credentials. The job has no rights over either.

use crate::sandbox::as_jobs_user;
use crate::stage::{INSIDE, Stage};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::process::{Child, Command};

/// How long one of the programs may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// Link-local addresses (RFC 3927).
const LINK_LOCAL: &str = "169.254.0.0/16";

/// Ends when dropped.
pub(crate) struct Network {
    /// A process that does nothing but hold the network open.
    holder: Child,
    /// Carries what goes outward.
    carrier: Option<Child>,
    /// The process whose network it is.
    pid: i32,
    /// The runner may enter it as it is; an ordinary user must enter its user name space as well.
    root: bool,
}

fn failed(why: impl std::fmt::Display) -> String {
    format!("a network of its own could not be made for the job: {why}")
}

impl Network {
    /// Whether networks that lead outward can be made here.
    pub(crate) fn leads_outward() -> bool {
        let works = |program: &str, argument: &str| {
            let mut command = std::process::Command::new(program);
            command.arg(argument).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            command.status().is_ok_and(|status| status.success())
        };
        let device = std::fs::File::options().read(true).write(true).open("/dev/net/tun").is_ok();
        device && works("slirp4netns", "--version") && works("ip", "-V")
    }

    /// Makes a network name space; `outward` lets it reach other machines.
    pub(crate) async fn open(stage: &Stage, outward: bool) -> Result<Network, String> {
        let user = INSIDE.to_string();
        // What bubblewrap says of it goes another way than the sign of the process within, for it closes that way.
        let mut line = ["sh", "-c", "exec 3>&1; exec \"$@\"", "sh"].map(str::to_owned).to_vec();
        line.extend(as_jobs_user(stage));
        line.extend(["bwrap", "--unshare-user", "--uid", &user, "--gid", &user, "--unshare-net", "--cap-drop", "ALL"].map(str::to_owned));
        line.extend(crate::sandbox::bare());
        line.extend(["--die-with-parent", "--info-fd", "3", "--", "sh", "-c", "echo !; exec sleep infinity"].map(str::to_owned));
        let mut command = Command::new(&line[0]);
        command.args(&line[1..]).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).kill_on_drop(true);
        let mut holder = command.spawn().map_err(failed)?;
        // Its sign comes when all is set up: before that, two would set up the loopback at the same time.
        let said = until_said(&mut holder, b'!').await?;
        let said = said.split(|byte| *byte == b'!').next().unwrap_or_default();
        let said: serde_json::Value = serde_json::from_slice(said).unwrap_or_default();
        let pid = said["child-pid"].as_i64().and_then(|pid| i32::try_from(pid).ok());
        let pid = pid.ok_or_else(|| failed("bubblewrap did not say which process holds it"))?;
        let mut network = Network { holder, carrier: None, pid, root: stage.owner.is_some() };
        if outward {
            network.lead_outward().await?;
        }
        Ok(network)
    }

    async fn lead_outward(&mut self) -> Result<(), String> {
        // Its own words would stand between us and the sign that it is ready.
        let script = "exec 3>&1 1>/dev/null 2>&1; exec setpriv --pdeathsig KILL -- slirp4netns --configure --mtu=65520 \
                      --disable-host-loopback --enable-sandbox --enable-seccomp --ready-fd=3 \"$0\" tap0";
        let mut command = Command::new("sh");
        command.args(["-c", script, &self.pid.to_string()]).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut carrier = command.kill_on_drop(true).spawn().map_err(failed)?;
        let ready = until_said(&mut carrier, b'1').await;
        self.carrier = Some(carrier);
        ready.map_err(|_| failed("slirp4netns did not come up"))?;
        let mut line = self.entered();
        line.extend(["ip", "route", "add", "unreachable", LINK_LOCAL].map(str::to_owned));
        let mut command = Command::new(&line[0]);
        command.args(&line[1..]).stdin(Stdio::null()).kill_on_drop(true);
        let done = tokio::time::timeout(PATIENCE, command.output()).await.map_err(failed)?.map_err(failed)?;
        let said = String::from_utf8_lossy(&done.stderr);
        if done.status.success() { Ok(()) } else { Err(failed(format!("{LINK_LOCAL} could not be shut: {}", said.trim()))) }
    }

    /// Whether other machines can be reached from it.
    pub(crate) fn is_outward(&self) -> bool {
        self.carrier.is_some()
    }

    /// Whether all that belongs to it still runs.
    pub(crate) fn lives(&mut self) -> bool {
        let runs = |child: &mut Child| matches!(child.try_wait(), Ok(None));
        runs(&mut self.holder) && self.carrier.as_mut().is_none_or(runs)
    }

    /// A command that enters this network and then becomes what follows.
    pub(crate) fn entered(&self) -> Vec<String> {
        let mut line = vec!["nsenter".to_owned()];
        if !self.root {
            line.extend([format!("--user=/proc/{}/ns/user", self.pid), "--preserve-credentials".to_owned()]);
        }
        line.extend([format!("--net=/proc/{}/ns/net", self.pid), "--".to_owned()]);
        line
    }

    /// The process whose network the runner may enter by itself; None where it must send another process.
    pub(crate) fn open_to_runner(&self) -> Option<i32> {
        self.root.then_some(self.pid)
    }
}

/// Shuts link-local addresses in the network of a container, as far as the runner may: an ordinary user's podman keeps its
/// networks to itself.
pub(crate) async fn shut_link_local(pid: i32) {
    let mut command = Command::new("nsenter");
    command.args([format!("--net=/proc/{pid}/ns/net").as_str(), "--", "ip", "route", "add", "unreachable", LINK_LOCAL]);
    let done = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true).status().await;
    if !done.is_ok_and(|status| status.success()) {
        tracing::warn!("link-local addresses could not be shut in a container's network");
    }
}

/// Reads what a process prints until it has said this.
async fn until_said(child: &mut Child, end: u8) -> Result<Vec<u8>, String> {
    let mut said = child.stdout.take().ok_or_else(|| failed("nothing can be heard of it"))?;
    let mut text = Vec::new();
    let whole = async {
        while !text.contains(&end) {
            match said.read_buf(&mut text).await {
                Ok(0) => return Err(failed("it ended at once")),
                Ok(_) => {}
                Err(error) => return Err(failed(error)),
            }
        }
        Ok(())
    };
    tokio::time::timeout(PATIENCE, whole).await.map_err(|_| failed("there was no answer"))??;
    Ok(text)
}

/// Networks that were made before they are wanted: making one takes longer than everything else of a fence.
#[derive(Default)]
pub(crate) struct Spares(Mutex<Vec<Network>>);

impl Spares {
    /// One that leads outward, for one job: no network is ever given to a second.
    pub(crate) async fn take(&self, stage: &Stage) -> Result<Network, String> {
        let spare = {
            let mut spares = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            spares.retain_mut(Network::lives);
            spares.pop()
        };
        match spare {
            Some(network) => Ok(network),
            None => Network::open(stage, true).await,
        }
    }

    /// Makes one for the next job, up to so many.
    pub(crate) async fn refill(&self, stage: &Stage, most: usize) {
        if self.0.lock().unwrap_or_else(PoisonError::into_inner).len() >= most {
            return;
        }
        match Network::open(stage, true).await {
            Ok(network) => self.0.lock().unwrap_or_else(PoisonError::into_inner).push(network),
            Err(why) => tracing::warn!(why, "no network could be made ahead"),
        }
    }
}

/// Runs something on a thread that is in the network of this process.
pub(crate) async fn within<T: Send + 'static>(
    pid: i32,
    work: impl FnOnce(&tokio::runtime::Runtime) -> T + Send + 'static,
) -> Result<T, String> {
    let (sender, answer) = tokio::sync::oneshot::channel();
    std::thread::spawn(move || {
        let run = || {
            let path = PathBuf::from(format!("/proc/{pid}/ns/net"));
            let file = std::fs::File::open(path).map_err(|error| error.to_string())?;
            nix::sched::setns(file, nix::sched::CloneFlags::CLONE_NEWNET).map_err(|error| error.to_string())?;
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(|error| error.to_string())?;
            Ok(work(&runtime))
        };
        drop(sender.send(run()));
    });
    answer.await.map_err(|error| error.to_string())?
}
