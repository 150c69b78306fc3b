//! Signing in and out. A browser trades a token, the one-use code of a sign-in link, or a provider's answer for a session
//! cookie that no script can read and no other site can send; and which browsers are signed in.

use crate::app::App;
use crate::clock;
use crate::http::caller::{COOKIE, Caller, IDLE_MS, session_cookie};
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::http::known::Address;
use crate::sign_in::{self, SignInError};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse};
use ordotaxis_core::access::{Action, Actor, Limit, Rights, Way, Who};
use ordotaxis_store::{Entry, Kind, NewSession as NewSessionRow, PersonRow, Secret, SessionRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::session::{Me, NewSession, SessionView, SignInLink, SignInWays};
use serde::Deserialize;
use std::collections::BTreeMap;
use utoipa::IntoParams;

/// However often a session is used, it ends.
const SESSION_SECONDS: i64 = 30 * 24 * 3600;
const CODE_MS: i64 = 10 * 60 * 1000;
/// Ties a sign-in at a provider to the browser that began it.
const STATE_COOKIE: &str = "ordotaxis_sign_in";

/// How one can sign in.
#[utoipa::path(get, operation_id = "sign_in_ways", path = "/api/v1/sign-in", responses((status = 200, body = SignInWays)))]
pub(crate) async fn ways(State(app): State<App>) -> Json<SignInWays> {
    let provider = app.settings.sign_in.as_ref().map(|provider| provider.name.clone());
    let url = provider.is_some().then(|| "/api/v1/sign-in/begin".to_owned());
    Json(SignInWays { provider, url })
}

/// Send a browser to the provider.
#[utoipa::path(get, operation_id = "begin_sign_in", path = "/api/v1/sign-in/begin", responses((status = 303, description = "to the provider"), (status = 409, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn begin(State(app): State<App>) -> Result<impl IntoResponse, ApiError> {
    let (url, state) = sign_in::begin(&app).await.map_err(refused)?;
    // The provider sends the browser back from its own site: `Lax` lets the cookie come along.
    let cookie = format!("{STATE_COOKIE}={state}; Path=/api/v1/session; Max-Age=600; HttpOnly; SameSite=Lax{}", secure(&app.public_url));
    Ok((StatusCode::SEE_OTHER, AppendHeaders([(header::SET_COOKIE, cookie), (header::LOCATION, url)])))
}

fn refused(error: SignInError) -> ApiError {
    let (status, kind) = match &error {
        SignInError::NoProvider => (StatusCode::CONFLICT, "no-provider"),
        SignInError::Away(_) => (StatusCode::BAD_GATEWAY, "provider-away"),
        SignInError::Unknown | SignInError::Refused(_) => (StatusCode::UNAUTHORIZED, "not-known"),
        SignInError::Stranger { .. } => (StatusCode::FORBIDDEN, "stranger"),
        SignInError::Store(_) => (StatusCode::INTERNAL_SERVER_ERROR, "internal"),
    };
    match error {
        SignInError::Store(error) => error.into(),
        error => ApiError::new(status, kind, error.to_string()),
    }
}

