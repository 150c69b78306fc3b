//! Helper processes of a job: started one after the other before its steps, each waited for until it is ready, watched
//! while the steps run, and ended in reverse order. Each has a log of its own.

use crate::isolation::{Fence, Inside, Lookout};
use crate::log_pipe::log_pipe;
use crate::netns;
use crate::processes::{GRACE, kill_group};
use crate::ship::LogWriter;
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use ordotaxis_core::language::Helper;
use std::collections::VecDeque;
use std::process::Stdio;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::process::Child;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::{Instant, sleep_until};

/// How long a helper is waited for unless it says otherwise.
const WITHIN: Duration = Duration::from_secs(60);
/// The pause between two looks whether it is ready.
const LOOK: Duration = Duration::from_millis(50);
/// How much of its last output an error message quotes.
const LAST_LINES: usize = 5;

/// A helper that runs.
pub(crate) struct Running {
    name: String,
    group: Pid,
    task: JoinHandle<()>,
    /// What became of it; None while it runs.
    ended: watch::Receiver<Option<String>>,
    last: Arc<Mutex<VecDeque<String>>>,
}

/// Where its output goes and how it is shown.
pub(crate) struct Place<'a> {
    pub(crate) fence: &'a Fence,
    pub(crate) inside: Inside<'a>,
    pub(crate) log: LogWriter,
}

/// Starts a helper. Whatever goes wrong is a sentence.
pub(crate) fn start(helper: &Helper, place: Place<'_>) -> Result<Running, String> {
    let failed = |why: String| format!("helper {} could not be started: {why}", helper.name);
    let pipe = log_pipe().map_err(|error| failed(error.to_string()))?;
    let child = {
        let mut built = place.fence.command(&place.inside).map_err(|error| failed(error.to_string()))?;
        built.stdout(pipe.output).stderr(pipe.errors).kill_on_drop(true);
        built.spawn().map_err(|error| failed(error.to_string()))?
    };
    let group = Pid::from_raw(child.id().and_then(|id| i32::try_from(id).ok()).unwrap_or(i32::MAX));
    let (sender, ended) = watch::channel(None);
    let last = Arc::new(Mutex::new(VecDeque::new()));
    let task = tokio::spawn(keep(child, pipe.receiver, place.log, last.clone(), sender));
    Ok(Running { name: helper.name.clone(), group, task, ended, last })
}

/// Ships what it prints until it ends.
async fn keep(
    mut child: Child,
    mut output: tokio::net::unix::pipe::Receiver,
    mut log: LogWriter,
    last: Arc<Mutex<VecDeque<String>>>,
    ended: watch::Sender<Option<String>>,
) {
    let mut open = true;
    let status = loop {
        let mut bytes = Vec::with_capacity(64 * 1024);
        tokio::select! {
            status = child.wait() => break status,
            read = output.read_buf(&mut bytes), if open => match read {
                Ok(count) if count > 0 => {
                    remember(&last, &bytes);
                    log.write(bytes).await;
                }
                _ => open = false,
            },
        }
    };
    // What it had still written; something it left behind may hold the pipe open.
    let rest = async {
        let mut bytes = Vec::new();
        while output.read_buf(&mut bytes).await.is_ok_and(|count| count > 0) {}
        bytes
    };
    if let Ok(bytes) = tokio::time::timeout(Duration::from_millis(200), rest).await {
        remember(&last, &bytes);
        log.write(bytes).await;
    }
    let how = match status {
        Ok(status) => status.code().map_or("was ended by a signal".to_owned(), |code| format!("exited with {code}")),
        Err(error) => format!("could not be waited for: {error}"),
    };
    ended.send_replace(Some(how));
    let _ = log.flush().await;
}

fn remember(last: &Mutex<VecDeque<String>>, bytes: &[u8]) {
    let mut last = last.lock().unwrap_or_else(PoisonError::into_inner);
    for line in String::from_utf8_lossy(bytes).lines().filter(|line| !line.trim().is_empty()) {
        last.push_back(line.chars().take(200).collect());
    }
    while last.len() > LAST_LINES {
        last.pop_front();
    }
}

impl Running {
    /// What became of it, with its last words; pends while it runs.
    pub(crate) async fn died(&self) -> String {
        let mut ended = self.ended.clone();
        let how = match ended.wait_for(Option::is_some).await {
            Ok(how) => how.clone().unwrap_or_default(),
            Err(_) => "is gone".into(),
        };
        self.told(&how)
    }

