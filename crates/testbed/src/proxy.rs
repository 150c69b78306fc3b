//! A bad link: stands between runners and the service and is slow, cuts off answers, or sends a call twice, as a seed says.

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{Request, Response, StatusCode};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A link between runners and the service that delays, drops and repeats calls. Clones are the same link.
#[derive(Clone)]
pub struct Proxy(Arc<Inner>);

struct Inner {
    target: String,
    http: reqwest::Client,
    random: Mutex<StdRng>,
    calm: AtomicBool,
    /// Calls whose address ends so are held back for so long.
    held: Mutex<Option<(&'static str, Duration)>>,
    troubled: AtomicU64,
}

/// What happens to one call.
enum Fate {
    Well,
    Slow(Duration),
    /// It never arrives.
    Lost,
    /// It arrives, and its answer does not.
    AnswerLost,
    /// It arrives twice, and the second answer is given.
    Twice,
}

impl Proxy {
    /// Listens on a free port; gives itself and its address.
    pub async fn start(target: &str, seed: u64) -> (Proxy, String) {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let inner = Inner {
            target: target.to_owned(),
            http: reqwest::Client::builder().timeout(Duration::from_secs(60)).build().expect("a client"),
            random: Mutex::new(StdRng::seed_from_u64(seed)),
            calm: AtomicBool::new(false),
            held: Mutex::default(),
            troubled: AtomicU64::new(0),
        };
        let proxy = Proxy(Arc::new(inner));
        let router = Router::new().fallback(pass).with_state(proxy.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        (proxy, url)
    }

    /// From now on every call goes well.
    pub fn calm(&self) {
        self.0.calm.store(true, Ordering::Relaxed);
    }

    /// From now on calls whose address ends so take so much longer.
    pub fn hold(&self, address: &'static str, longer: Duration) {
        *self.0.held.lock().unwrap_or_else(PoisonError::into_inner) = Some((address, longer));
    }

    /// How many calls did not go well.
    pub fn troubled(&self) -> u64 {
        self.0.troubled.load(Ordering::Relaxed)
    }

    fn fate(&self) -> Fate {
        if self.0.calm.load(Ordering::Relaxed) {
            return Fate::Well;
        }
        let mut random = self.0.random.lock().unwrap_or_else(PoisonError::into_inner);
        let fate = match random.random_range(0..100) {
            0..=4 => Fate::Lost,
            5..=9 => Fate::AnswerLost,
            10..=17 => Fate::Twice,
            18..=29 => Fate::Slow(Duration::from_millis(random.random_range(1..200))),
            _ => return Fate::Well,
        };
        self.0.troubled.fetch_add(1, Ordering::Relaxed);
        fate
    }

    fn held(&self, path: &str) -> Option<Duration> {
        let held = *self.0.held.lock().unwrap_or_else(PoisonError::into_inner);
        held.filter(|(address, _)| path.ends_with(address)).map(|(_, longer)| longer)
    }

    async fn forward(&self, parts: &axum::http::request::Parts, body: Bytes) -> Option<Response<Body>> {
        let path = parts.uri.path_and_query().map(ToString::to_string).unwrap_or_default();
        let mut request = self.0.http.request(parts.method.clone(), format!("{}{path}", self.0.target)).body(body);
        for (name, value) in
            parts.headers.iter().filter(|(name, _)| !["host", "content-length", "transfer-encoding"].contains(&name.as_str()))
        {
            request = request.header(name, value);
        }
        let answer = request.send().await.ok()?;
        let mut built = Response::builder().status(answer.status());
        for (name, value) in answer.headers().iter().filter(|(name, _)| !["transfer-encoding", "connection"].contains(&name.as_str())) {
            built = built.header(name, value);
        }
        built.body(Body::from(answer.bytes().await.ok()?)).ok()
    }
}

async fn pass(State(proxy): State<Proxy>, request: Request<Body>) -> Response<Body> {
    let (parts, body) = request.into_parts();
    let gone = || {
        let mut answer = Response::new(Body::from("the link is cut"));
        *answer.status_mut() = StatusCode::BAD_GATEWAY;
        answer
    };
    let Ok(body) = axum::body::to_bytes(body, usize::MAX).await else { return gone() };
    if let Some(longer) = proxy.held(parts.uri.path()) {
        tokio::time::sleep(longer).await;
    }
    match proxy.fate() {
        Fate::Lost => return gone(),
        Fate::AnswerLost => {
            let _ = proxy.forward(&parts, body).await;
            return gone();
        }
        Fate::Twice => drop(proxy.forward(&parts, body.clone()).await),
        Fate::Slow(pause) => tokio::time::sleep(pause).await,
        Fate::Well => {}
    }
    proxy.forward(&parts, body).await.unwrap_or_else(gone)
}
