//! Pools and their machines.

use super::runners::{hidden, is_of};
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::pools::{DAY_MS, check, is_pool_name, machine_view, pool_views};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Object, allowed};
use ordotaxis_core::language::nearest;
use ordotaxis_core::pool::{Event, Machine, Stage};
use ordotaxis_store::Entry;
use ordotaxis_wire::fleet::DoingView;
use ordotaxis_wire::pool::{ConsoleView, KeepMachine, MachineView, PoolSettings, PoolView, Provider};
use ordotaxis_wire::problem::Problem;
use std::collections::HashMap;

/// The longest that a machine is kept for a look.
const LONGEST_KEEP_MS: i64 = 7 * 24 * 60 * 60 * 1000;
/// Machines that went lately and are shown with those that are there.
const GONE_SHOWN: u32 = 50;
/// And those that are counted.
const GONE_COUNTED: u32 = 100_000;

/// All pools, and how it goes with each.
#[utoipa::path(get, operation_id = "list_pools", path = "/api/v1/pools", responses((status = 200, body = Vec<PoolView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<PoolView>>, ApiError> {
    let now = clock::now();
    let gone = app.records.machines_gone(now - DAY_MS, GONE_COUNTED).await?;
    let mut views = pool_views(&app.pools.now(), &gone, now);
    if allowed(&caller.rights, Action::SetPool, Object::Service).is_err() {
        // What is handed to a program may be more than everybody is to know.
        let commands = views.iter_mut().filter_map(|view| view.settings.command.as_mut());
        commands.for_each(|command| command.settings.clear());
    }
    Ok(Json(views))
}

/// Machines that are there, and those that went lately, the newest first.
#[utoipa::path(get, operation_id = "list_machines", path = "/api/v1/machines", responses((status = 200, body = Vec<MachineView>)))]
pub(crate) async fn machines(State(app): State<App>, caller: Caller) -> Result<Json<Vec<MachineView>>, ApiError> {
    let at = clock::now();
    let mut doing = doing(&app, &caller).await?;
    let mut all: Vec<Machine> = app.pools.now().machines.values().filter(|machine| machine.stage != Stage::Gone).cloned().collect();
    all.sort_by(|a, b| (b.wanted_at, &a.id).cmp(&(a.wanted_at, &b.id)));
    all.extend(app.records.machines_gone(at - DAY_MS, GONE_SHOWN).await?);
    let view = |machine: &Machine| machine_view(machine, doing.remove(&machine.id).unwrap_or_default(), at);
    Ok(Json(all.iter().map(view).collect()))
}

/// One machine, there or gone.
#[utoipa::path(get, operation_id = "show_machine", path = "/api/v1/machines/{id}", params(("id" = String, Path)), responses((status = 200, body = MachineView), (status = 404, body = Problem)))]
pub(crate) async fn machine(State(app): State<App>, caller: Caller, Path(id): Path<String>) -> Result<Json<MachineView>, ApiError> {
    let machine = find(&app, &id).await?;
    let doing = doing(&app, &caller).await?.remove(&id).unwrap_or_default();
    Ok(Json(machine_view(&machine, doing, clock::now())))
}

/// The last of what a machine wrote to its console.
#[utoipa::path(get, operation_id = "machine_console", path = "/api/v1/machines/{id}/console", params(("id" = String, Path)), responses((status = 200, body = ConsoleView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn console(State(app): State<App>, Path(id): Path<String>) -> Result<Json<ConsoleView>, ApiError> {
    let machine = find(&app, &id).await?;
    let gone = |why: String| ApiError::new(StatusCode::CONFLICT, "no-console", format!("the console of {id} cannot be shown: {why}"));
    if machine.stage == Stage::Gone {
        return Err(gone("the machine is gone, and its console with it".into()));
    }
    let text = app.pools.console(&machine).await.map_err(gone)?;
    Ok(Json(ConsoleView { text }))
}