/// Sign a browser in.
#[utoipa::path(post, operation_id = "sign_in", path = "/api/v1/session", request_body = NewSession, responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub(crate) async fn sign_in(
    State(app): State<App>,
    address: Address,
    headers: HeaderMap,
    Body(ask): Body<NewSession>,
) -> Result<impl IntoResponse, ApiError> {
    app.guesses.check("sign-in", address, "")?;
    let person = match known(&app, &headers, ask).await {
        Ok(person) => person,
        Err(error) => {
            app.guesses.wrong("sign-in", address, "");
            let nobody = Actor { who: Who::Nobody, way: Way::Console, address: Some(address.0.to_string()) };
            let mut tx = app.records.tx(&nobody, clock::now()).await?;
            tx.note(Entry::new(Action::SignIn, "session").refused(error.detail()));
            tx.commit().await?;
            return Err(error);
        }
    };
    let (session, now) = (Secret::random("oxs"), clock::now());
    let who = Who::Person { id: person.id, name: person.name.clone() };
    let by = address.0.to_string();
    let mut tx = app.records.tx(&Actor { who, way: Way::Console, address: Some(by.clone()) }, now).await?;
    let agent: String =
        headers.get(header::USER_AGENT).and_then(|agent| agent.to_str().ok()).unwrap_or_default().chars().take(256).collect();
    tx.add_session(&NewSessionRow {
        person_id: person.id,
        secret: session.expose(),
        agent: &agent,
        address: Some(&by),
        ends_at: now + SESSION_SECONDS * 1000,
    })
    .await?;
    tx.note(Entry::new(Action::SignIn, "session").after(&agent));
    tx.commit().await?;
    let cookie = cookie(session.expose(), SESSION_SECONDS, &app.public_url);
    let me = me_of(&person.name, &Rights::Person(app.records.grants_of(person.id).await?));
    Ok((AppendHeaders([(header::SET_COOKIE, cookie)]), Json(me)))
}

/// Who signs in.
async fn known(app: &App, headers: &HeaderMap, ask: NewSession) -> Result<PersonRow, ApiError> {
    let now = clock::now();
    let unknown = |detail: &str| ApiError::new(StatusCode::UNAUTHORIZED, "not-known", detail);
    match ask {
        NewSession::Token(token) => {
            let good = app.records.token(token.trim(), now).await?;
            let detail = "this token is not known; `ordotaxis serve` printed the owner's token at its first start";
            let good = good.ok_or_else(|| unknown(detail))?;
            // A session has all of its person's rights.
            if good.limit != Limit::default() {
                return Err(unknown("this token has fewer rights than its person: it is for programs, and signs no browser in"));
            }
            Ok(good.person)
        }
        NewSession::Code(code) => {
            let mut tx = app.records.tx_by_rule("sign-in", now).await?;
            let name = tx.use_key(Kind::Code, &code).await?;
            tx.commit().await?;
            let detail = "this link has been used or is older than ten minutes; `ordotaxis sign-in --link` prints a new one";
            let person = match name {
                Some(name) => app.records.person(&name).await?,
                None => None,
            };
            person.ok_or_else(|| unknown(detail))
        }
        NewSession::Provider { code, state } => {
            // The answer counts in the browser that asked: else someone could sign another in as himself.
            let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
            let own = cookies.flat_map(|line| line.split(';')).any(|pair| pair.trim() == format!("{STATE_COOKIE}={state}"));
            if !own {
                return Err(refused(SignInError::Unknown));
            }
            sign_in::finish(app, code, &state).await.map_err(refused)
        }
    }
}

/// Sign this browser out.
#[utoipa::path(delete, operation_id = "sign_out", path = "/api/v1/session", responses((status = 204)))]
pub(crate) async fn sign_out(State(app): State<App>, caller: Caller, headers: HeaderMap) -> Result<impl IntoResponse, ApiError> {
    if let Some(session) = session_cookie(&headers) {
        let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
        tx.end_session_with(session).await?;
        tx.note(Entry::new(Action::SignOut, "session"));
        tx.commit().await?;
    }
    Ok((StatusCode::NO_CONTENT, AppendHeaders([(header::SET_COOKIE, cookie("", 0, &app.public_url))])))
}

fn secure(public_url: &str) -> &'static str {
    if public_url.starts_with("https:") { "; Secure" } else { "" }
}

fn cookie(value: &str, seconds: i64, public_url: &str) -> String {
    format!("{COOKIE}={value}; Path=/; Max-Age={seconds}; HttpOnly; SameSite=Strict{}", secure(public_url))
}

fn me_of(name: &str, rights: &Rights) -> Me {
    let (role, projects) = match rights {
        Rights::Person(grants) => {
            let capped = |role| grants.limit.role.map_or(role, |most| std::cmp::min(role, most));
            (grants.service.map(capped), grants.projects.iter().map(|(name, role)| (name.clone(), capped(*role))).collect())
        }
        _ => (None, BTreeMap::new()),
    };
    Me { name: name.to_owned(), role, projects }
}

