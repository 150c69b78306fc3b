//! What every call passes before anything else is done with it, and every answer on its way out.
//!
//! - calls for a name that is not this service's are refused, so that a page elsewhere cannot reach it by a name of its own;
//! - an unsafe call of a browser must come from the service's own pages;
//! - answers say what a browser may do with them;
//! - wrong guesses (tokens, links, invitations, signatures) have a limit, by address and by what they are guessed for;
//! - a handler that panics answers 500 like any other failure, and is counted, as every answer is;
//! - every call has an id, which its answer carries and the log names.

use super::caller::{bearer, session_cookie};
use super::error::ApiError;
use super::known::{Address, Known, authority, caller};
use crate::app::App;
use axum::extract::connect_info::ConnectInfo;
use axum::extract::{FromRequestParts, MatchedPath, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use futures_util::FutureExt;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::panic::AssertUnwindSafe;
use std::time::Instant;
use tracing::field::Empty;
use tracing::{Instrument, Span};

impl FromRequestParts<App> for Address {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Address, Infallible> {
        let own = parts.extensions.get::<ConnectInfo<SocketAddr>>().map_or(IpAddr::from([0, 0, 0, 0]), |info| info.0.ip());
        Ok(Address(caller(&app.known, own, &parts.headers)))
    }
}

/// Refuses what no handler needs to see, and turns a panic into an answer with status 500.
pub(super) async fn guard(State(app): State<App>, request: Request, next: Next) -> Response {
    let since = Instant::now();
    let (route, method) = (route(&request), request.method().clone());
    let id = format!("{:016x}", rand::random::<u64>());
    // All that is logged on its behalf names the call: whoever is told the id finds it.
    let call = tracing::error_span!("call", id, route);
    let own = own_span(&method, &route, &id);
    let answer = match refused(&app, &request) {
        Some(refusal) => refusal.into_response(),
        None => match AssertUnwindSafe(next.run(request).instrument(call).instrument(own.clone())).catch_unwind().await {
            Ok(answer) => answer,
            Err(_) => {
                app.counters.panics.inc();
                ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "the service could not do this; its log says why")
                    .into_response()
            }
        },
    };
    own.record("http.response.status_code", i64::from(answer.status().as_u16()));
    if answer.status().is_server_error() {
        own.record("otel.status_code", "ERROR");
    }
    app.counters.answered(route, &method, answer.status(), since.elapsed());
    let mut answer = dressed(answer);
    answer.headers_mut().extend(HeaderValue::from_str(&id).map(|id| (CALL, id)).ok());
    answer
}

/// A call as the service's own spans have it (OpenTelemetry's conventions for HTTP).
fn own_span(method: &Method, route: &str, id: &str) -> Span {
    tracing::info_span!(
        "http",
        otel.name = %format_args!("{method} {route}"),
        otel.kind = "server",
        otel.status_code = Empty,
        http.request.method = %method,
        http.route = route,
        http.response.status_code = Empty,
        ordotaxis.call = id,
    )
}

/// Names a call, in its answer and in the log.
const CALL: HeaderName = HeaderName::from_static("x-request-id");

/// The template of the call's address; what no template fits is the console's.
fn route(request: &Request) -> String {
    request.extensions().get::<MatchedPath>().map_or("console", MatchedPath::as_str).to_owned()
}

/// Why a call is not even looked at: another host, another site's page, too long.
fn refused(app: &App, request: &Request) -> Option<ApiError> {
    let headers = request.headers();
    // Machines that only ask whether the service lives know it by its number.
    if matches!(request.uri().path(), "/healthz" | "/readyz") {
        return None;
    }
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).or(request.uri().authority().map(|name| name.as_str()));
    if !host.is_some_and(|host| app.known.has(host)) {
        let detail = "the call names another host; `public_url` and `hosts` in the configuration say which names are the service's";
        return Some(ApiError::new(StatusCode::MISDIRECTED_REQUEST, "other-host", detail));
    }
    let safe = matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if safe || bearer(headers).is_some() || comes_from_here(&app.known, headers) {
        return None;
    }
    let detail = "the call comes from a page elsewhere; nothing was done";
    Some(ApiError::new(StatusCode::FORBIDDEN, "cross-site", detail))
}

/// Whether an unsafe call without a token can be the console's own. What no browser sends holds no session.
fn comes_from_here(known: &Known, headers: &HeaderMap) -> bool {
    let said = |name: HeaderName| headers.get(name).map(|value| value.to_str().unwrap_or("?").to_owned());
    let site = said(HeaderName::from_static("sec-fetch-site"));
    let origin = said(header::ORIGIN);
    let site_fits = site.as_ref().is_none_or(|site| site == "same-origin");
    let origin_fits = origin.as_ref().is_none_or(|origin| authority(origin).is_some_and(|host| known.has(&host)));
    let told = site.is_some() || origin.is_some();
    site_fits && origin_fits && (told || session_cookie(headers).is_none())
}

/// What a browser may do with an answer, where its handler does not say more.
fn dressed(mut answer: Response) -> Response {
    let headers = answer.headers_mut();
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
        (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
        (HeaderName::from_static("cross-origin-resource-policy"), "same-origin"),
    ] {
        headers.entry(name).or_insert(HeaderValue::from_static(value));
    }
    answer
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known() -> Known {
        Known::new("https://ci.saltmarsh.example/x", "127.0.0.1:7070".parse().unwrap(), &["tide".into()], vec!["10.0.0.1".parse().unwrap()])
    }

    fn headers(pairs: &[(&'static str, &str)]) -> HeaderMap {
        pairs.iter().map(|(name, value)| (HeaderName::from_static(name), HeaderValue::from_str(value).unwrap())).collect()
    }

    #[test]
    fn a_browsers_unsafe_call_must_come_from_here() {
        for (sent, fits) in [
            (vec![], true),
            (vec![("cookie", "ordotaxis_session=x")], false),
            (vec![("cookie", "ordotaxis_session=x"), ("origin", "https://ci.saltmarsh.example")], true),
            (vec![("cookie", "ordotaxis_session=x"), ("origin", "https://evil.example")], false),
            (vec![("origin", "null")], false),
            (vec![("cookie", "ordotaxis_session=x"), ("sec-fetch-site", "same-origin")], true),
            (vec![("cookie", "ordotaxis_session=x"), ("sec-fetch-site", "cross-site")], false),
            (vec![("cookie", "ordotaxis_session=x"), ("sec-fetch-site", "same-site"), ("origin", "https://ci.saltmarsh.example")], false),
        ] {
            assert_eq!(comes_from_here(&known(), &headers(&sent)), fits, "{sent:?}");
        }
    }
}
