//! The practice cloud's machines.

use super::asked::{Failed, Wanted};
use crate::causes::causes;
use crate::outgoing;
use ordotaxis_core::language::Capacity;
use ordotaxis_core::pool::Listed;
use reqwest::{Client, Response, StatusCode};
use serde::Deserialize;
use serde_json::json;
use std::time::Duration;

/// How long the cloud may take for an answer.
const LIMIT: Duration = Duration::from_secs(15);
/// The most that is read of an answer.
const ANSWER: usize = 8 * 1024 * 1024;

/// One cloud.
pub(crate) struct Cloud {
    url: String,
    http: Result<Client, String>,
}

#[derive(Deserialize)]
struct Machine {
    name: String,
    state: String,
    #[serde(default)]
    words: String,
}

impl Cloud {
    pub(super) fn new(url: &str) -> Cloud {
        let http = outgoing::client(|with| with.timeout(LIMIT).no_proxy()).map_err(|error| causes(&error));
        Cloud { url: url.trim_end_matches('/').to_owned(), http }
    }

    fn machine(&self, name: &str) -> String {
        format!("{}/machines/{name}", self.url)
    }

    fn http(&self) -> Result<&Client, String> {
        self.http.as_ref().map_err(|why| format!("no client for calls to the cloud could be made: {why}"))
    }

    pub(super) async fn make(&self, wanted: &Wanted<'_>) -> Result<String, Failed> {
        let Capacity { cores, memory_mib, gpus } = wanted.capacity;
        let body = json!({
            "cores": cores, "memory_mib": memory_mib, "gpus": gpus,
            "environment": { "ORDOTAXIS_URL": wanted.url, "ORDOTAXIS_MACHINE": wanted.id, "ORDOTAXIS_INVITATION": wanted.invitation.expose() }
        });
        let answer = self.http().map_err(Failed::Refused)?.put(self.machine(wanted.id)).json(&body).send().await;
        let answer = answer.map_err(|error| Failed::Unclear(away(&error)))?;
        let status = answer.status();
        let text = text(answer).await.map_err(Failed::Unclear)?;
        match status {
            status if status.is_success() => Ok(text),
            status if status.is_client_error() => Err(Failed::Refused(text)),
            status => Err(Failed::Unclear(format!("the cloud answered {status}: {text}"))),
        }
    }

    pub(super) async fn list(&self) -> Result<Vec<Listed>, String> {
        let answer = self.http()?.get(format!("{}/machines", self.url)).send().await.map_err(|error| away(&error))?;
        let status = answer.status();
        let text = text(answer).await?;
        if !status.is_success() {
            return Err(format!("the cloud answered {status}: {text}"));
        }
        let machines: Vec<Machine> = serde_json::from_str(&text).map_err(|error| format!("the cloud's list is not understood: {error}"))?;
        Ok(machines.into_iter().map(|one| Listed { name: one.name, ended: one.state == "ended", words: one.words }).collect())
    }

    pub(super) async fn remove(&self, name: &str) -> Result<(), String> {
        let answer = self.http()?.delete(self.machine(name)).send().await.map_err(|error| away(&error))?;
        match answer.status() {
            status if status.is_success() || status == StatusCode::NOT_FOUND => Ok(()),
            status => Err(format!("the cloud answered {status}: {}", text(answer).await?)),
        }
    }

    pub(super) async fn console(&self, name: &str) -> Result<String, String> {
        let answer = self.http()?.get(format!("{}/console", self.machine(name))).send().await.map_err(|error| away(&error))?;
        let status = answer.status();
        let text = text(answer).await?;
        if status.is_success() { Ok(text) } else { Err(format!("the cloud answered {status}: {text}")) }
    }
}

fn away(error: &reqwest::Error) -> String {
    if error.is_timeout() { "the cloud does not answer".into() } else { "the cloud could not be reached".into() }
}

/// An answer's text, within limits.
async fn text(mut answer: Response) -> Result<String, String> {
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await.map_err(|error| away(&error))? {
        if bytes.len() + chunk.len() > ANSWER {
            return Err(format!("the cloud answered more than {} MiB", ANSWER >> 20));
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
