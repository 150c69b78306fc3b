//! Runs a program with some input for a while, and reads so much of what it prints.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::process::Command;

/// The most that is read of an answer.
const ANSWER: u64 = 4 * 1024 * 1024;
/// And of what it complains of.
const COMPLAINT: u64 = 16 * 1024;

/// What came of a program.
pub(super) struct Ran {
    pub(super) good: bool,
    pub(super) output: Vec<u8>,
    /// The last line that it complained with.
    pub(super) complaint: String,
}

/// A program with nothing of the service's own environment but where programs are found, and what the caller adds.
pub(super) fn program(path: &Path) -> Command {
    let mut command = Command::new(path);
    command.env_clear();
    for name in ["PATH", "HOME", "USER", "LANG", "SLURM_CONF"] {
        command.envs(std::env::var_os(name).map(|value| (name, value)));
    }
    command
}

/// Runs it, with a limit of time; it is killed with all that it started when that is over, or when nobody waits for it any more. An
/// error is a sentence.
pub(super) async fn run(mut command: Command, input: &[u8], limit: Duration) -> Result<Ran, String> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0).kill_on_drop(true);
    let mut child = command.spawn().map_err(|error| format!("it could not be started: {error}"))?;
    let group = Group(child.id());
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let write = async {
        if let Some(mut stdin) = stdin {
            // One that does not read its question answers it all the same.
            let _ = stdin.write_all(input).await;
        }
    };
    let whole = async {
        let (mut output, mut complaint) = (Vec::new(), Vec::new());
        let read = async {
            if let Some(stdout) = stdout {
                let _ = stdout.take(ANSWER + 1).read_to_end(&mut output).await;
            }
        };
        let complain = async {
            if let Some(stderr) = stderr {
                let _ = stderr.take(COMPLAINT).read_to_end(&mut complaint).await;
            }
        };
        tokio::join!(write, read, complain);
        let status = child.wait().await;
        (status, output, complaint)
    };
    let (status, output, complaint) =
        tokio::time::timeout(limit, whole).await.map_err(|_| format!("it did not answer within {} s", limit.as_secs()))?;
    drop(group);
    if output.len() as u64 > ANSWER {
        return Err(format!("it answered more than {} MiB", ANSWER >> 20));
    }
    let status = status.map_err(|error| format!("its end could not be waited for: {error}"))?;
    let text = String::from_utf8_lossy(&complaint);
    let last = text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default().trim().to_owned();
    let complaint = if last.is_empty() { format!("it ended with {status}") } else { last };
    Ok(Ran { good: status.success(), output, complaint })
}

/// Ends what a program left running.
struct Group(Option<u32>);

impl Drop for Group {
    fn drop(&mut self) {
        if let Some(pid) = self.0.and_then(|pid| i32::try_from(pid).ok()).filter(|pid| *pid > 1) {
            let _ = nix::sys::signal::killpg(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGKILL);
        }
    }
}
