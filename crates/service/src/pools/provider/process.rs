//! Machines that are processes of the service's own machine. Each has a folder of its own, with the process that it is: its
//! number, and when it began, so that another process that has the number later is not taken for it.

use super::asked::{Failed, Wanted, tail};
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use ordotaxis_core::pool::Listed;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

/// In a machine's folder: the process that it is, what it wrote, and its runner's own folder.
const PROCESS: &str = "process";
const CONSOLE: &str = "console";
const RUNNER: &str = "runner";

/// How long a machine has to end its jobs when it is removed, and how often that is looked at.
const GRACE: Duration = Duration::from_secs(3);
const LOOK: Duration = Duration::from_millis(20);

/// One pool's processes.
pub(crate) struct Processes {
    folder: PathBuf,
}

/// What tells a process from every other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Process {
    pid: i32,
    /// When it began, as the kernel counts.
    began: u64,
}

impl Processes {
    pub(super) fn new(folder: PathBuf) -> Processes {
        Processes { folder }
    }

    pub(super) async fn make(&self, wanted: &Wanted<'_>) -> Result<String, Failed> {
        let folder = self.folder.join(wanted.id);
        if Process::read(&folder).is_some() {
            return Ok("it is there already".into());
        }
        self.start(&folder, wanted).map(|process| format!("process {}", process.pid)).map_err(|error| {
            let _ = std::fs::remove_dir_all(&folder);
            Failed::Refused(format!("no process could be started: {error}"))
        })
    }

    fn start(&self, folder: &Path, wanted: &Wanted<'_>) -> io::Result<Process> {
        std::fs::create_dir_all(folder)?;
        let console = std::fs::File::create(folder.join(CONSOLE))?;
        // Where it was replaced since, the program that runs is started all the same: its machines speak as it does.
        let own = Some(std::env::current_exe()?).filter(|own| own.exists()).unwrap_or_else(|| "/proc/self/exe".into());
        let mut command = tokio::process::Command::new(own);
        command.arg0("ordotaxis");
        command.args(["runner", "join", "--dir"]).arg(folder.join(RUNNER));
        command.env_clear();
        for name in ["PATH", "HOME", "USER", "LANG", "TMPDIR", "RUST_LOG"] {
            command.envs(std::env::var_os(name).map(|value| (name, value)));
        }
        // Not in an argument, which everybody on the machine can read.
        command.env("ORDOTAXIS_URL", wanted.url).env("ORDOTAXIS_MACHINE", wanted.id);
        command.env("ORDOTAXIS_INVITATION", wanted.invitation.expose());
        command.stdin(Stdio::null()).stdout(console.try_clone()?).stderr(console);
        // A signal to the service's own group is none to its machines.
        command.process_group(0);
        let mut child = command.spawn()?;
        let pid = child.id().and_then(|pid| i32::try_from(pid).ok()).unwrap_or(i32::MAX);
        let process = Process { pid, began: began(pid).unwrap_or(0) };
        std::fs::write(folder.join(PROCESS), format!("{} {}", process.pid, process.began))?;
        // It is waited for, so that nothing of it stays when it ends.
        tokio::spawn(async move { child.wait().await });
        Ok(process)
    }

    pub(super) async fn list(&self) -> Result<Vec<Listed>, String> {
        let entries = match std::fs::read_dir(&self.folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(format!("{} could not be read: {error}", self.folder.display())),
        };
        let listed = |entry: io::Result<std::fs::DirEntry>| {
            let entry = entry.ok()?;
            let process = Process::read(&entry.path())?;
            let ended = !process.is_there();
            let words = if ended { format!("process {} has ended", process.pid) } else { format!("process {}", process.pid) };
            Some(Listed { name: entry.file_name().into_string().ok()?, ended, words })
        };
        Ok(entries.filter_map(listed).collect())
    }

    /// Asks it to end; then ends it, with all that it started.
    pub(super) async fn remove(&self, name: &str) -> Result<(), String> {
        let folder = self.folder.join(name);
        if let Some(process) = Process::read(&folder) {
            // The second signal says that it is not to finish its jobs.
            process.signal(Signal::SIGTERM);
            tokio::time::sleep(LOOK).await;
            process.signal(Signal::SIGTERM);
            let ended = async {
                while process.is_there() {
                    tokio::time::sleep(LOOK).await;
                }
            };
            if tokio::time::timeout(GRACE, ended).await.is_err() {
                process.signal(Signal::SIGKILL);
                tokio::time::sleep(LOOK).await;
            }
            if process.is_there() {
                return Err(format!("process {} does not end", process.pid));
            }
        }
        match tokio::task::spawn_blocking(move || std::fs::remove_dir_all(folder)).await {
            Ok(Err(error)) if error.kind() != io::ErrorKind::NotFound => Err(format!("its folder could not be removed: {error}")),
            _ => Ok(()),
        }
    }

    pub(super) async fn console(&self, name: &str) -> Result<String, String> {
        tail(&self.folder.join(name).join(CONSOLE)).await
    }
}

impl Process {
    /// The process of a machine's folder; none where nothing was started in it.
    fn read(folder: &Path) -> Option<Process> {
        let text = std::fs::read_to_string(folder.join(PROCESS)).ok()?;
        let (pid, began) = text.split_once(' ')?;
        Some(Process { pid: pid.parse().ok().filter(|pid| *pid > 1)?, began: began.parse().ok()? })
    }

    fn is_there(self) -> bool {
        began(self.pid) == Some(self.began)
    }

    fn signal(self, signal: Signal) {
        if self.is_there() {
            let _ = killpg(Pid::from_raw(self.pid), signal);
        }
    }
}

/// When a process began, in the kernel's ticks since the machine started (field 22 of `/proc/PID/stat`, proc(5)); none for one that
/// is not there, or has ended and is only waited for.
fn began(pid: i32) -> Option<u64> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The second field is a name in brackets, which may hold anything.
    let mut rest = stat.rsplit_once(") ")?.1.split_whitespace();
    let state = rest.next()?;
    if matches!(state, "Z" | "X") { None } else { rest.nth(18)?.parse().ok() }
}
