//! One step: its own process group, its output into the log, ended whole when its time is up or someone asks.

use crate::isolation::{Fence, Inside};
use crate::log_pipe::log_pipe;
use crate::processes::{GRACE, ask_to_end, kill_all, kill_group};
use crate::ship::LogWriter;
use nix::unistd::Pid;
use std::process::ExitStatus;
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::net::unix::pipe::Receiver;
use tokio::sync::watch;
use tokio::time::{Instant, sleep_until, timeout};

/// How much is read from a step at once.
const READ: usize = 256 * 1024;
/// How long after a step's end its output is still read, should something it left behind hold the pipe open.
const DRAIN: Duration = Duration::from_millis(500);

/// Why work on an attempt should end early.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Halt {
    No,
    /// Someone asked to stop it: end it, and say so.
    Stop,
    /// It was given up: end it, and say nothing more.
    Abandon,
    /// Its machine is about to be taken away: what was done is saved, and the attempt is lost.
    TakenAway,
    /// The runner itself ends it; the reason is kept with the job.
    Cut,
}

/// How a step's process ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StepEnd {
    Exited(i32),
    Signalled(i32),
    TimedOut,
    Halted,
    NotStarted(String),
}

/// A process to run, where, and until when.
pub(crate) struct StepCall<'a> {
    pub(crate) fence: &'a Fence,
    pub(crate) inside: Inside<'a>,
    pub(crate) mark: &'a str,
    pub(crate) until: Option<Instant>,
}

/// Runs a process to its end and sends what it prints to the log. All that it started ends with it.
pub(crate) async fn run_step(call: StepCall<'_>, log: &mut LogWriter, halt: &mut watch::Receiver<Halt>) -> StepEnd {
    let pipe = match log_pipe() {
        Ok(pipe) => pipe,
        Err(error) => return StepEnd::NotStarted(format!("no pipe could be made: {error}")),
    };
    let mut child = {
        // The command holds the pipe's writing end: it must be gone for the reading end to see the end.
        let mut built = match call.fence.command(&call.inside) {
            Ok(built) => built,
            Err(error) => return StepEnd::NotStarted(format!("it could not be made ready: {error}")),
        };
        built.stdout(pipe.output).stderr(pipe.errors).kill_on_drop(true);
        match built.spawn() {
            Ok(child) => child,
            Err(error) => return StepEnd::NotStarted(format!("`{}` could not be started: {error}", call.inside.command[0])),
        }
    };
    let group = Pid::from_raw(child.id().and_then(|id| i32::try_from(id).ok()).unwrap_or(i32::MAX));
    let mut running = Running { call: &call, group, end: None, kill_at: None, output: Some(pipe.receiver) };
    let status = loop {
        let (deadline, asked) = (running.deadline(), running.end.is_some());
        tokio::select! {
            status = child.wait() => break status,
            bytes = read(&mut running.output) => running.took(bytes, log).await,
            () = until(deadline) => running.time_is_up().await,
            halted = halted(halt, asked) => match halted {
                // Whoever has it now must find nothing of this one.
                Halt::Abandon => running.abandon().await,
                _ => running.ask(StepEnd::Halted),
            },
        }
    };
    running.wind_up(log).await;
    running.end.unwrap_or_else(|| ended(status))
}

struct Running<'a> {
    call: &'a StepCall<'a>,
    group: Pid,
    /// Why it is being ended, once it is.
    end: Option<StepEnd>,
    kill_at: Option<Instant>,
    /// None once it is at its end.
    output: Option<Receiver>,
}

impl Running<'_> {
    fn deadline(&self) -> Option<Instant> {
        self.kill_at.or(self.call.until)
    }

    async fn took(&mut self, bytes: Option<Vec<u8>>, log: &mut LogWriter) {
        match bytes {
            Some(bytes) => log.write(bytes).await,
            None => self.output = None,
        }
    }

    async fn time_is_up(&mut self) {
        if self.kill_at.is_some() {
            kill_all(self.group, self.call.mark).await;
            self.kill_at = Some(Instant::now() + GRACE);
        } else {
            self.ask(StepEnd::TimedOut);
        }
    }

    fn ask(&mut self, end: StepEnd) {
        self.end = Some(end);
        self.kill_at = Some(Instant::now() + GRACE);
        ask_to_end(self.group, self.call.mark, !self.call.fence.is_host());
    }

    async fn abandon(&mut self) {
        self.end = Some(StepEnd::Halted);
        self.kill_at = Some(Instant::now() + GRACE);
        kill_all(self.group, self.call.mark).await;
    }

    /// Ends what the step left running, and reads what it had still written.
    async fn wind_up(&mut self, log: &mut LogWriter) {
        if self.end.is_some() {
            kill_all(self.group, self.call.mark).await;
        } else {
            kill_group(self.group);
        }
        let rest = async {
            while self.output.is_some() {
                let bytes = read(&mut self.output).await;
                self.took(bytes, log).await;
            }
        };
        let _ = timeout(DRAIN, rest).await;
    }
}

/// The next bytes; none at the end. Never resolves once the end was seen.
async fn read(output: &mut Option<Receiver>) -> Option<Vec<u8>> {
    let Some(output) = output else { return std::future::pending().await };
    let mut bytes = Vec::with_capacity(READ);
    match output.read_buf(&mut bytes).await {
        Ok(count) if count > 0 => Some(bytes),
        _ => None,
    }
}

async fn until(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline).await,
        None => std::future::pending().await,
    }
}

async fn halted(halt: &mut watch::Receiver<Halt>, already: bool) -> Halt {
    if !already && let Ok(halt) = halt.wait_for(|halt| *halt != Halt::No).await {
        return *halt;
    }
    std::future::pending().await
}

fn ended(status: std::io::Result<ExitStatus>) -> StepEnd {
    use std::os::unix::process::ExitStatusExt;
    match status {
        Ok(status) => match (status.code(), status.signal()) {
            (Some(code), _) => StepEnd::Exited(code),
            (None, signal) => StepEnd::Signalled(signal.unwrap_or(0)),
        },
        Err(error) => StepEnd::NotStarted(format!("its end could not be waited for: {error}")),
    }
}
