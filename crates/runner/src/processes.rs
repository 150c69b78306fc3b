//! Ending all of a job's processes, wherever in the tree they went. A step has a process group; what left it is found
//! by a mark in the environment, which children inherit.

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use std::time::Duration;
use tokio::time::Instant;

/// The variable whose value marks a job's processes.
pub(crate) const MARK: &str = "ORDOTAXIS_LEASE";

/// How long a step may take to end after SIGTERM before it is killed.
pub(crate) const GRACE: Duration = Duration::from_secs(5);

/// Asks everything with this mark, and the group, to end.
pub(crate) fn ask_to_end(group: Pid, mark: &str, sandboxed: bool) {
    if !sandboxed {
        // In a sandbox the group's leader is the sandbox itself: its end would be everybody's at once.
        let _ = killpg(group, Signal::SIGTERM);
    }
    mark_to_end(mark);
}

/// Asks everything with this mark to end.
pub(crate) fn mark_to_end(mark: &str) {
    for process in marked(mark) {
        let _ = kill(process, Signal::SIGTERM);
    }
}

/// Kills the group at once; what has left it stays.
pub(crate) fn kill_group(group: Pid) {
    let _ = killpg(group, Signal::SIGKILL);
}

/// Kills the group and everything with this mark, and looks again until there is nothing more.
pub(crate) async fn kill_all(group: Pid, mark: &str) {
    kill_group(group);
    kill_marked(mark).await;
}

/// Kills all processes that have the mark in their environment, until none is left or the grace is over.
pub(crate) async fn kill_marked(mark: &str) {
    let until = Instant::now() + GRACE;
    loop {
        let left = marked(mark);
        if left.is_empty() || Instant::now() > until {
            return;
        }
        for process in left {
            let _ = kill(process, Signal::SIGKILL);
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// Processes with `MARK=mark…` in their environment, zombies left out.
fn marked(mark: &str) -> Vec<Pid> {
    let wanted = format!("{MARK}={mark}");
    let entries = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let process = |name: std::ffi::OsString| name.to_str()?.parse::<i32>().ok();
    let pids = entries.filter_map(|entry| process(entry.file_name()));
    pids.filter(|pid| has_variable(*pid, wanted.as_bytes())).map(Pid::from_raw).collect()
}

/// An empty environment belongs to a kernel thread or a process that has ended.
fn has_variable(pid: i32, wanted: &[u8]) -> bool {
    let environment = std::fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
    environment.split(|&byte| byte == 0).any(|variable| variable.starts_with(wanted))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::Command;

    #[tokio::test]
    async fn what_carries_the_mark_is_ended_and_nothing_else() {
        let mark = format!("test-{}", std::process::id());
        let mut ours = Command::new("setsid").args(["sleep", "60"]).env(MARK, format!("{mark}#1")).spawn().unwrap();
        let mut other = Command::new("sleep").arg("60").env(MARK, "another").spawn().unwrap();
        let until = Instant::now() + GRACE;
        while marked(&mark).is_empty() && Instant::now() < until {
            tokio::task::yield_now().await;
        }
        kill_marked(&format!("{mark}#")).await;
        assert!(ours.wait().unwrap().code().is_none(), "it was killed");
        assert!(other.try_wait().unwrap().is_none(), "the other goes on");
        other.kill().unwrap();
        other.wait().unwrap();
    }
}
