//! One request to a forge, as its profile says: bounded in time and size, without following redirects, so that what opens
//! the forge never goes anywhere else.

use crate::app::App;
use crate::unreached::cause;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ordotaxis_core::forge::{Answer, Call, Kind, NotFilled, Outcome, Payload, Profile, Request};
use ordotaxis_store::Project;
use reqwest::header::{HeaderMap, HeaderName, HeaderValue, USER_AGENT};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// The largest answer that is read.
const LARGEST: usize = 8 << 20;
/// The longest that a forge may make us wait by its `Retry-After`.
const MOST_PATIENCE: Duration = Duration::from_secs(60 * 60);

/// A project's forge, ready to be asked.
pub(crate) struct Forge<'a> {
    app: &'a App,
    at: &'a ordotaxis_store::Forge,
    profile: Arc<Profile>,
    token: String,
}

/// How a call ended that did not fail.
#[derive(Debug)]
pub(crate) struct Called {
    pub(crate) headers: BTreeMap<String, String>,
    pub(crate) body: Value,
}

/// Why there is no answer to use.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CallError {
    #[error("there is no forge profile `{0}`")]
    NoProfile(String),
    #[error("the profile has no [request.{0}]")]
    NoRequest(&'static str),
    #[error(transparent)]
    NotFilled(#[from] NotFilled),
    #[error("the profile's request cannot be made: {0}")]
    Form(String),
    #[error("the forge could not be reached: {0}")]
    Unreachable(String),
    #[error("{why}")]
    Again { why: String, after: Option<Duration> },
    #[error("{0}")]
    Gone(String),
    #[error("{0}")]
    Refused(String),
    #[error("the forge's answer is not what [request.{request}] expects: {why}")]
    Odd { request: &'static str, why: String },
}

impl CallError {
    /// Trying again cannot help: what was asked for is not there, is not allowed, or was not understood.
    pub(crate) fn is_final(&self) -> bool {
        !matches!(self, CallError::Unreachable(_) | CallError::Again { .. } | CallError::Odd { .. })
    }

    /// How long the forge asked us to wait.
    pub(crate) fn after(&self) -> Option<Duration> {
        if let CallError::Again { after, .. } = self { *after } else { None }
    }
}

impl<'a> Forge<'a> {
    /// The forge of a project; none where it has none.
    pub(crate) fn of(app: &'a App, project: &'a Project) -> Option<Result<Forge<'a>, CallError>> {
        let at = project.forge.as_ref()?;
        Some(Forge::new(app, at, app.forge_token(project).unwrap_or_default()))
    }

    /// A forge of which no project is known yet.
    pub(super) fn new(app: &'a App, at: &'a ordotaxis_store::Forge, token: String) -> Result<Forge<'a>, CallError> {
        let profile = app.profiles.get(&at.profile).cloned().ok_or_else(|| CallError::NoProfile(at.profile.clone()))?;
        Ok(Forge { app, at, profile, token })
    }

    /// Whether the profile knows such a request.
    pub(crate) fn can(&self, kind: Kind) -> bool {
        self.profile.requests.contains_key(&kind)
    }

    /// The forge's word for a state.
    pub(crate) fn word(&self, state: &str) -> String {
        self.profile.word(state)
    }

    /// What the thing is called that a request made, where the profile says where that stands.
    pub(crate) fn made(&self, kind: Kind, body: &Value) -> Option<String> {
        self.profile.requests.get(&kind)?.made(body)
    }

    pub(super) fn request(&self, kind: Kind) -> Result<&Request, CallError> {
        self.profile.requests.get(&kind).ok_or(CallError::NoRequest(kind.word()))
    }

    /// Makes a request with these values and those that every request has.
    pub(crate) async fn ask(&self, kind: Kind, values: BTreeMap<&'static str, String>) -> Result<Called, CallError> {
        self.send(kind, self.request(kind)?, self.call(kind, values)?).await
    }

    /// The next page of a list: an address that the forge named. It must be the forge's own, or the token would go elsewhere.
    pub(super) async fn ask_page(&self, kind: Kind, first: &Call, address: &str) -> Result<Called, CallError> {
        let odd = |why: String| CallError::Odd { request: kind.word(), why };
        let base = url::Url::parse(&first.url).map_err(|error| odd(error.to_string()))?;
        let next = base.join(address).map_err(|_| odd("the next page's address is none".into()))?;
        if next.origin() != base.origin() {
            return Err(odd(format!("the next page lies at {}, which is another server", next.host_str().unwrap_or("no host"))));
        }
        self.send(kind, self.request(kind)?, Call { url: next.into(), ..first.clone() }).await
    }

    /// The call that a request is, with these values and those that every request has.
    pub(super) fn call(&self, kind: Kind, mut values: BTreeMap<&'static str, String>) -> Result<Call, CallError> {
        values.extend([
            ("url", self.at.url.trim_end_matches('/').to_owned()),
            ("repository", self.at.repository.clone()),
            ("basic", STANDARD.encode(&self.token)),
            ("token", self.token.clone()),
        ]);
        Ok(self.request(kind)?.call(kind, &values)?)
    }

    async fn send(&self, kind: Kind, request: &Request, call: Call) -> Result<Called, CallError> {
        let method = reqwest::Method::from_bytes(call.method.as_bytes()).map_err(|error| CallError::Form(error.to_string()))?;
        let asked = self.app.http.request(method, &call.url).headers(headers(&call.headers)?);
        let asked = match &call.payload {
            Payload::None => asked,
            Payload::Json(value) => asked.json(value),
            Payload::Form(fields) => asked.form(fields),
        };
        let unreachable = |error: reqwest::Error| CallError::Unreachable(cause(&error));
        let mut answer = asked.send().await.map_err(unreachable)?;
        let (status, patience) = (answer.status().as_u16(), patience(answer.headers(), crate::clock::now()));
        let headers = kept(answer.headers());
        let mut body = Vec::new();
        while let Some(piece) = answer.chunk().await.map_err(unreachable)? {
            body.extend_from_slice(&piece);
            if body.len() > LARGEST {
                return Err(CallError::Refused(format!("the forge's answer is larger than {} MiB", LARGEST >> 20)));
            }
        }
        match request.outcome(&Answer { status, headers: &headers, body: &body }) {
            Outcome::Done => {}
            Outcome::Gone(why) => return Err(CallError::Gone(why)),
            Outcome::Again(why) => return Err(CallError::Again { why, after: patience }),
            Outcome::Refused(why) => return Err(CallError::Refused(why)),
        }
        let reads = request.id.is_some() || request.item.is_some();
        let body = match serde_json::from_slice(&body) {
            Ok(body) => body,
            Err(error) if reads => return Err(CallError::Odd { request: kind.word(), why: format!("it is not JSON: {error}") }),
            Err(_) => Value::Null,
        };
        Ok(Called { headers, body })
    }
}

