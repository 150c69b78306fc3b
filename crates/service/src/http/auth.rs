//! Who calls: a person (bearer token, or the console's session cookie) or a runner (its credential).

use super::error::ApiError;
use crate::app::App;
use crate::clock;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use ordotaxis_store::{Kind, digest_of};
use std::sync::PoisonError;

pub(super) const COOKIE: &str = "ordotaxis_session";

/// A signed-in person, by name.
pub(crate) struct Person(pub(crate) String);

/// A runner, by name.
pub(crate) struct AsRunner(pub(crate) String);

pub(super) fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

pub(super) fn session_cookie(headers: &HeaderMap) -> Option<&str> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    cookies.flat_map(|line| line.split(';')).find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

impl FromRequestParts<App> for Person {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Person, ApiError> {
        let now = clock::now();
        let name = match (bearer(&parts.headers), session_cookie(&parts.headers)) {
            (Some(token), _) => app.records.key_owner(Kind::User, token, now).await?,
            (None, Some(session)) => app.records.key_owner(Kind::Session, session, now).await?,
            (None, None) => None,
        };
        let detail = "sign in first: send a bearer token, or run `ordotaxis sign-in`";
        name.map(Person).ok_or_else(|| ApiError::new(StatusCode::UNAUTHORIZED, "not-signed-in", detail))
    }
}

impl FromRequestParts<App> for AsRunner {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<AsRunner, ApiError> {
        let refused = || {
            let detail = "this is not the credential of an enrolled runner; enrol it again with `ordotaxis runner enrol`";
            ApiError::new(StatusCode::UNAUTHORIZED, "unknown-runner", detail)
        };
        let credential = bearer(&parts.headers).ok_or_else(refused)?;
        let digest = digest_of(credential);
        let known = app.runner_names.read().unwrap_or_else(PoisonError::into_inner).get(&digest).cloned();
        if let Some(name) = known {
            return Ok(AsRunner(name));
        }
        let name = app.records.runner_by_credential(credential).await?.ok_or_else(refused)?;
        app.runner_names.write().unwrap_or_else(PoisonError::into_inner).insert(digest, name.clone());
        Ok(AsRunner(name))
    }
}
