//! Asks an address, from where a job's steps are: what a check reads of what was just put there.

use crate::isolation::Lookout;
use crate::netns;
use serde::{Deserialize, Serialize};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncReadExt;

/// How long one answer is waited for.
const PATIENCE: Duration = Duration::from_secs(5);
/// So much of an answer is read.
const MOST: usize = 64 * 1024;
/// What the process may print that is sent into a network: an answer as JSON, each byte of it six characters at most.
const PRINTED: u64 = 8 * MOST as u64;

/// What an address answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    pub status: u16,
    /// Its first 64 KiB.
    pub text: String,
}

/// Asks from where this process stands. An error says in words what came in place of an answer. Redirects are answers.
pub async fn ask(url: &str) -> Result<Answer, String> {
    let whole = async {
        let client = crate::calls::calls_to(url).build().map_err(|error| error.to_string())?;
        let mut answer = client.get(url).send().await.map_err(told)?;
        let mut bytes = Vec::new();
        while bytes.len() < MOST {
            match answer.chunk().await {
                Ok(Some(chunk)) => bytes.extend(chunk),
                Ok(None) => break,
                Err(_) => return Err(format!("its answer broke off after {} bytes", bytes.len())),
            }
        }
        bytes.truncate(MOST);
        Ok(Answer { status: answer.status().as_u16(), text: String::from_utf8_lossy(&bytes).into_owned() })
    };
    tokio::time::timeout(PATIENCE, whole).await.unwrap_or_else(|_| Err("it did not answer in 5 s".to_owned()))
}

/// In words, without the address: that is known.
fn told(error: reqwest::Error) -> String {
    if error.is_connect() {
        return "nothing listens there".to_owned();
    }
    let error = error.without_url();
    let mut cause: &dyn std::error::Error = &error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    format!("it gave no answer: {cause}")
}

/// Asks from where a job's steps are.
pub(crate) async fn ask_from(url: &str, from: Lookout<'_>) -> Result<Answer, String> {
    match from {
        Lookout::Here => ask(url).await,
        Lookout::Within(pid) => {
            let url = url.to_owned();
            let gone = "the job's network is gone".to_owned();
            netns::within(pid, move |runtime| runtime.block_on(ask(&url))).await.unwrap_or(Err(gone))
        }
        Lookout::Through(network) => {
            let failed = |error: std::io::Error| format!("nobody could be sent to ask: {error}");
            let own = crate::own::program().map_err(failed)?;
            let line = network.entered();
            let mut command = tokio::process::Command::new(&line[0]);
            command.args(&line[1..]).arg(own).args(["runner", "ask", url]);
            command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).kill_on_drop(true);
            let mut child = command.spawn().map_err(failed)?;
            let mut printed = Vec::new();
            if let Some(output) = child.stdout.take() {
                output.take(PRINTED).read_to_end(&mut printed).await.map_err(failed)?;
            }
            let _ = child.wait().await;
            serde_json::from_slice(&printed).unwrap_or_else(|_| Err("who was sent to ask came back with nothing".to_owned()))
        }
    }
}