fn headers(list: &[(String, String)]) -> Result<HeaderMap, CallError> {
    let mut headers = HeaderMap::new();
    headers.insert(USER_AGENT, HeaderValue::from_static("ordotaxis"));
    for (name, value) in list {
        let form = || CallError::Form(format!("the header `{name}` cannot have its value"));
        let mut value = HeaderValue::from_str(value).map_err(|_| form())?;
        value.set_sensitive(true);
        headers.insert(HeaderName::from_bytes(name.as_bytes()).map_err(|_| form())?, value);
    }
    Ok(headers)
}

fn kept(headers: &HeaderMap) -> BTreeMap<String, String> {
    headers.iter().filter_map(|(name, value)| Some((name.as_str().to_owned(), value.to_str().ok()?.to_owned()))).collect()
}

/// `Retry-After` (RFC 9110): seconds, or a date. Clocks may be apart: a date is as far away as the answer's own `Date` says.
fn patience(headers: &HeaderMap, now_ms: i64) -> Option<Duration> {
    let text = headers.get("retry-after")?.to_str().ok()?.trim();
    let asked = match text.parse::<u64>() {
        Ok(seconds) => Duration::from_secs(seconds),
        Err(_) => {
            let date = |text: &str| Some(jiff::fmt::rfc2822::parse(text).ok()?.timestamp().as_millisecond());
            let theirs = headers.get("date").and_then(|value| date(value.to_str().ok()?));
            Duration::from_millis(u64::try_from(date(text)? - theirs.unwrap_or(now_ms)).ok()?)
        }
    };
    Some(asked.min(MOST_PATIENCE))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patience_is_seconds_or_a_date_and_bounded() {
        let at = |text: &str| {
            let mut headers = HeaderMap::new();
            headers.insert("retry-after", HeaderValue::from_str(text).unwrap());
            patience(&headers, 784_887_151_000)
        };
        assert_eq!(at("120"), Some(Duration::from_secs(120)));
        assert_eq!(at("Tue, 15 Nov 1994 08:12:41 GMT"), Some(Duration::from_secs(10)));
        assert_eq!(at("Tue, 15 Nov 1994 08:12:01 GMT"), None, "it is over");
        assert_eq!(at("999999999"), Some(MOST_PATIENCE));
        assert_eq!(at("soon"), None);
        let mut apart = HeaderMap::new();
        apart.insert("date", HeaderValue::from_static("Tue, 15 Nov 1994 10:00:00 GMT"));
        apart.insert("retry-after", HeaderValue::from_static("Tue, 15 Nov 1994 10:00:30 GMT"));
        assert_eq!(patience(&apart, 784_887_151_000), Some(Duration::from_secs(30)), "the forge's clock is two hours ahead");
    }
}
