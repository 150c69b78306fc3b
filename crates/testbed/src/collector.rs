//! A collector: takes traces and logs in OTLP and in lines of JSON, decodes them, and does as badly as it is told.

use axum::Router;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::post;
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::{ExportTracePartialSuccess, ExportTraceServiceRequest, ExportTraceServiceResponse};
use opentelemetry_proto::tonic::common::v1::{KeyValue, any_value::Value as Any};
use prost::Message;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// How it answers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Mood {
    #[default]
    Well,
    /// With this status, and takes nothing.
    Answers(u16),
    /// Takes it, and answers 503 all the same.
    TakesAndFails,
    /// Takes nothing that is longer.
    AtMost(usize),
    /// Never answers.
    Silent,
    /// Takes it, and says that it did not take all.
    Partly,
}

/// A span as it arrived.
#[derive(Debug, Clone, PartialEq)]
pub struct Span {
    pub trace: String,
    pub id: String,
    pub parent: String,
    pub name: String,
    /// Nanoseconds since 1970.
    pub from: u64,
    pub to: u64,
    /// Why it failed; none: it did not.
    pub error: Option<String>,
    /// Its own, and its resource's.
    pub attributes: BTreeMap<String, Value>,
}

/// A line of a log as it arrived.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    pub run: String,
    pub job: String,
    pub attempt: i64,
    /// Counted from 1.
    pub line: i64,
    pub text: String,
    /// `TRACE-SPAN`; empty without traces.
    pub place: String,
    /// Milliseconds since 1970.
    pub at: i64,
}

#[derive(Debug, Default)]
struct Taken {
    mood: Mood,
    spans: Vec<Span>,
    lines: Vec<Line>,
    bodies: usize,
    authorization: Option<String>,
    longest: usize,
}

/// The collector; it ends with this.
#[derive(Clone)]
pub struct Collector {
    pub url: String,
    taken: Arc<Mutex<Taken>>,
    _ends: Arc<tokio_util::sync::DropGuard>,
}

impl Collector {
    /// Starts it on a port of its own.
    pub async fn start() -> Collector {
        let taken: Arc<Mutex<Taken>> = Arc::default();
        let router = Router::new()
            .route("/v1/traces", post(traces))
            .route("/v1/logs", post(logs))
            .route("/lines", post(lines))
            .layer(DefaultBodyLimit::max(64 << 20))
            .with_state(taken.clone());
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let stop = tokio_util::sync::CancellationToken::new();
        let ended = stop.clone().cancelled_owned();
        tokio::spawn(async move {
            tokio::select! {
                served = axum::serve(listener, router) => served.expect("it serves"),
                () = ended => {}
            }
        });
        Collector { url, taken, _ends: Arc::new(stop.drop_guard()) }
    }

    fn taken(&self) -> MutexGuard<'_, Taken> {
        self.taken.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// From now on it answers so.
    pub fn is(&self, mood: Mood) {
        self.taken().mood = mood;
    }

    pub fn spans(&self) -> Vec<Span> {
        self.taken().spans.clone()
    }

    pub fn lines(&self) -> Vec<Line> {
        self.taken().lines.clone()
    }

    /// How many bodies came, taken or not; the longest; and what the newest said of who sends.
    pub fn came(&self) -> (usize, usize, Option<String>) {
        let taken = self.taken();
        (taken.bodies, taken.longest, taken.authorization.clone())
    }
}

type Shared = State<Arc<Mutex<Taken>>>;

/// Whether the body is taken, and the answer.
async fn met(taken: &Mutex<Taken>, headers: &HeaderMap, body: &Bytes) -> (bool, StatusCode) {
    let mood = {
        let mut taken = taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.bodies += 1;
        taken.longest = taken.longest.max(body.len());
        taken.authorization = headers.get("authorization").and_then(|value| value.to_str().ok()).map(str::to_owned);
        taken.mood
    };
    match mood {
        Mood::Well | Mood::Partly => (true, StatusCode::OK),
        Mood::Answers(status) => (false, StatusCode::from_u16(status).expect("a status")),
        Mood::TakesAndFails => (true, StatusCode::SERVICE_UNAVAILABLE),
        Mood::AtMost(most) if body.len() > most => (false, StatusCode::PAYLOAD_TOO_LARGE),
        Mood::AtMost(_) => (true, StatusCode::OK),
        Mood::Silent => std::future::pending().await,
    }
}

