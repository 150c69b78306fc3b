//! A way to object storage that lets nothing through but what a signed address allows: AWS Signature Version 4 in the query
//! ("Authenticating Requests: Using Query Parameters"), worked out here from its description alone. The storage of the
//! package takes any signature.

use axum::body::{Body, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Method, StatusCode};
use axum::response::Response;
use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

const LONGEST: usize = 128 << 20;

/// Lets signed requests through to the storage at `to`.
#[derive(Clone)]
pub(crate) struct Gate {
    to: String,
    secret: String,
    refused: Arc<AtomicU64>,
    http: reqwest::Client,
}

impl Gate {
    /// Serves on a free port until the runtime ends; gives its address.
    pub(crate) fn open(to: String, secret: &str) -> (Gate, String) {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let gate = Gate { to, secret: secret.to_owned(), refused: Arc::default(), http: reqwest::Client::new() };
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        listener.set_nonblocking(true).expect("a listener");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let listener = tokio::net::TcpListener::from_std(listener).expect("a listener");
        let router = axum::Router::new().fallback(through).with_state(gate.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        (gate, address)
    }

    /// How many requests were turned away.
    pub(crate) fn refused(&self) -> u64 {
        self.refused.load(Ordering::Relaxed)
    }
}

async fn through(State(gate): State<Gate>, request: Request) -> Response {
    let (head, body) = request.into_parts();
    let (path, query) = (head.uri.path().to_owned(), head.uri.query().unwrap_or_default().to_owned());
    if !fits(&head.method, &path, &query, &head.headers, &gate.secret) {
        gate.refused.fetch_add(1, Ordering::Relaxed);
        return answer(StatusCode::FORBIDDEN, Body::from("the signature does not fit"));
    }
    let body = to_bytes(body, LONGEST).await.expect("a body");
    let mut ask = gate.http.request(head.method.clone(), format!("{}{path}?{query}", gate.to)).body(body);
    if let Some(range) = head.headers.get("range") {
        ask = ask.header("range", range);
    }
    match ask.send().await {
        Ok(got) => answer(got.status(), Body::from(got.bytes().await.unwrap_or_default())),
        Err(error) => answer(StatusCode::BAD_GATEWAY, Body::from(error.to_string())),
    }
}

fn answer(status: StatusCode, body: Body) -> Response {
    let mut answer = Response::new(body);
    *answer.status_mut() = status;
    answer
}

/// Whether a request is the one that was signed, and its time is not over.
fn fits(method: &Method, path: &str, query: &str, headers: &HeaderMap, secret: &str) -> bool {
    let pairs: BTreeMap<&str, &str> = query.split('&').filter_map(|pair| pair.split_once('=')).collect();
    let said = |name: &str| pairs.get(name).copied().unwrap_or_default().replace("%2F", "/").replace("%3B", ";");
    let (date, scope) = (said("X-Amz-Date"), said("X-Amz-Credential"));
    let Some((_, scope)) = scope.split_once('/') else { return false };
    let names = said("X-Amz-SignedHeaders");
    let header = |name: &str| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().trim().to_owned();
    let canonical: String = names.split(';').map(|name| format!("{name}:{}\n", header(name))).collect();
    let rest: Vec<String> =
        pairs.iter().filter(|(name, _)| **name != "X-Amz-Signature").map(|(name, value)| format!("{name}={value}")).collect();
    let request = format!("{method}\n{path}\n{}\n{canonical}\n{names}\nUNSIGNED-PAYLOAD", rest.join("&"));
    let to_sign = format!("AWS4-HMAC-SHA256\n{date}\n{scope}\n{}", hex(&Sha256::digest(request.as_bytes())));
    let key = scope.split('/').fold(format!("AWS4{secret}").into_bytes(), |key, part| sign(&key, part));
    let ends = jiff::fmt::strtime::parse("%Y%m%dT%H%M%SZ", &date).ok().and_then(|at| at.to_datetime().ok());
    let ends = ends.and_then(|at| at.to_zoned(jiff::tz::TimeZone::UTC).ok()).map(|at| at.timestamp().as_second());
    let lasts: i64 = said("X-Amz-Expires").parse().unwrap_or(0);
    let in_time = ends.is_some_and(|begun| jiff::Timestamp::now().as_second() <= begun + lasts);
    in_time && said("X-Amz-Signature") == hex(&sign(&key, &to_sign))
}

fn sign(key: &[u8], text: &str) -> Vec<u8> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length");
    mac.update(text.as_bytes());
    mac.finalize().into_bytes().to_vec()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
