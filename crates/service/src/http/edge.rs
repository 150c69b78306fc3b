//! What every call passes before anything else is done with it, and every answer on its way out.
//!
//! - calls for a name that is not this service's are refused, so that a page elsewhere cannot reach it by a name of its own;
//! - an unsafe call of a browser must come from the service's own pages;
//! - answers say what a browser may do with them;
//! - wrong guesses (tokens, links, invitations, signatures) have a limit, by address and by what they are guessed for;
//! - a handler that panics answers 500 like any other failure, and is counted.

use super::caller::{bearer, session_cookie};
use super::error::ApiError;
use crate::app::App;
use axum::extract::connect_info::ConnectInfo;
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use futures_util::FutureExt;
use std::collections::HashMap;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Which names and proxies are known; made when the service starts.
#[derive(Debug, Clone, Default)]
pub(crate) struct Known {
    /// `HOST` or `HOST:PORT`, in lower case.
    hosts: Vec<String>,
    /// Whose word about the caller's address counts.
    proxies: Vec<IpAddr>,
}

impl Known {
    /// The names that the service is reached by: its public address, where it listens, and what the configuration adds.
    pub(crate) fn new(public_url: &str, listen: SocketAddr, more: &[String], proxies: Vec<IpAddr>) -> Known {
        let port = listen.port();
        let mut hosts: Vec<String> = more.iter().map(|name| name.to_lowercase()).collect();
        hosts.extend(authority(public_url));
        hosts.push(listen.to_string());
        hosts.extend(["localhost", "127.0.0.1", "[::1]"].map(|name| format!("{name}:{port}")));
        Known { hosts, proxies }
    }

    fn has(&self, host: &str) -> bool {
        let host = host.to_lowercase();
        let name =
            host.rsplit_once(':').map_or(host.as_str(), |(name, port)| if port.bytes().all(|b| b.is_ascii_digit()) { name } else { &host });
        self.hosts.iter().any(|known| *known == host || *known == name)
    }
}

/// `http://HOST:PORT/…` → `HOST:PORT`
fn authority(url: &str) -> Option<String> {
    let rest = url.split_once("://")?.1;
    Some(rest.split(['/', '?', '#']).next()?.rsplit('@').next()?.to_lowercase())
}

/// The caller's address: the connection's, or what a known proxy says of it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Address(pub(super) IpAddr);

impl FromRequestParts<App> for Address {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Address, Infallible> {
        let own = parts.extensions.get::<ConnectInfo<SocketAddr>>().map_or(IpAddr::from([0, 0, 0, 0]), |info| info.0.ip());
        Ok(Address(caller(&app.known, own, &parts.headers)))
    }
}

fn caller(known: &Known, own: IpAddr, headers: &HeaderMap) -> IpAddr {
    if !known.proxies.contains(&own) {
        return own;
    }
    // The last that is no proxy: what stands before it could have been made up by whoever it is.
    let lines = headers.get_all("x-forwarded-for").iter().filter_map(|line| line.to_str().ok());
    let named: Vec<IpAddr> = lines.flat_map(|line| line.split(',')).filter_map(|one| one.trim().parse().ok()).collect();
    named.into_iter().rev().find(|address| !known.proxies.contains(address)).unwrap_or(own)
}

/// How often a handler has panicked.
#[derive(Debug, Default)]
pub(crate) struct Panics(AtomicU64);