/// Set a pool: it counts at once, and what its machines were found to have is found anew.
#[utoipa::path(put, operation_id = "set_pool", path = "/api/v1/pools/{pool}", params(("pool" = String, Path)), request_body = PoolSettings, responses((status = 204), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<PoolSettings>,
) -> Result<StatusCode, ApiError> {
    if !is_pool_name(&name) {
        return Err(ApiError::field(
            "/pool",
            "a pool's name is lower-case letters, digits and `-`, begins with a letter, and has at most 32",
        ));
    }
    let before = app.records.pools().await?.into_iter().find(|row| row.name == name);
    if before.as_ref().is_some_and(|row| row.from_file && !row.ended) {
        return Err(in_configuration(&name));
    }
    check(&ask).map_err(|error| ApiError::field(&error.at, error.why))?;
    if ask.provider == Provider::Process && ask.isolation.as_deref() == Some("host") {
        // Jobs would do as the service's own user whatever that may.
        let why = "processes of the service's machine without isolation can only be set in the service's configuration";
        return Err(ApiError::field("/isolation", why));
    }
    if ask.provider == Provider::Command && app.settings.pool_programs.is_none() {
        return Err(ApiError::field("/command/program", "the service's configuration names no folder `pool_programs`"));
    }
    for project in ask.projects.iter().flatten() {
        if let Err(error) = super::projects::find(&app, project).await {
            return Err(error.at("/projects"));
        }
    }
    let text = serde_json::to_string(&ask).map_err(|error| ApiError::field("", error.to_string()))?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_pool(&name, &text, false, caller.name()).await?;
    let known = before.and_then(|row| serde_json::from_str::<serde_json::Value>(&row.settings).ok());
    tx.note(Entry::new(Action::SetPool, &name).before(known).after(&ask));
    tx.commit().await?;
    app.pools.were_set().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a pool: it makes no more machines, those that work end their jobs, and then it is gone.
#[utoipa::path(delete, operation_id = "remove_pool", path = "/api/v1/pools/{pool}", params(("pool" = String, Path)), responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let known = app.records.pools().await?;
    if known.iter().any(|row| row.name == name && row.from_file && !row.ended) {
        return Err(in_configuration(&name));
    }
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.end_pool(&name).await? {
        let names: Vec<&str> = known.iter().filter(|row| !row.ended).map(|row| row.name.as_str()).collect();
        return Err(unknown("pool", &name, &names));
    }
    tx.drop_ended_pools().await?;
    tx.note(Entry::new(Action::RemovePool, &name));
    tx.commit().await?;
    app.pools.were_set().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a machine now: what it does is lost.
#[utoipa::path(delete, operation_id = "remove_machine", path = "/api/v1/machines/{id}", params(("id" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_machine(State(app): State<App>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, ApiError> {
    there(&app, &id).await?;
    note(&app, &caller, Entry::new(Action::RemoveMachine, &id)).await?;
    app.pools.say(Event::Remove { id, by: caller.name().to_owned() }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Keep a machine for a look: it takes no more jobs and is not removed for so long; or let it be as any other again.
#[utoipa::path(put, operation_id = "keep_machine", path = "/api/v1/machines/{id}/kept", params(("id" = String, Path)), request_body = KeepMachine, responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn keep(
    State(app): State<App>,
    caller: Caller,
    Path(id): Path<String>,
    Body(ask): Body<KeepMachine>,
) -> Result<StatusCode, ApiError> {
    if ask.for_ms.is_some_and(|ms| !(1_000..=LONGEST_KEEP_MS).contains(&ms)) {
        return Err(ApiError::field("/for_ms", "a machine is kept for a second to seven days"));
    }
    let machine = there(&app, &id).await?;
    if machine.stage == Stage::Leaving {
        return Err(ApiError::new(StatusCode::CONFLICT, "leaving", format!("machine {id} is leaving already: {}", machine.why)));
    }
    let until = ask.for_ms.map(|ms| clock::now() + ms);
    note(&app, &caller, Entry::new(Action::KeepMachine, &id).after(until.map(ordotaxis_wire::moment))).await?;
    app.pools.say(Event::Keep { id, until, by: caller.name().to_owned() }).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn note(app: &App, caller: &Caller, entry: Entry) -> Result<(), ApiError> {
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.note(entry);
    Ok(tx.commit().await?)
}

/// What each machine does, as far as the caller sees it.
async fn doing(app: &App, caller: &Caller) -> Result<HashMap<String, Vec<DoingView>>, ApiError> {
    let hidden = hidden(app, caller).await?;
    let runners = app.keeper.snapshot().await?.runners().into_iter();
    Ok(runners.map(|runner| (runner.name, runner.doing.into_iter().filter(|doing| !is_of(&doing.run, &hidden)).collect())).collect())
}

async fn find(app: &App, id: &str) -> Result<Machine, ApiError> {
    let now = app.pools.now();
    if let Some(machine) = now.machines.get(id) {
        return Ok(machine.clone());
    }
    let names: Vec<&str> = now.machines.keys().map(String::as_str).collect();
    app.records.machine(id).await?.ok_or_else(|| unknown("machine", id, &names))
}

/// A machine that is not gone.
async fn there(app: &App, id: &str) -> Result<Machine, ApiError> {
    let machine = find(app, id).await?;
    if machine.stage == Stage::Gone {
        return Err(ApiError::not_found("machine", format!("machine {id} is gone: {}", machine.why)));
    }
    Ok(machine)
}

fn in_configuration(name: &str) -> ApiError {
    let detail = format!("pool {name} is set in the service's configuration, and can only be changed there");
    ApiError::new(StatusCode::CONFLICT, "in-configuration", detail)
}

fn unknown(what: &'static str, name: &str, known: &[&str]) -> ApiError {
    let hint = match nearest(name, known.iter().copied()) {
        Some(near) => format!("did you mean {near}?"),
        None if known.is_empty() => "there is none".into(),
        None => format!("there are: {}", known.iter().take(12).copied().collect::<Vec<_>>().join(", ")),
    };
    ApiError::not_found(what, format!("there is no {what} {name}; {hint}"))
}
