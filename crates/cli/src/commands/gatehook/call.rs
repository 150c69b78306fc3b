//! Calls from a hook to the service: signed, quick, and told apart by whether the service was there.

use crate::failure::Failure;
use jiff::Timestamp;
use ordotaxis_core::notice::webhook_signature;
use ordotaxis_wire::gate::{Asked, GateView, Refused};
use ordotaxis_wire::problem::Problem;
use reqwest::StatusCode;
use std::time::Duration;

/// Someone waits for their push.
const PATIENCE: Duration = Duration::from_secs(5);

/// Why there is no answer.
#[derive(Debug)]
pub(super) enum NotAsked {
    /// The service is not there, or cannot say now.
    Away(String),
    /// It is there, and does not believe us.
    Refused(String),
}

/// The way to the service, for one project.
pub(super) struct Caller {
    http: reqwest::Client,
    address: String,
    key: Vec<u8>,
}

impl Caller {
    pub(super) fn new(url: &str, project: &str, key: Vec<u8>) -> Result<Caller, Failure> {
        let fits = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        if project.is_empty() || !project.chars().all(fits) {
            return Err(Failure::new(2, format!("`{project}` is no project's name"), "name it with --project"));
        }
        let built = ordotaxis_runner::calls_to(url).timeout(PATIENCE).build();
        let http = built.map_err(|error| Failure::new(3, format!("no call can be made: {error}"), "check this machine's certificates"))?;
        Ok(Caller { http, address: format!("{}/hooks/v1/{project}", url.trim_end_matches('/')), key })
    }

    /// What of a push is refused.
    pub(super) async fn ask(&self, asked: &Asked) -> Result<Vec<Refused>, NotAsked> {
        let id = format!("gate-{}", Timestamp::now().as_nanosecond());
        let body = serde_json::to_string(asked).unwrap_or_default();
        let answer = self.send(&format!("{}/gate", self.address), &id, body).await?;
        let view: GateView = answer.json().await.map_err(|_| NotAsked::Away("its answer is none".into()))?;
        Ok(view.refused)
    }

    /// Tells of a push under its name: told twice, it counts once.
    pub(super) async fn tell(&self, id: String, body: String) -> Result<(), NotAsked> {
        self.send(&self.address, &id, body).await.map(drop)
    }

    async fn send(&self, address: &str, id: &str, body: String) -> Result<reqwest::Response, NotAsked> {
        let time = Timestamp::now().as_second();
        let signature = webhook_signature(&self.key, id, time, body.as_bytes());
        let call = self.http.post(address).header("content-type", "application/json").header("webhook-id", id);
        let call = call.header("webhook-timestamp", time.to_string()).header("webhook-signature", signature).body(body);
        let away = |error: reqwest::Error| {
            NotAsked::Away(if error.is_timeout() { "it does not answer in time".into() } else { "nothing answers there".into() })
        };
        let answer = call.send().await.map_err(away)?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let text = answer.text().await.unwrap_or_default();
        let why = serde_json::from_str::<Problem>(&text).map_or_else(|_| format!("it answered {status}"), |problem| problem.detail);
        match status {
            StatusCode::UNAUTHORIZED => Err(NotAsked::Refused(format!("{why}; does the secret's file hold this project's hook secret?"))),
            _ => Err(NotAsked::Away(why)),
        }
    }
}
