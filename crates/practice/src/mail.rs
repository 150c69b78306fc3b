//! A mail sink: it takes mail by SMTP (RFC 5321, the least of it), sends nothing on, and shows what came on a plain page. Mail
//! to `refused…` it refuses, so that this can be seen too.

use crate::page::mails;
use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::get;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// The largest message, and the longest line of a command.
const LARGEST: u64 = 4 << 20;
/// So many messages are kept.
const KEPT: usize = 500;

/// What came, oldest first; also as files in a folder.
#[derive(Clone)]
pub struct Sink {
    folder: PathBuf,
    came: Arc<Mutex<Vec<String>>>,
}

impl Sink {
    /// An empty sink that keeps what comes in a folder.
    pub fn open(folder: PathBuf) -> std::io::Result<Sink> {
        std::fs::create_dir_all(&folder)?;
        Ok(Sink { folder, came: Arc::default() })
    }

    /// Takes mail until the listener fails.
    pub async fn take(self, listener: TcpListener) -> std::io::Result<()> {
        loop {
            let (stream, _) = listener.accept().await?;
            let sink = self.clone();
            tokio::spawn(async move {
                if let Err(error) = sink.speak(stream).await {
                    tracing::debug!(%error, "a sender went away");
                }
            });
        }
    }

    /// Shows what came.
    pub async fn show(self, listener: TcpListener) -> std::io::Result<()> {
        let page = |State(sink): State<Sink>| async move { Html(mails(&sink.came())) };
        axum::serve(listener, Router::new().route("/", get(page)).with_state(self)).await
    }

    /// Messages as they came, oldest first.
    pub fn came(&self) -> Vec<String> {
        self.came.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn keep(&self, message: String) {
        let mut came = self.came.lock().unwrap_or_else(PoisonError::into_inner);
        let path = self.folder.join(format!("{:05}.eml", came.len() + 1));
        if let Err(error) = std::fs::write(&path, &message) {
            tracing::error!(%error, "{} could not be written", path.display());
        }
        if came.len() < KEPT {
            came.push(message);
        }
    }

    async fn speak(&self, stream: TcpStream) -> std::io::Result<()> {
        let (read, mut write) = stream.into_split();
        let mut read = BufReader::new(read.take(LARGEST));
        write.write_all(b"220 practice mail sink\r\n").await?;
        let mut line = String::new();
        loop {
            line.clear();
            if read.read_line(&mut line).await? == 0 {
                return Ok(());
            }
            let upper = line.trim().to_ascii_uppercase();
            let answer = match upper.split([' ', ':']).next().unwrap_or_default() {
                "EHLO" | "HELO" | "MAIL" | "RSET" | "NOOP" => "250 practice\r\n",
                "RCPT" if line.to_ascii_lowercase().contains("<refused") => "550 5.1.1 nobody here is called so\r\n",
                "RCPT" => "250 practice\r\n",
                "DATA" => {
                    write.write_all(b"354 go on; end with a dot\r\n").await?;
                    self.keep(message(&mut read).await?);
                    "250 taken\r\n"
                }
                "QUIT" => {
                    write.write_all(b"221 good bye\r\n").await?;
                    return Ok(());
                }
                _ => "500 the practice sink does not know that\r\n",
            };
            write.write_all(answer.as_bytes()).await?;
        }
    }
}

/// The lines up to one with a dot alone; a dot that was doubled is one. What breaks off before that is no message (RFC 5321, 4.1.1.4).
async fn message(read: &mut (impl AsyncBufReadExt + Unpin)) -> std::io::Result<String> {
    let (mut whole, mut line) = (String::new(), Vec::new());
    loop {
        line.clear();
        if read.read_until(b'\n', &mut line).await? == 0 {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        let text = String::from_utf8_lossy(&line);
        let text = text.trim_end_matches(['\r', '\n']);
        if text == "." {
            return Ok(whole);
        }
        whole.push_str(text.strip_prefix('.').unwrap_or(text));
        whole.push('\n');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Speaks with a sink as a sender does, and gives what it answers.
    async fn say(address: std::net::SocketAddr, lines: &str) -> String {
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream.write_all(lines.replace('\n', "\r\n").as_bytes()).await.unwrap();
        stream.shutdown().await.unwrap();
        let mut said = String::new();
        stream.read_to_string(&mut said).await.unwrap();
        said
    }

    #[tokio::test]
    async fn what_is_sent_whole_is_kept_and_shown_as_text() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let sink = Sink::open(folder.path().join("mail")).unwrap();
        let (mail, page) = (TcpListener::bind("127.0.0.1:0").await.unwrap(), TcpListener::bind("127.0.0.1:0").await.unwrap());
        let (at, shown) = (mail.local_addr().unwrap(), page.local_addr().unwrap());
        tokio::spawn(sink.clone().take(mail));
        tokio::spawn(sink.clone().show(page));
        let head = "EHLO quay\nMAIL FROM:<builds@saltmarsh.example>\n";
        let said = say(at, &format!("{head}RCPT TO:<refused@saltmarsh.example>\nHELP\nQUIT\n")).await;
        assert!(said.contains("550 5.1.1") && said.contains("500 ") && said.ends_with("221 good bye\r\n"), "{said}");
        say(at, &format!("{head}RCPT TO:<ines@saltmarsh.example>\nDATA\nSubject: half\n\nbreaks off")).await;
        assert!(sink.came().is_empty(), "what breaks off is no message");
        let message = "Subject: <b>main is broken</b>\nTo: ines@saltmarsh.example\n\n..and a dot\n<script>alert(1)</script>";
        let said = say(at, &format!("{head}RCPT TO:<ines@saltmarsh.example>\nDATA\n{message}\n.\nQUIT\n")).await;
        assert!(said.contains("354 ") && said.contains("250 taken"), "{said}");
        assert_eq!(sink.came(), [format!("{}\n", message.replace("..and", ".and"))]);
        assert_eq!(std::fs::read_to_string(folder.path().join("mail/00001.eml")).unwrap(), sink.came()[0]);
        let page = reqwest::get(format!("http://{shown}/")).await.unwrap().text().await.unwrap();
        assert!(page.contains("&lt;b&gt;main is broken") && page.contains(".and a dot") && !page.contains("<script>alert"), "{page}");
        let endless = "x".repeat(usize::try_from(LARGEST).unwrap() + 10);
        let _ = TcpStream::connect(at).await.unwrap().write_all(endless.as_bytes()).await;
        assert_eq!(sink.came().len(), 1, "a line without end is not waited for");
    }
}
