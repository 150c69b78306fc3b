//! Secrets of a project: set, listed by name, removed. A value goes in and never comes out here.

use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::seal::sealed_as_secret;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::delivery::environment_name;
use ordotaxis_store::{Entry, Reach, SecretRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::secret::SecretView;
use ordotaxis_wire::secret::{NewSecret, ReachAsk};
use serde::Deserialize;

/// The longest value; environments of processes are small.
const LONGEST: usize = 64 * 1024;
/// A shorter value cannot be told from ordinary words in a log, so it could not be masked.
const SHORTEST: usize = 4;

/// A project's secrets by name.
#[utoipa::path(get, operation_id = "list_secrets", path = "/api/v1/projects/{project}/secrets", params(("project" = String, Path)), responses((status = 200, body = Vec<SecretView>), (status = 404, body = Problem)))]
pub(crate) async fn list(State(app): State<App>, Path(project): Path<String>) -> Result<Json<Vec<SecretView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let rows = app.records.secrets(project.id).await?.into_iter();
    Ok(Json(
        rows.map(|row| SecretView {
            name: row.name,
            environment: row.environment,
            set_by: row.set_by,
            set_at: moment(row.set_at),
            reach: told(row.reach),
        })
        .collect(),
    ))
}

/// For which environment a value is.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Whose {
    /// The environment whose jobs get this value in place of the project's.
    environment: Option<String>,
}

impl Whose {
    fn checked(self) -> Result<Option<String>, ApiError> {
        let Some(name) = self.environment else { return Ok(None) };
        match environment_name(&name) {
            Ok(fits) if fits == name => Ok(Some(name)),
            Ok(fits) => Err(ApiError::field("/environment", format!("no environment is called {name}; did you mean {fits}?"))),
            Err(why) => Err(ApiError::field("/environment", why)),
        }
    }
}

/// Set a secret; jobs that name it get the new value from now on.
#[utoipa::path(put, operation_id = "set_secret", path = "/api/v1/projects/{project}/secrets/{name}", params(("project" = String, Path), ("name" = String, Path), Whose), request_body = NewSecret, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Query(whose): Query<Whose>,
    Body(ask): Body<NewSecret>,
) -> Result<StatusCode, ApiError> {
    let project = projects::find(&app, &project).await?;
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if name.is_empty() || name.len() > 128 || !name.chars().all(plain) || name.starts_with(|c: char| c.is_ascii_digit()) {
        return Err(ApiError::field("/name", "a secret is called like a variable: letters, digits and `_`, not a digit first"));
    }
    if name.starts_with("ORDOTAXIS") {
        return Err(ApiError::field("/name", "names that begin with ORDOTAXIS are kept for what every step finds"));
    }
    if ask.value.len() < SHORTEST || ask.value.len() > LONGEST || ask.value.contains('\0') {
        let (bytes, why) = (ask.value.len(), "a shorter one could not be masked in logs");
        let detail = format!("secret {name}: a value is {SHORTEST} to {LONGEST} bytes without NUL, and this one has {bytes}; {why}");
        return Err(ApiError::field("/value", detail));
    }
    let environment = whose.checked()?;
    let sealed_as = sealed_as_secret(&name, environment.as_deref());
    let sealed =
        app.seal.seal(project.id, &sealed_as, &ask.value).ok_or_else(|| ApiError::field("/value", "the value could not be sealed"))?;
    let (set_by, set_at) = (caller.name().to_owned(), clock::now());
    let row = SecretRow { name, environment, sealed, set_by, set_at, reach: reach(ask.reach.clone())? };
    let mut tx = app.records.tx(&caller.actor, row.set_at).await?;
    tx.set_secret(project.id, &row).await?;
    tx.note(Entry::new(Action::SetSecret, called(&row.name, row.environment.as_deref())).of(&project.name).after(&ask.reach));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A secret as people read it.
fn called(name: &str, environment: Option<&str>) -> String {
    environment.map_or_else(|| name.to_owned(), |environment| format!("{name} for {environment}"))
}

/// Where it goes, if what says so can be read.
pub(super) fn reach(ask: ReachAsk) -> Result<Reach, ApiError> {
    for (pointer, globs) in [("/branches", &ask.branches), ("/tags", &ask.tags), ("/pipelines", &ask.pipelines)] {
        let wrong = globs.iter().flatten().find(|glob| glob.is_empty() || glob.len() > 256 || globset::Glob::new(glob).is_err());
        if let Some(glob) = wrong {
            return Err(ApiError::field(pointer, format!("{glob:?} is no glob")));
        }
    }
    Ok(Reach { branches: ask.branches, tags: ask.tags, pipelines: ask.pipelines })
}

pub(super) fn told(reach: Reach) -> ReachAsk {
    ReachAsk { branches: reach.branches, tags: reach.tags, pipelines: reach.pipelines }
}

/// Remove a secret.
#[utoipa::path(delete, operation_id = "remove_secret", path = "/api/v1/projects/{project}/secrets/{name}", params(("project" = String, Path), ("name" = String, Path), Whose), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Query(whose): Query<Whose>,
) -> Result<StatusCode, ApiError> {
    let known = projects::find(&app, &project).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let environment = whose.checked()?;
    let called = called(&name, environment.as_deref());
    if !tx.remove_secret(known.id, &name, environment.as_deref()).await? {
        return Err(ApiError::not_found("secret", format!("{project} has no secret {called}")));
    }
    tx.note(Entry::new(Action::RemoveSecret, &called).of(&known.name));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
