//! Signing in and out. A browser trades a token, or the one-use code of a sign-in link, for a session cookie that no
//! script can read and no other site can send.

use super::auth::{COOKIE, Person, session_cookie};
use super::edge::Caller;
use super::error::ApiError;
use super::extract::Body;
use crate::app::App;
use crate::clock;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse};
use ordotaxis_store::{Kind, Secret};
use ordotaxis_wire::ask::{NewSession, SignInLink};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::view::Me;

const SESSION_SECONDS: i64 = 30 * 24 * 3600;
const CODE_MS: i64 = 10 * 60 * 1000;

/// Sign a browser in.
#[utoipa::path(post, operation_id = "sign_in", path = "/api/v1/session", request_body = NewSession, responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub(super) async fn sign_in(State(app): State<App>, caller: Caller, Body(ask): Body<NewSession>) -> Result<impl IntoResponse, ApiError> {
    app.guesses.check("sign-in", caller, "")?;
    let now = clock::now();
    app.records.remove_ended_keys(now).await?;
    let name = match &ask {
        NewSession::Token(token) => app.records.key_owner(Kind::User, token.trim(), now).await?,
        NewSession::Code(code) => app.records.use_key(Kind::Code, code, now).await?,
    };
    let detail = match ask {
        NewSession::Token(_) => "this token is not known; `ordotaxis serve` printed the owner's token at its first start",
        NewSession::Code(_) => "this link has been used or is older than ten minutes; `ordotaxis sign-in --link` prints a new one",
    };
    let Some(name) = name else {
        app.guesses.wrong("sign-in", caller, "");
        return Err(ApiError::new(StatusCode::UNAUTHORIZED, "not-known", detail));
    };
    let session = Secret::random("oxs");
    app.records.add_key(Kind::Session, session.expose(), &name, now, Some(now + SESSION_SECONDS * 1000)).await?;
    let cookie = cookie(session.expose(), SESSION_SECONDS, &app.public_url);
    Ok((AppendHeaders([(header::SET_COOKIE, cookie)]), Json(Me { name })))
}

/// Sign this browser out.
#[utoipa::path(delete, operation_id = "sign_out", path = "/api/v1/session", responses((status = 204)))]
pub(super) async fn sign_out(State(app): State<App>, headers: HeaderMap) -> Result<impl IntoResponse, ApiError> {
    if let Some(session) = session_cookie(&headers) {
        app.records.remove_key(Kind::Session, session).await?;
    }
    Ok((StatusCode::NO_CONTENT, AppendHeaders([(header::SET_COOKIE, cookie("", 0, &app.public_url))])))
}

fn cookie(value: &str, seconds: i64, public_url: &str) -> String {
    let secure = if public_url.starts_with("https:") { "; Secure" } else { "" };
    format!("{COOKIE}={value}; Path=/; Max-Age={seconds}; HttpOnly; SameSite=Strict{secure}")
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "me", path = "/api/v1/me", responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub(super) async fn me(Person(name): Person) -> Json<Me> {
    Json(Me { name })
}

/// Make a link that signs a browser in, once.
#[utoipa::path(post, operation_id = "sign_in_link", path = "/api/v1/sign-in-links", responses((status = 200, body = SignInLink)))]
pub(super) async fn link(State(app): State<App>, Person(name): Person) -> Result<Json<SignInLink>, ApiError> {
    let code = Secret::random("oxc");
    let now = clock::now();
    app.records.add_key(Kind::Code, code.expose(), &name, now, Some(now + CODE_MS)).await?;
    Ok(Json(SignInLink { url: format!("{}/sign-in#{}", app.public_url, code.expose()) }))
}
