//! Calls meet the faults that were asked for.

use crate::fault::What;
use crate::forge::Forge;
use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::time::Duration;

/// Lets a call through, or lets it meet the fault that waits for it.
pub(crate) async fn meet(State(forge): State<Forge>, request: Request, next: Next) -> Response {
    let brings = ["authorization", "x-beacon-pass"].iter().any(|name| request.headers().contains_key(*name));
    let fault = {
        let mut faults = forge.faults();
        let at = faults.iter().position(|fault| brings && fault.fits(request.uri().path()));
        at.map(|at| faults.remove(at).what)
    };
    match fault {
        None => next.run(request).await,
        Some(What::Slow { ms }) => {
            let answer = next.run(request).await;
            forge.late.hold(Duration::from_millis(ms)).await;
            answer
        }
        Some(What::Status { status }) => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            (status, "the practice forge was told to refuse this\n").into_response()
        }
        Some(What::Busy { seconds }) => (StatusCode::TOO_MANY_REQUESTS, [(header::RETRY_AFTER, seconds.to_string())]).into_response(),
        Some(What::Half) => {
            let broken = futures_util::stream::iter([
                Ok(Bytes::from_static(b"{\"proposals\": [{")),
                Err(std::io::Error::other("told to break off")),
            ]);
            ([(header::CONTENT_TYPE, "application/json")], Body::from_stream(broken)).into_response()
        }
        Some(What::Page) => axum::response::Html("<!doctype html><title>Sign in</title><form>").into_response(),
        Some(What::Redirect { to }) => (StatusCode::FOUND, [(header::LOCATION, to)]).into_response(),
    }
}