/// Who is signed in, and what they may.
#[utoipa::path(get, operation_id = "me", path = "/api/v1/me", responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub(crate) async fn me(caller: Caller) -> Json<Me> {
    Json(me_of(caller.name(), &caller.rights))
}

/// Make a link that signs a browser in, once.
#[utoipa::path(post, operation_id = "sign_in_link", path = "/api/v1/sign-in-links", responses((status = 200, body = SignInLink)))]
pub(crate) async fn link(State(app): State<App>, caller: Caller) -> Result<Json<SignInLink>, ApiError> {
    caller.person_id()?;
    let name = caller.name().to_owned();
    Ok(Json(link_of(&app, &caller, Action::MakeLink, &name).await?))
}

/// Make a link that signs someone else in, once: a person who is new, or has lost every other way.
#[utoipa::path(post, operation_id = "sign_in_link_for", path = "/api/v1/persons/{name}/sign-in-links", params(("name" = String, Path)), responses((status = 200, body = SignInLink), (status = 404, body = Problem)))]
pub(crate) async fn link_for(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<Json<SignInLink>, ApiError> {
    super::persons::find(&app, &name).await?;
    Ok(Json(link_of(&app, &caller, Action::LinkFor, &name).await?))
}

/// Makes a link that signs a browser in as this person, once.
async fn link_of(app: &App, caller: &Caller, action: Action, name: &str) -> Result<SignInLink, ApiError> {
    let (code, now) = (Secret::random("oxc"), clock::now());
    let mut tx = app.records.tx(&caller.actor, now).await?;
    tx.add_key(Kind::Code, code.expose(), name, Some(now + CODE_MS)).await?;
    tx.note(Entry::new(action, name));
    tx.commit().await?;
    Ok(SignInLink { url: format!("{}/sign-in#{}", app.public_url, code.expose()) })
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Whose {
    /// Everybody's, for owners; one's own when absent.
    #[serde(default)]
    pub(super) all: bool,
}

/// Browsers that are signed in, used last first.
#[utoipa::path(get, operation_id = "list_sessions", path = "/api/v1/sessions", params(Whose), responses((status = 200, body = Vec<SessionView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller, Query(whose): Query<Whose>) -> Result<Json<Vec<SessionView>>, ApiError> {
    let person = whose_list(&app, &caller, whose.all, Action::SeeSessions).await?;
    let now = clock::now();
    let view = |row: SessionRow| SessionView {
        id: row.id,
        person: row.person,
        agent: row.agent,
        address: row.address,
        made_at: moment(row.made_at),
        used_at: moment(row.used_at),
        ends_at: moment(row.ends_at),
    };
    Ok(Json(app.records.sessions(person.as_deref(), now - IDLE_MS, now).await?.into_iter().map(view).collect()))
}

/// Whose list is wanted: one's own, or everybody's where the caller may see that.
pub(crate) async fn whose_list(app: &App, caller: &Caller, all: bool, action: Action) -> Result<Option<String>, ApiError> {
    if all {
        caller.may(app, action).await?;
        return Ok(None);
    }
    caller.person_id()?;
    Ok(Some(caller.name().to_owned()))
}

/// End a session: one's own, or for owners anybody's.
#[utoipa::path(delete, operation_id = "end_session", path = "/api/v1/sessions/{id}", params(("id" = i64, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn end(State(app): State<App>, caller: Caller, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let own = caller.person_id()?;
    let others = caller.may(&app, Action::EndOthersSession).await.is_ok();
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let whose = tx.end_session(id, (!others).then_some(own)).await?;
    let whose = whose.ok_or_else(|| ApiError::not_found("session", format!("there is no session {id}")))?;
    let action = if whose == caller.name() { Action::EndSession } else { Action::EndOthersSession };
    tx.note(Entry::new(action, format!("{whose} {id}")));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
