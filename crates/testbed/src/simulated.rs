//! A runner without processes: it speaks the real protocol and says that every job passed. Hundreds fit in one process,
//! so the service is measured and troubled by many.

use reqwest::StatusCode;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// One such runner. Clones are the same runner.
#[derive(Clone)]
pub struct Simulated {
    http: reqwest::Client,
    url: String,
    credential: String,
    session: String,
}

/// The outcome of a call: an answer, a refusal, or nothing at all.
#[derive(Debug)]
pub enum Answer {
    Is(Value),
    GivenUp,
    Broken,
}

impl Simulated {
    /// Enrols with an invitation at the service, and speaks with it through `link` from then on.
    pub async fn enrol(url: &str, link: &str, invitation: &str, name: &str) -> Option<Simulated> {
        let http = reqwest::Client::builder().timeout(Duration::from_secs(30)).build().ok()?;
        let ask = json!({ "token": invitation, "name": name });
        let answer = http.post(format!("{url}/runner/v1/enrol")).json(&ask).send().await.ok()?;
        let enrolled: Value = answer.error_for_status().ok()?.json().await.ok()?;
        let credential = enrolled["credential"].as_str()?.to_owned();
        Some(Simulated { http, url: link.to_owned(), credential, session: format!("{name}-{:p}", &enrolled) })
    }

    /// The same runner after a restart: what it held before is given up.
    pub fn restarted(&self, life: u32) -> Simulated {
        Simulated { session: format!("{}-{life}", self.session), ..self.clone() }
    }

    async fn post(&self, path: &str, ask: &Value) -> Answer {
        let sent = self.http.post(format!("{}/runner/v1/{path}", self.url)).bearer_auth(&self.credential).json(ask).send().await;
        match sent {
            Ok(answer) if answer.status() == StatusCode::CONFLICT => Answer::GivenUp,
            Ok(answer) if answer.status().is_success() => match answer.bytes().await {
                Ok(bytes) => Answer::Is(serde_json::from_slice(&bytes).unwrap_or(Value::Null)),
                Err(_) => Answer::Broken,
            },
            _ => Answer::Broken,
        }
    }

    /// Signs on with so many slots; repeated, it is the same session.
    pub async fn sign_on(&self, slots: u32) -> Answer {
        let ask = json!({ "version": ordotaxis_wire::runner::VERSION, "session": self.session, "slots": slots, "system": ["linux"], "isolation": "host" });
        self.post("sign-on", &ask).await
    }

    /// A lease, and how long it took to come.
    pub async fn claim(&self, slot: u32) -> (Answer, Duration) {
        let begin = Instant::now();
        (self.post("claim", &json!({ "session": self.session, "slot": slot })).await, begin.elapsed())
    }

    /// Renews the leases of these attempts.
    pub async fn beat(&self, holding: &[String]) -> Answer {
        self.post("beat", &json!({ "session": self.session, "holding": holding })).await
    }

    /// Says that an attempt passed; asks for the slot's next lease in the same call.
    pub async fn finish(&self, attempt: &str, slot: u32, claim: bool) -> Answer {
        let ask = json!({
            "session": self.session, "slot": slot, "outcome": "passed", "exit_code": 0, "why": null, "phases": [], "artifacts": [], "claim": claim
        });
        self.post(&format!("attempts/{attempt}/finish"), &ask).await
    }

    /// Appends bytes to an attempt's log.
    pub async fn log(&self, attempt: &str, offset: u64, bytes: Vec<u8>) -> Option<u64> {
        let path = format!("{}/runner/v1/attempts/{attempt}/log?offset={offset}", self.url);
        let answer = self.http.post(path).bearer_auth(&self.credential).body(bytes).send().await.ok()?;
        let answer: Value = answer.error_for_status().ok()?.json().await.ok()?;
        answer["offset"].as_u64()
    }
}

/// The attempt that an answer leases, if it does.
pub fn leased(answer: &Answer) -> Option<String> {
    match answer {
        Answer::Is(value) => value["lease"]["attempt"].as_str().map(str::to_owned),
        _ => None,
    }
}
