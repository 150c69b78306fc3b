//! Ending all of a job's processes, wherever in the tree they went. A step has a process group; what left it is found
//! by a mark in the environment, which children inherit.

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use procfs::ProcError;
use procfs::process::{Process, StatFlags};
use std::fs::File;
use std::io::{ErrorKind, Read};
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
    for process in marked(mark).ours {
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
        let found = marked(mark);
        if found.nothing_left() || Instant::now() > until {
            return;
        }
        for process in found.ours {
            let _ = kill(process, Signal::SIGKILL);
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// What one look at all processes found.
struct Found {
    ours: Vec<Pid>,
    /// Some process could not be told: it has to be looked at again before anybody says that nothing is left.
    unsure: bool,
}

impl Found {
    fn nothing_left(&self) -> bool {
        self.ours.is_empty() && !self.unsure
    }
}

/// Whose a process is, as far as one look can tell.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Seen {
    Ours,
    Other,
    /// It is just starting a program: the old environment is gone and the new one is not there yet.
    Unsure,
}

/// Looks for processes with `MARK=mark…` in their environment.
fn marked(mark: &str) -> Found {
    let wanted = format!("{MARK}={mark}");
    let entries = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let process = |name: std::ffi::OsString| name.to_str()?.parse::<i32>().ok();
    let mut found = Found { ours: Vec::new(), unsure: false };
    for process in entries.filter_map(|entry| process(entry.file_name())).map(Pid::from_raw) {
        match look(process, wanted.as_bytes()) {
            Seen::Ours => found.ours.push(process),
            Seen::Other => {}
            Seen::Unsure => found.unsure = true,
        }
    }
    found
}

/// Another user's process cannot be read and is none of ours.
fn look(process: Pid, wanted: &[u8]) -> Seen {
    match environment(process) {
        Ok(environment) if environment.is_empty() => without_environment(process),
        Ok(environment) if environment.split(|&byte| byte == 0).any(|variable| variable.starts_with(wanted)) => Seen::Ours,
        Err(error) if !is_gone(&error) && error.kind() != ErrorKind::PermissionDenied => Seen::Unsure,
        _ => Seen::Other,
    }
}

fn is_gone(error: &std::io::Error) -> bool {
    error.kind() == ErrorKind::NotFound || error.raw_os_error() == Some(nix::libc::ESRCH)
}

/// The whole environment, in one read: a process that starts another program between two reads ends what the first of
/// them began, as if there were no more.
fn environment(process: Pid) -> std::io::Result<Vec<u8>> {
    let mut buffer = vec![0; 16 << 10];
    loop {
        let length = File::open(format!("/proc/{process}/environ"))?.read(&mut buffer)?;
        if length < buffer.len() {
            buffer.truncate(length);
            return Ok(buffer);
        }
        buffer.resize(2 * length, 0);
    }
}

/// A thread of the kernel and what has ended have no environment, and a program may have been given an empty one. What
/// has none *yet* is not loaded: Linux says where its code is (`startcode` in proc(5)) after all else is in place.
fn without_environment(process: Pid) -> Seen {
    let stat = match Process::new(process.as_raw()).and_then(|process| process.stat()) {
        Ok(stat) => stat,
        Err(ProcError::NotFound(_) | ProcError::PermissionDenied(_)) => return Seen::Other,
        Err(_) => return Seen::Unsure,
    };
    let of_kernel = stat.flags & StatFlags::PF_KTHREAD.bits() != 0;
    let ended = matches!(stat.state, 'Z' | 'X');
    let given_none = stat.startcode != 0 && stat.env_start == stat.env_end;
    if of_kernel || ended || given_none { Seen::Other } else { Seen::Unsure }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;
    use std::process::{Child, Command};

    /// How long a test waits for what should come at once.
    const PATIENCE: Duration = Duration::from_secs(30);

    /// Whether the process ended; it is ended here when it goes on past all patience.
    fn ends(child: &mut Child) -> bool {
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            if child.try_wait().unwrap().is_some() {
                return true;
            }
            std::thread::yield_now();
        }
        child.kill().unwrap();
        child.wait().unwrap();
        false
    }

    #[tokio::test]
    async fn what_is_just_starting_a_program_is_ended_too() {
        let folder = tempfile::tempdir().unwrap();
        // A program that does nothing but start itself in its own place: at any moment it may have no environment yet.
        let again = folder.path().join("again");
        std::fs::write(&again, "#!/bin/sh\nexec \"$0\"\n").unwrap();
        std::fs::set_permissions(&again, std::fs::Permissions::from_mode(0o755)).unwrap();
        let mark = format!("starting-{}", std::process::id());
        for turn in 0..100 {
            let mut ours = Command::new("sh").arg(&again).env(MARK, format!("{mark}#{turn}")).spawn().unwrap();
            kill_marked(&format!("{mark}#{turn}")).await;
            assert!(ends(&mut ours), "it goes on after look {turn}");
        }
    }

    #[test]
    fn a_program_without_an_environment_holds_nothing_up() {
        let mut bare = Command::new("sleep").arg("60").env_clear().spawn().unwrap();
        let pid = Pid::from_raw(i32::try_from(bare.id()).unwrap());
        assert_eq!(sure(pid), Seen::Other);
        assert_eq!(sure(Pid::from_raw(2)), Seen::Other, "a thread of the kernel has none");
        bare.kill().unwrap();
        assert_eq!(sure(pid), Seen::Other, "and what has ended has none");
        bare.wait().unwrap();
    }

    /// What is seen of a process as soon as it can be told.
    fn sure(process: Pid) -> Seen {
        let until = Instant::now() + PATIENCE;
        loop {
            match look(process, b"ORDOTAXIS_LEASE=") {
                Seen::Unsure if Instant::now() < until => std::thread::yield_now(),
                seen => return seen,
            }
        }
    }

    #[tokio::test]
    async fn what_carries_the_mark_is_ended_and_nothing_else() {
        let mark = format!("test-{}", std::process::id());
        let mut ours = Command::new("setsid").args(["sleep", "60"]).env(MARK, format!("{mark}#1")).spawn().unwrap();
        let mut other = Command::new("sleep").arg("60").env(MARK, "another").spawn().unwrap();
        kill_marked(&format!("{mark}#")).await;
        assert!(ends(&mut ours), "it was killed");
        assert!(other.try_wait().unwrap().is_none(), "the other goes on");
        other.kill().unwrap();
        other.wait().unwrap();
    }
}
