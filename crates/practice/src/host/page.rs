//! The machine's addresses.

use super::running::Running;
use super::{Host, Trouble};
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, State};
use axum::http::{HeaderMap, Response, StatusCode, header};
use axum::response::IntoResponse;
use axum::routing::{get, put};
use axum::{Json, Router};
use std::time::Duration;

/// The largest bundle.
const LARGEST: usize = 64 << 20;
/// How slow it is when it is slow.
const SLOW: Duration = Duration::from_secs(2);
/// Longer than anybody waits.
const SILENCE: Duration = Duration::from_secs(600);

impl Host {
    pub(super) fn router(self) -> Router {
        Router::new()
            .route("/now", get(now))
            .route("/bundle", put(bundle).layer(DefaultBodyLimit::max(LARGEST)))
            .route("/trouble", put(trouble))
            .with_state(self)
    }

    /// Bearer authentication (RFC 6750).
    fn knows(&self, headers: &HeaderMap) -> bool {
        let sent = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
        self.key.as_deref().is_none_or(|key| sent == Some(key))
    }

    /// Puts a bundle in place of the one that is there, and starts it.
    async fn put(&self, bytes: &[u8], trouble: Trouble) -> std::io::Result<()> {
        let mut now = self.now.lock().await;
        let (new, place) = (self.folder.join("bundle.new"), self.folder.join("bundle"));
        std::fs::write(&new, bytes)?;
        if trouble == Trouble::Stays {
            return Ok(());
        }
        std::fs::rename(&new, &place)?;
        now.running = None;
        now.running = Some(Running::start(&self.program, &self.name, &place).await?);
        Ok(())
    }

    /// Nothing runs any more, and half of what came lies there.
    async fn die(&self, bytes: &[u8]) {
        self.now.lock().await.running = None;
        let _ = std::fs::write(self.folder.join("bundle"), &bytes[..bytes.len() / 2]);
    }
}

async fn now(State(host): State<Host>) -> Response<Body> {
    let trouble = host.now.lock().await.trouble;
    match trouble {
        Trouble::Slow => tokio::time::sleep(SLOW).await,
        Trouble::Silent => tokio::time::sleep(SILENCE).await,
        Trouble::Page => return axum::response::Html("<html><body>It works.</body></html>").into_response(),
        Trouble::Half => return half(),
        _ => {}
    }
    let says = match &host.now.lock().await.running {
        Some(running) => running.says().await,
        None => return (StatusCode::SERVICE_UNAVAILABLE, "nothing runs here\n").into_response(),
    };
    says.map_or_else(
        |error| (StatusCode::BAD_GATEWAY, format!("what runs here does not answer: {error}\n")).into_response(),
        IntoResponse::into_response,
    )
}

async fn bundle(State(host): State<Host>, headers: HeaderMap, bytes: Bytes) -> Response<Body> {
    if !host.knows(&headers) {
        return (StatusCode::UNAUTHORIZED, "this is not the key\n").into_response();
    }
    let trouble = host.now.lock().await.trouble;
    match trouble {
        Trouble::Refuses => return (StatusCode::INSUFFICIENT_STORAGE, "there is no room for it\n").into_response(),
        Trouble::Dies => {
            host.die(&bytes).await;
            return half();
        }
        Trouble::Slow => tokio::time::sleep(SLOW).await,
        _ => {}
    }
    match host.put(&bytes, trouble).await {
        Ok(()) => format!("{} bytes are there\n", bytes.len()).into_response(),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, format!("{error}\n")).into_response(),
    }
}

async fn trouble(State(host): State<Host>, Json(trouble): Json<Trouble>) -> String {
    host.now.lock().await.trouble = trouble;
    format!("{}: {}\n", host.name, serde_json::to_string(&trouble).unwrap_or_default())
}

/// An answer that breaks off.
fn half() -> Response<Body> {
    let broken = Err(std::io::Error::other("the machine is gone"));
    let parts = futures_util::stream::iter([Ok::<_, std::io::Error>(Bytes::from_static(b"north")), broken]);
    ([(header::CONTENT_LENGTH, "4096")], Body::from_stream(parts)).into_response()
}
