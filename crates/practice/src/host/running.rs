//! The process that a bundle is: a small server that says which bundle it was started with.

use std::path::Path;
use std::process::Stdio;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::process::{Child, Command};

/// The most that a bundle's own words may be.
const WORDS: usize = 4_096;

/// A process that was started; it ends when this is dropped.
pub(super) struct Running {
    port: u16,
    _child: Child,
}

impl Running {
    /// Starts a bundle, and waits until it listens.
    pub(super) async fn start(program: &Path, name: &str, bundle: &Path) -> std::io::Result<Running> {
        let mut command = Command::new(program);
        command.args(["runs", name]).arg(bundle).stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child = command.spawn()?;
        let mut line = String::new();
        if let Some(out) = child.stdout.take() {
            BufReader::new(out).read_line(&mut line).await?;
        }
        let port = line.trim().parse().map_err(|_| std::io::Error::other("the bundle did not start"))?;
        Ok(Running { port, _child: child })
    }

    /// What it says of itself.
    pub(super) async fn says(&self) -> std::io::Result<String> {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).await?;
        let mut text = String::new();
        stream.read_to_string(&mut text).await?;
        Ok(text)
    }
}

/// What the process does: it reads its bundle once, prints its port, and tells who connects what it is. It ends by a signal, or
/// when its input is shut: then who started it is gone, however that ended.
pub async fn run(name: &str, bundle: &Path) -> std::io::Result<()> {
    let mut bytes = std::fs::read(bundle)?;
    bytes.truncate(WORDS);
    let words = format!("{name} runs\n{}", String::from_utf8_lossy(&bytes));
    let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
    println!("{}", listener.local_addr()?.port());
    let mut input = tokio::io::stdin();
    loop {
        tokio::select! {
            read = input.read_u8() => if read.is_err() { return Ok(()) },
            called = listener.accept() => {
                // Who goes away early has not heard it: that is theirs.
                let _ = called?.0.write_all(words.as_bytes()).await;
            }
        }
    }
}
