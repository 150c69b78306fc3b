//! Who calls: a person (with a token, or the console's session), a job (with its token), a runner (with its credential),
//! or nobody who is known.

use super::error::ApiError;
use super::known::Address;
use crate::app::App;
use crate::clock;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use ordotaxis_core::access::{Action, Actor, Limit, Object, Rights, Way, Who, allowed};
use ordotaxis_store::{PersonRow, Project, digest_of};
use ordotaxis_wire::runner::AttemptId;
use std::collections::BTreeSet;
use std::sync::PoisonError;

/// The cookie that holds a browser's session.
pub(super) const COOKIE: &str = "ordotaxis_session";
/// A session ends so long after it was used last.
pub(crate) const IDLE_MS: i64 = 12 * 60 * 60 * 1000;
/// How exactly the last use of sessions and tokens is known.
const USE_MS: i64 = 60 * 1000;

/// Whoever calls, and what they may.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    pub(crate) actor: Actor,
    pub(crate) rights: Rights,
}

impl Caller {
    /// Who it is, as the journal writes it.
    pub(crate) fn name(&self) -> &str {
        self.actor.name()
    }

    /// Whether a project exists for this caller at all.
    pub(crate) fn sees(&self, project: &Project) -> bool {
        self.rights.sees(&project.name, project.seen)
    }

    /// Whether the caller may do something to the service as a whole; else what is missing.
    pub(super) async fn may(&self, app: &App, action: Action) -> Result<(), ApiError> {
        let Err(refusal) = allowed(&self.rights, action, Object::Service) else { return Ok(()) };
        let givers = app.records.owners(None).await?;
        Err(ApiError::new(StatusCode::FORBIDDEN, "not-allowed", refusal.sentence(&givers)))
    }

    /// The person's number: what is done to one's own tokens and sessions is done to this person's.
    pub(crate) fn person_id(&self) -> Result<i64, ApiError> {
        match self.actor.who {
            Who::Person { id, .. } => Ok(id),
            _ => Err(ApiError::new(StatusCode::FORBIDDEN, "not-a-person", "only persons have tokens and sessions of their own")),
        }
    }
}

impl<S: Sync> FromRequestParts<S> for Caller {
    type Rejection = ApiError;

    /// As the gate found it; see `gate`.
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Caller, ApiError> {
        parts.extensions.get::<Caller>().cloned().ok_or_else(not_signed_in)
    }
}

/// The answer to a call that needs a caller and has none.
pub(super) fn not_signed_in() -> ApiError {
    ApiError::new(StatusCode::UNAUTHORIZED, "not-signed-in", ordotaxis_core::access::Refusal::NotSignedIn.sentence(&[]))
}

/// The token of an `Authorization: Bearer` header.
pub(super) fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// The session of a browser, from its cookie.
pub(super) fn session_cookie(headers: &HeaderMap) -> Option<&str> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    cookies.flat_map(|line| line.split(';')).find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

/// Who calls. A token that is not valid is refused; a session that has ended counts as not signed in.
pub(super) async fn authenticate(app: &App, headers: &HeaderMap, address: Address) -> Result<Caller, ApiError> {
    let now = clock::now();
    let address = Some(address.0.to_string());
    let nobody = Caller { actor: Actor { who: Who::Nobody, way: Way::Api, address: address.clone() }, rights: Rights::Nobody };
    if let Some(token) = bearer(headers) {
        if let Some(job) = job(app, token).await? {
            return Ok(Caller { actor: Actor { address, ..job.actor }, ..job });
        }
        let good = app.records.token(token, now).await?.ok_or_else(not_signed_in)?;
        if good.used_at.is_none_or(|used| now - used > USE_MS) {
            let mut tx = app.records.tx_by_rule("use", now).await?;
            tx.token_used(good.token).await?;
            tx.commit().await?;
        }
        return person(app, good.person, good.limit, Actor { way: way_of(headers), ..nobody.actor }).await;
    }
    let Some(secret) = session_cookie(headers) else { return Ok(nobody) };
    let Some((known, id, used)) = app.records.session(secret, now - IDLE_MS, now).await? else { return Ok(nobody) };
    if now - used > USE_MS {
        let mut tx = app.records.tx_by_rule("use", now).await?;
        tx.session_used(id).await?;
        tx.commit().await?;
    }
    person(app, known, Limit::default(), Actor { way: Way::Console, ..nobody.actor }).await
}

/// The client says so itself; it is shown, and nothing depends on it.
fn way_of(headers: &HeaderMap) -> Way {
    let agent = headers.get(header::USER_AGENT).and_then(|agent| agent.to_str().ok()).unwrap_or_default();
    if agent.starts_with("ordotaxis") { Way::Client } else { Way::Api }
}

async fn person(app: &App, person: PersonRow, limit: Limit, actor: Actor) -> Result<Caller, ApiError> {
    let grants = app.records.grants_of(person.id).await?;
    let rights = Rights::Person(ordotaxis_core::access::Grants { limit, ..grants });
    Ok(Caller { actor: Actor { who: Who::Person { id: person.id, name: person.name }, ..actor }, rights })
}

/// A job whose token this is, as long as its attempt goes on.
async fn job(app: &App, token: &str) -> Result<Option<Caller>, ApiError> {
    if !token.starts_with(crate::identity::TOKEN_PREFIX) {
        return Ok(None);
    }
    let Some(known) = app.records.job_token(token).await? else { return Ok(None) };
    let attempt = AttemptId { run: known.run_id, job: usize::try_from(known.job).unwrap_or(usize::MAX), attempt: known.attempt };
    if !app.keeper.holders.goes_on(attempt) {
        return Ok(None);
    }
    let Some(stored) = app.records.stored_run(known.run_id).await? else { return Ok(None) };
    let Some(project) = app.records.project_by_id(stored.project_id).await? else { return Ok(None) };
    let plan = app.plan_of(known.run_id).await?;
    let id = plan.and_then(|plan| plan.jobs.get(attempt.job).map(|job| job.id.to_string())).unwrap_or_default();
    let starts: BTreeSet<String> = known.allows.iter().filter_map(|allow| allow.strip_prefix("start:")).map(str::to_owned).collect();
    let run_project = known.allows.iter().any(|allow| allow == "note").then(|| project.name.clone());
    let who = Who::Job(format!("{}/{} {id}", project.name, stored.number));
    Ok(Some(Caller { actor: Actor { who, way: Way::Api, address: None }, rights: Rights::Job { starts, run_project } }))
}

/// A runner, by name.
pub(crate) struct AsRunner(pub(crate) String);

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