async fn traces(State(taken): Shared, headers: HeaderMap, body: Bytes) -> (StatusCode, Vec<u8>) {
    assert_eq!(headers["content-type"], "application/x-protobuf");
    let (takes, status) = met(&taken, &headers, &body).await;
    let request = ExportTraceServiceRequest::decode(&*body).expect("OTLP");
    let mut taken = taken.lock().unwrap_or_else(PoisonError::into_inner);
    if takes {
        taken.spans.extend(spans(&request));
    }
    let partly = (taken.mood == Mood::Partly)
        .then(|| ExportTracePartialSuccess { rejected_spans: 1, error_message: "one\nis \u{1b}[31modd".into() });
    (status, ExportTraceServiceResponse { partial_success: partly }.encode_to_vec())
}

fn attributes(all: &[KeyValue]) -> impl Iterator<Item = (String, Value)> {
    all.iter().map(|one| {
        let value = match one.value.as_ref().and_then(|value| value.value.as_ref()) {
            Some(Any::StringValue(text)) => json!(text),
            Some(Any::IntValue(number)) => json!(number),
            Some(Any::BoolValue(yes)) => json!(yes),
            Some(Any::DoubleValue(number)) => json!(number),
            other => json!(format!("{other:?}")),
        };
        (one.key.clone(), value)
    })
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn spans(request: &ExportTraceServiceRequest) -> Vec<Span> {
    let mut all = Vec::new();
    for of in &request.resource_spans {
        let resource = of.resource.as_ref().map(|resource| resource.attributes.as_slice()).unwrap_or_default();
        for span in of.scope_spans.iter().flat_map(|scoped| &scoped.spans) {
            all.push(Span {
                trace: hex(&span.trace_id),
                id: hex(&span.span_id),
                parent: hex(&span.parent_span_id),
                name: span.name.clone(),
                from: span.start_time_unix_nano,
                to: span.end_time_unix_nano,
                error: span.status.as_ref().filter(|status| status.code == 2).map(|status| status.message.clone()),
                attributes: attributes(resource).chain(attributes(&span.attributes)).collect(),
            });
        }
    }
    all
}

async fn logs(State(taken): Shared, headers: HeaderMap, body: Bytes) -> StatusCode {
    assert_eq!(headers["content-type"], "application/x-protobuf");
    let (takes, status) = met(&taken, &headers, &body).await;
    let request = ExportLogsServiceRequest::decode(&*body).expect("OTLP");
    if takes {
        taken.lock().unwrap_or_else(PoisonError::into_inner).lines.extend(records(&request));
    }
    status
}

fn records(request: &ExportLogsServiceRequest) -> Vec<Line> {
    let mut all = Vec::new();
    for of in &request.resource_logs {
        let about: BTreeMap<String, Value> = of.resource.iter().flat_map(|resource| attributes(&resource.attributes)).collect();
        let text = |key: &str| about.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
        for record in of.scope_logs.iter().flat_map(|scoped| &scoped.log_records) {
            let own: BTreeMap<String, Value> = attributes(&record.attributes).collect();
            let Some(Any::StringValue(body)) = record.body.as_ref().and_then(|body| body.value.clone()) else { panic!("{record:?}") };
            let place = [hex(&record.trace_id), hex(&record.span_id)].into_iter().filter(|id| !id.is_empty()).collect::<Vec<_>>().join("-");
            all.push(Line {
                run: text("cicd.pipeline.run.id"),
                job: text("cicd.pipeline.task.name"),
                attempt: about.get("ordotaxis.attempt").and_then(Value::as_i64).unwrap_or_default(),
                line: own.get("ordotaxis.line").and_then(Value::as_i64).unwrap_or_default(),
                text: body,
                place,
                at: i64::try_from(record.time_unix_nano / 1_000_000).expect("a moment"),
            });
        }
    }
    all
}

async fn lines(State(taken): Shared, headers: HeaderMap, body: Bytes) -> StatusCode {
    assert_eq!(headers["content-type"], "application/x-ndjson");
    let (takes, status) = met(&taken, &headers, &body).await;
    if takes {
        let text = std::str::from_utf8(&body).expect("UTF-8");
        let lines = text.lines().map(|line| {
            let line: Value = serde_json::from_str(line).expect("JSON");
            let text = |key: &str| line[key].as_str().unwrap_or_default().to_owned();
            let at: jiff::Timestamp = text("at").parse().expect("a moment");
            let number = |key: &str| line[key].as_i64().unwrap_or_default();
            Line {
                run: text("run"),
                job: text("job"),
                attempt: number("attempt"),
                line: number("line"),
                text: text("text"),
                place: String::new(),
                at: at.as_millisecond(),
            }
        });
        taken.lock().unwrap_or_else(PoisonError::into_inner).lines.extend(lines);
    }
    status
}
