//! A process under test, with its output in a file. It is killed when the value is dropped.

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

/// A child process whose output goes to a file. It is killed when this is dropped.
pub struct Process {
    child: Child,
    said: PathBuf,
}

impl Process {
    /// Starts a command and waits until its output holds `ready`.
    pub fn start(command: &mut Command, folder: &Path, name: &str, ready: &str) -> Process {
        let said = folder.join(format!("{name}.out"));
        let file = File::create(&said).expect("the output file");
        let errors = file.try_clone().expect("the output file");
        let child = command.stdin(Stdio::null()).stdout(file).stderr(errors).spawn().expect("the process starts");
        let mut process = Process { child, said };
        let end = Instant::now() + crate::wait::PATIENCE;
        while !process.said().contains(ready) {
            let ended = process.child.try_wait().expect("its state");
            assert!(ended.is_none() && Instant::now() < end, "{name} did not come up ({ended:?}): {}", process.said());
            std::thread::sleep(Duration::from_millis(10));
        }
        process
    }

    /// One that prints where its command says, or nowhere.
    pub fn of(command: &mut Command) -> Process {
        Process { child: command.spawn().expect("the process starts"), said: PathBuf::new() }
    }

    /// Everything it has printed.
    pub fn said(&self) -> String {
        std::fs::read_to_string(&self.said).unwrap_or_default()
    }

    /// The system's number of the process.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Sends a signal; one that has ended already is left alone.
    pub fn signal(&self, signal: Signal) {
        let _ = kill(Pid::from_raw(i32::try_from(self.child.id()).expect("a process id")), signal);
    }

    /// SIGKILL, and waits until it is gone.
    pub fn kill(mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Waits for its end.
    pub fn ended(&mut self, within: Duration) -> Option<ExitStatus> {
        let end = Instant::now() + within;
        while Instant::now() < end {
            if let Ok(Some(status)) = self.child.try_wait() {
                return Some(status);
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        None
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
