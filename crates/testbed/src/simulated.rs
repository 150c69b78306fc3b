//! A runner without processes: it speaks the real protocol and says that every job passed. Hundreds fit in one process,
//! so the service is measured and troubled by many.

use axum::body::{Body, Bytes, to_bytes};
use axum::http::{Request, StatusCode, header};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// How long a call may take.
const PATIENCE: Duration = Duration::from_secs(30);
/// The longest answer.
const LONGEST: usize = 64 << 20;

/// One such runner. Clones are the same runner. It calls with as little as a call takes: thousands share the machine with
/// the service that is measured.
#[derive(Clone)]
pub struct Simulated {
    http: Client<HttpConnector, Body>,
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
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let http = Client::builder(TokioExecutor::new()).build(connector);
        let stranger = Simulated { http, url: url.to_owned(), credential: String::new(), session: String::new() };
        let Answer::Is(enrolled) = stranger.post("enrol", &json!({ "token": invitation, "name": name })).await else { return None };
        let credential = enrolled["credential"].as_str()?.to_owned();
        Some(Simulated { url: link.to_owned(), credential, session: format!("{name}-{:p}", &enrolled), ..stranger })
    }

    /// The same runner after a restart: what it held before is given up.
    pub fn restarted(&self, life: u32) -> Simulated {
        Simulated { session: format!("{}-{life}", self.session), ..self.clone() }
    }

    /// The status and the answer; none when the call did not come to its end.
    async fn call(&self, path: &str, kind: &str, body: Vec<u8>) -> Option<(StatusCode, Bytes)> {
        let request = Request::post(format!("{}/runner/v1/{path}", self.url))
            .header(header::AUTHORIZATION, format!("Bearer {}", self.credential))
            .header(header::CONTENT_TYPE, kind);
        let request = request.body(Body::from(body)).ok()?;
        let whole = async {
            let answer = self.http.request(request).await.ok()?;
            let status = answer.status();
            Some((status, to_bytes(Body::new(answer.into_body()), LONGEST).await.ok()?))
        };
        tokio::time::timeout(PATIENCE, whole).await.ok()?
    }

    /// A call of any kind: the status, and the answer as far as it is JSON.
    pub async fn raw(&self, path: &str, kind: &str, body: Vec<u8>) -> (u16, Value) {
        let (status, bytes) = self.call(path, kind, body).await.expect("an answer");
        (status.as_u16(), serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    /// What a call with bytes is answered.
    pub async fn bytes(&self, path: &str, body: Vec<u8>) -> Vec<u8> {
        self.call(path, "application/octet-stream", body).await.expect("an answer").1.to_vec()
    }

    async fn post(&self, path: &str, ask: &Value) -> Answer {
        match self.call(path, "application/json", ask.to_string().into_bytes()).await {
            Some((StatusCode::CONFLICT, _)) => Answer::GivenUp,
            Some((status, bytes)) if status.is_success() => Answer::Is(serde_json::from_slice(&bytes).unwrap_or(Value::Null)),
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

    /// The same from a slot whose jobs end quickly: it has begun with the first of what it holds, and asks for one more.
    pub async fn finish_quick(&self, attempt: &str, slot: u32, holding: &[String]) -> Answer {
        let ask = json!({
            "session": self.session, "slot": slot, "outcome": "passed", "exit_code": 0, "why": null, "phases": [], "artifacts": [], "claim": true,
            "holding": holding, "ahead": true
        });
        self.post(&format!("attempts/{attempt}/finish"), &ask).await
    }

    /// Gives back what the slot was leased ahead of time, at the moment `taken_at`.
    pub async fn give_back(&self, attempt: &str, slot: u32, taken_at: i64) -> Answer {
        let ask = json!({ "session": self.session, "slot": slot, "taken_at": taken_at });
        self.post(&format!("attempts/{attempt}/give-back"), &ask).await
    }

    /// Appends bytes to an attempt's log.
    pub async fn log(&self, attempt: &str, offset: u64, bytes: Vec<u8>) -> Option<u64> {
        let path = format!("attempts/{attempt}/log?offset={offset}");
        let (status, answer) = self.call(&path, "application/octet-stream", bytes).await?;
        let answer: Value = serde_json::from_slice(&answer).ok().filter(|_| status.is_success())?;
        answer["offset"].as_u64()
    }
}

/// The attempt that an answer leases, if it does.
pub fn leased(answer: &Answer) -> Option<String> {
    let Answer::Is(value) = answer else { return None };
    value["lease"]["attempt"].as_str().map(str::to_owned)
}

/// The attempt that an answer leases ahead of time, and when that was.
pub fn leased_ahead(answer: &Answer) -> Option<(String, i64)> {
    let Answer::Is(value) = answer else { return None };
    Some((value["ahead"]["attempt"].as_str()?.to_owned(), value["ahead"]["taken_at"].as_i64()?))
}