    fn told(&self, how: &str) -> String {
        let last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let last: Vec<&str> = last.iter().map(String::as_str).collect();
        match last.is_empty() {
            true => format!("helper {} {how}", self.name),
            false => format!("helper {} {how}; its last words: {}", self.name, last.join(" / ")),
        }
    }

    /// Waits until it is ready. `tries` runs a command of the job and says whether it succeeded.
    pub(crate) async fn ready<F>(&self, helper: &Helper, fence: &Fence, mut tries: impl FnMut(String) -> F) -> Result<(), String>
    where
        F: Future<Output = bool>,
    {
        let Some(ready) = &helper.ready else { return Ok(()) };
        let within = helper.within_ms.map_or(WITHIN, Duration::from_millis);
        let until = Instant::now() + within;
        let look = async {
            loop {
                let is_ready = match Ready::of(ready) {
                    Ready::Command => tries(ready.clone()).await,
                    net => net.answers(ready, fence.lookout()).await,
                };
                if is_ready {
                    return;
                }
                tokio::time::sleep(LOOK).await;
            }
        };
        tokio::select! {
            () = look => Ok(()),
            died = self.died() => Err(format!("{died}; it was not ready")),
            () = sleep_until(until) => {
                let limit = ordotaxis_wire::words::duration(i64::try_from(within.as_millis()).unwrap_or(i64::MAX));
                Err(self.told(&format!("was not ready within {limit} ({ready})")))
            }
        }
    }

    /// Asks it to end, waits a little, and ends it.
    pub(crate) async fn stop(self, marked: impl FnOnce()) {
        let _ = killpg(self.group, Signal::SIGTERM);
        marked();
        let mut ended = self.ended.clone();
        let _ = tokio::time::timeout(GRACE, ended.wait_for(Option::is_some)).await;
        kill_group(self.group);
        let _ = tokio::time::timeout(GRACE, self.task).await;
    }
}

/// What is looked at to see whether a helper is ready.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Ready {
    Url(String),
    Port(u16),
    Command,
}

impl Ready {
    fn of(text: &str) -> Ready {
        if text.starts_with("http://") || text.starts_with("https://") {
            return Ready::Url(text.to_owned());
        }
        text.strip_prefix("tcp:").and_then(|port| port.parse().ok()).map_or(Ready::Command, Ready::Port)
    }

    async fn answers(&self, text: &str, from: Lookout<'_>) -> bool {
        match from {
            Lookout::Here => self.look().await,
            Lookout::Within(pid) => {
                let own = self.clone();
                netns::within(pid, move |runtime| runtime.block_on(own.look())).await.unwrap_or(false)
            }
            Lookout::Through(network) => {
                let Ok(own) = crate::own::program() else { return false };
                let line = network.entered();
                let mut command = tokio::process::Command::new(&line[0]);
                command.args(&line[1..]).arg(own).args(["runner", "look", text]);
                command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
                command.status().await.is_ok_and(|status| status.success())
            }
        }
    }

    async fn look(&self) -> bool {
        let patience = Duration::from_secs(2);
        match self {
            Ready::Command => false,
            Ready::Port(port) => {
                let connect = tokio::net::TcpStream::connect(("127.0.0.1", *port));
                tokio::time::timeout(patience, connect).await.is_ok_and(|done| done.is_ok())
            }
            Ready::Url(url) => {
                let Ok(client) = crate::calls::calls_to(url).timeout(patience).build() else { return false };
                client.get(url).send().await.is_ok_and(|answer| answer.status().is_success() || answer.status().is_redirection())
            }
        }
    }
}

/// Whether a port or address answers, from where this process stands: what a runner that is an ordinary user sends another
/// process for.
pub async fn looks_ready(text: &str) -> bool {
    Ready::of(text).look().await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn readiness_is_told_apart() {
        assert_eq!(Ready::of("http://127.0.0.1:8181/now"), Ready::Url("http://127.0.0.1:8181/now".into()));
        assert_eq!(Ready::of("tcp:8181"), Ready::Port(8181));
        for command in ["tcp:gauge", "test -f ready", "tcp:99999"] {
            assert_eq!(Ready::of(command), Ready::Command);
        }
    }
}
