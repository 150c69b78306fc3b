//! Processes that the demo starts and ends.

use std::fs::File;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_secs(30);

pub(super) struct Process {
    child: Child,
    said: PathBuf,
}

impl Process {
    /// Starts a program with its output in a file, and waits until it says that it is ready.
    pub(super) fn start(folder: &Path, name: &str, command: &mut Command, ready: &str) -> Result<Process, String> {
        let said = folder.join(format!("{name}.out"));
        let file = File::create(&said).map_err(|error| error.to_string())?;
        let errors = file.try_clone().map_err(|error| error.to_string())?;
        let child = command.stdin(Stdio::null()).stdout(file).stderr(errors).spawn();
        let mut process = Process { child: child.map_err(|error| format!("{name} could not be started: {error}"))?, said };
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            if process.text().contains(ready) {
                return Ok(process);
            }
            if let Ok(Some(status)) = process.child.try_wait() {
                return Err(format!("{name} ended at once ({status}): {}", process.text().trim()));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Err(format!("{name} did not come up: {}", process.text().trim()))
    }

    fn text(&self) -> String {
        std::fs::read_to_string(&self.said).unwrap_or_default()
    }

    /// The rest of the line that holds `mark`.
    pub(super) fn line_after(&self, mark: &str) -> Option<String> {
        let text = self.text();
        let rest = text.split_once(mark)?.1;
        rest.lines().next().map(|line| line.trim().to_owned())
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status();
        let until = Instant::now() + Duration::from_secs(5);
        while Instant::now() < until {
            if matches!(self.child.try_wait(), Ok(Some(_)) | Err(_)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A number that the service tells those who watch it.
pub(super) fn metric(url: &str, token: &str, name: &str) -> Option<String> {
    let host = url.trim_start_matches("http://");
    let mut stream = TcpStream::connect(host).ok()?;
    let head = format!("GET /metrics HTTP/1.0\r\nHost: {host}\r\nAuthorization: Bearer {token}\r\n\r\n");
    stream.write_all(head.as_bytes()).ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    answer.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' ')).map(str::to_owned)
}

/// This port if it is free, else any free one.
pub(super) fn free_port(wanted: u16) -> Result<u16, String> {
    let listener = TcpListener::bind(("127.0.0.1", wanted)).or_else(|_| TcpListener::bind(("127.0.0.1", 0)));
    let address = listener.and_then(|listener| listener.local_addr());
    address.map(|address| address.port()).map_err(|error| format!("no free port: {error}"))
}

/// Blocks until Ctrl-C.
pub(super) fn wait_for_interrupt() -> Result<(), String> {
    let (sender, receiver) = std::sync::mpsc::channel();
    let wake = move || {
        let _ = sender.send(());
    };
    ctrlc::set_handler(wake).map_err(|error| format!("the interrupt could not be waited for: {error}"))?;
    receiver.recv().map_err(|error| error.to_string())
}