impl Panics {
    pub(crate) fn count(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

pub(super) async fn guard(State(app): State<App>, request: Request, next: Next) -> Response {
    let answer = match refused(&app, &request) {
        Some(refusal) => refusal.into_response(),
        None => match AssertUnwindSafe(next.run(request)).catch_unwind().await {
            Ok(answer) => answer,
            Err(_) => {
                app.panics.0.fetch_add(1, Ordering::Relaxed);
                ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "the service could not do this; its log says why")
                    .into_response()
            }
        },
    };
    dressed(answer)
}

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

/// How many wrong guesses an address has within [`WINDOW`], and how many may be made for one thing from anywhere before
/// addresses that have guessed wrongly at all are shut out.
const GUESSES: u32 = 20;
const GUESSES_FOR_ONE: u32 = 200;
const WINDOW: Duration = Duration::from_secs(60);
/// More are not remembered; the oldest go first.
const REMEMBERED: usize = 50_000;

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Guessed {
    By(&'static str, IpAddr),
    For(&'static str, String),
}

impl Guessed {
    /// What is guessed for comes from the caller: of a long one the beginning stands for it.
    fn of(route: &'static str, of: &str) -> Guessed {
        Guessed::For(route, of.chars().take(64).collect())
    }
}

/// Wrong guesses of late.
#[derive(Debug, Default)]
pub(crate) struct Guesses(Mutex<HashMap<Guessed, (u32, Instant)>>);

impl Guesses {
    fn count(&self, what: &Guessed, now: Instant) -> u32 {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(what).filter(|(_, since)| now.duration_since(*since) < WINDOW).map_or(0, |(count, _)| *count)
    }

    /// Whether another guess may be made.
    pub(super) fn check(&self, route: &'static str, caller: Address, of: &str) -> Result<(), ApiError> {
        let now = Instant::now();
        let own = self.count(&Guessed::By(route, caller.0), now);
        let shut = own >= GUESSES || own > 0 && self.count(&Guessed::of(route, of), now) >= GUESSES_FOR_ONE;
        if shut {
            let detail = "too many wrong attempts came from this address; wait a minute, then try again";
            return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, "too-many-attempts", detail));
        }
        Ok(())
    }

    /// Notes a wrong one.
    pub(super) fn wrong(&self, route: &'static str, caller: Address, of: &str) {
        let now = Instant::now();
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= REMEMBERED {
            known.retain(|_, (_, since)| now.duration_since(*since) < WINDOW);
        }
        if known.len() >= REMEMBERED
            && let Some(oldest) = known.iter().min_by_key(|(_, (_, since))| *since).map(|(what, _)| what.clone())
        {
            known.remove(&oldest);
        }
        for what in [Guessed::By(route, caller.0), Guessed::of(route, of)] {
            let one = known.entry(what).or_insert((0, now));
            if now.duration_since(one.1) >= WINDOW {
                *one = (0, now);
            }
            one.0 = one.0.saturating_add(1);
        }
    }
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
    fn only_known_names_are_answered() {
        for (host, fits) in [
            ("ci.saltmarsh.example", true),
            ("CI.saltmarsh.example", true),
            ("127.0.0.1:7070", true),
            ("localhost:7070", true),
            ("tide:8080", true),
            ("evil.example", false),
            ("127.0.0.1:7071", false),
            ("ci.saltmarsh.example.evil.example", false),
            ("", false),
        ] {
            assert_eq!(known().has(host), fits, "{host}");
        }
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

    #[test]
    fn only_a_known_proxy_says_who_calls() {
        let (proxy, other): (IpAddr, IpAddr) = ("10.0.0.1".parse().unwrap(), "10.0.0.2".parse().unwrap());
        let said = headers(&[("x-forwarded-for", "1.1.1.1, 203.0.113.9, 10.0.0.1")]);
        assert_eq!(caller(&known(), proxy, &said), "203.0.113.9".parse::<IpAddr>().unwrap());
        assert_eq!(caller(&known(), other, &said), other);
        assert_eq!(caller(&known(), proxy, &headers(&[("x-forwarded-for", "nonsense")])), proxy);
    }

    #[test]
    fn wrong_guesses_have_a_limit() {
        let guesses = Guesses::default();
        let from = |last: u8| Address(IpAddr::from([10, 0, 1, last]));
        for _ in 0..GUESSES {
            guesses.check("sign-in", from(1), "x").unwrap();
            guesses.wrong("sign-in", from(1), "x");
        }
        assert!(guesses.check("sign-in", from(1), "x").is_err());
        guesses.check("sign-in", from(2), "x").unwrap();
        guesses.check("hooks", from(1), "x").unwrap();
        // Many addresses that each guess a little at one thing.
        for last in 0..200 {
            guesses.wrong("hooks", from(last), "tidegauge");
        }
        assert!(guesses.check("hooks", from(7), "tidegauge").is_err(), "who has guessed wrongly is shut out");
        guesses.check("hooks", from(250), "tidegauge").unwrap();
        let long = "tidegauge".repeat(20);
        (0..200).for_each(|last| guesses.wrong("enrol", from(last), &long));
        assert!(guesses.check("enrol", from(7), &long).is_err(), "a long name is counted like a short one");
    }
}
