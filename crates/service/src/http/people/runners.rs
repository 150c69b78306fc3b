//! Runners as people see them, and the invitations that let one enrol.

use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::keeper::FleetCommand;
use crate::label::is_label;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::language::nearest;
use ordotaxis_store::{Entry, Granted, RunnerRow, Secret};
use ordotaxis_wire::fleet::{Drain, Invitation, Invite, RunnerGrant};
use ordotaxis_wire::fleet::{QueuedView, RunnerView, SlotsView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::runner::Tool;
use std::collections::{BTreeSet, HashMap};
use std::sync::PoisonError;

const INVITATION_MS: i64 = 60 * 60 * 1000;
/// The longest that an invitation is good.
const LONGEST_INVITATION_MS: i64 = 7 * 24 * 60 * 60 * 1000;

/// How busy slots were is shown for the last six hours, in quarters of an hour.
const QUARTER_MS: i64 = 15 * 60 * 1000;
const QUARTERS: usize = 24;

/// All enrolled runners and what each does now.
#[utoipa::path(get, operation_id = "list_runners", path = "/api/v1/runners", responses((status = 200, body = Vec<RunnerView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<RunnerView>>, ApiError> {
    let mut live = app.keeper.snapshot().await?.runners();
    let busy_slots: HashMap<String, usize> = live.iter().map(|runner| (runner.name.clone(), runner.doing.len())).collect();
    let hidden = hidden(&app, &caller).await?;
    live.iter_mut().for_each(|runner| runner.doing.retain(|doing| !is_of(&doing.run, &hidden)));
    let now = clock::now();
    let since = now - QUARTER_MS * i64::try_from(QUARTERS).unwrap_or(0);
    let mut busy: HashMap<String, Vec<(i64, i64)>> = HashMap::new();
    for stretch in app.records.busy_since(since).await? {
        // What its service or runner was lost with has no end of its own; it was lost long ago then.
        busy.entry(stretch.runner).or_default().push((stretch.started_at, stretch.ended_at.unwrap_or(now)));
    }
    let view = |row: RunnerRow| {
        let live = live.iter().find(|runner| runner.name == row.name);
        let doing = live.map(|runner| runner.doing.clone()).unwrap_or_default();
        let slots = live.map_or(row.slots, |runner| runner.slots);
        RunnerView {
            labels: live.map_or(row.labels, |runner| runner.labels.clone()),
            isolation: live.map_or(row.isolation, |runner| runner.isolation.clone()),
            slots,
            busy: u32::try_from(busy_slots.get(&row.name).copied().unwrap_or(0)).unwrap_or(u32::MAX),
            connected: live.is_some(),
            seen_at: row.seen_at.map(moment),
            doing: doing.iter().map(|doing| format!("{} {}", doing.run, doing.job)).collect(),
            now: doing,
            tools: row.tools.into_iter().map(|tool| Tool { name: tool.name, version: tool.version }).collect(),
            cores: row.cores,
            memory_bytes: u64::try_from(row.memory).unwrap_or(0),
            gpus: row.gpus,
            draining_by: row.draining_by,
            grant: told(row.granted),
            fence: row.fence,
            full: fullness(busy.get(&row.name).map_or(&[], Vec::as_slice), slots, since),
            name: row.name,
        }
    };
    Ok(Json(app.records.runners().await?.into_iter().map(view).collect()))
}

/// How many slots runners have, and how many are busy: what every page shows.
#[utoipa::path(get, operation_id = "slots", path = "/api/v1/slots", responses((status = 200, body = SlotsView)))]
pub(crate) async fn slots(State(app): State<App>) -> Result<Json<SlotsView>, ApiError> {
    let (busy, slots) = app.keeper.snapshot().await?.slots();
    Ok(Json(SlotsView { slots, busy }))
}

/// Projects that the caller does not see.
pub(crate) async fn hidden(app: &App, caller: &Caller) -> Result<BTreeSet<String>, ApiError> {
    let all = app.records.projects().await?.into_iter();
    Ok(all.filter(|project| !caller.sees(project)).map(|project| project.name).collect())
}

/// Whether a run, `PROJECT/NUMBER`, is of one of these projects.
pub(super) fn is_of(run: &str, projects: &BTreeSet<String>) -> bool {
    run.split_once('/').is_some_and(|(project, _)| projects.contains(project))
}

/// How much of its slots' time was taken in each quarter, in thousandths.
fn fullness(busy: &[(i64, i64)], slots: u32, since: i64) -> Vec<u16> {
    let quarter = |number: usize| {
        let from = since + QUARTER_MS * i64::try_from(number).unwrap_or(0);
        let within = busy.iter().map(|(start, end)| (*end.min(&(from + QUARTER_MS)) - *start.max(&from)).max(0));
        let thousandths = within.sum::<i64>() * 1000 / (QUARTER_MS * i64::from(slots.max(1)));
        u16::try_from(thousandths.clamp(0, 1000)).unwrap_or(1000)
    };
    (0..QUARTERS).map(quarter).collect()
}

/// Asks a runner to finish what it has and take nothing more, or lets it go on.
#[utoipa::path(put, operation_id = "drain_runner", path = "/api/v1/runners/{name}/drain", params(("name" = String, Path)), request_body = Drain, responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn drain(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<Drain>,
) -> Result<StatusCode, ApiError> {
    let by = ask.draining.then(|| caller.name().to_owned());
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.set_draining(&name, by.as_deref()).await? {
        return Err(unknown(&app, &name).await);
    }
    tx.note(Entry::new(Action::DrainRunner, &name).after(ask.draining));
    tx.commit().await?;
    app.keeper.ask(|reply| FleetCommand::Drain { runner: name, by, reply }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Jobs that no runner has taken yet, first to go first, at most 200.
#[utoipa::path(get, operation_id = "queue", path = "/api/v1/queue", responses((status = 200, body = Vec<QueuedView>)))]
pub(crate) async fn queue(State(app): State<App>, caller: Caller) -> Result<Json<Vec<QueuedView>>, ApiError> {
    let hidden = hidden(&app, &caller).await?;
    let queue = app.keeper.snapshot().await?.queue().into_iter().filter(|job| !is_of(&job.run, &hidden));
    Ok(Json(queue.map(|job| QueuedView { run: job.run, job: job.job, since: moment(job.since), why: job.why }).collect()))
}

/// A token that enrols one runner, once; what the runner may have is fixed with it.
#[utoipa::path(post, operation_id = "invite_runner", path = "/api/v1/runner-invitations", request_body = Invite, responses((status = 200, body = Invitation), (status = 422, body = Problem)))]
pub(crate) async fn invite(State(app): State<App>, caller: Caller, Body(ask): Body<Invite>) -> Result<Json<Invitation>, ApiError> {
    let granted = granted(&app, ask.grant, "/grant").await?;
    let good = ask.expires_ms.unwrap_or(INVITATION_MS);
    if !(1_000..=LONGEST_INVITATION_MS).contains(&good) {
        return Err(ApiError::field("/expires_ms", "an invitation is good for a second to seven days"));
    }
    let token = Secret::random("oxi");
    let now = clock::now();
    let mut tx = app.records.tx(&caller.actor, now).await?;
    tx.add_invitation(token.expose(), caller.name(), &granted, now + good).await?;
    tx.note(Entry::new(Action::InviteRunner, "runner").after(serde_json::json!({ "grant": granted, "ends_at": moment(now + good) })));
    tx.commit().await?;
    Ok(Json(Invitation { token: token.expose().to_owned() }))
}

/// Change what a runner may have; it counts at once.
#[utoipa::path(put, operation_id = "set_runner", path = "/api/v1/runners/{name}", params(("name" = String, Path)), request_body = RunnerGrant, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<RunnerGrant>,
) -> Result<StatusCode, ApiError> {
    let granted = granted(&app, ask, "").await?;
    let before = app.records.runner(&name).await?.map(|row| row.granted);
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.set_granted(&name, &granted).await? {
        return Err(unknown(&app, &name).await);
    }
    tx.note(Entry::new(Action::SetRunner, &name).before(before).after(&granted));
    tx.commit().await?;
    app.keeper.ask(|reply| FleetCommand::Grant { runner: name, granted, reply }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a runner: its credential is nothing any more, and its running jobs are lost at once.
#[utoipa::path(delete, operation_id = "remove_runner", path = "/api/v1/runners/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.remove_runner(&name).await? {
        return Err(unknown(&app, &name).await);
    }
    tx.note(Entry::new(Action::RemoveRunner, &name));
    tx.commit().await?;
    let why = format!("runner {name} was removed by {}", caller.name());
    app.runner_names.write().unwrap_or_else(PoisonError::into_inner).retain(|_, known| *known != name);
    app.keeper.ask(|reply| FleetCommand::RemoveRunner { runner: name, why, reply }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a runner may have, each part checked.
async fn granted(app: &App, ask: RunnerGrant, at: &str) -> Result<Granted, ApiError> {
    if let Some(wrong) = ask.labels.iter().find(|label| !is_label(label)) {
        let detail = format!("{wrong:?} is no label: that is letters, digits, `-`, `_` and `.`, at most 64");
        return Err(ApiError::field(&format!("{at}/labels"), detail));
    }
    if ask.labels.len() > 128 {
        return Err(ApiError::field(&format!("{at}/labels"), "a runner has at most 128 labels"));
    }
    for project in ask.projects.iter().flatten() {
        if let Err(error) = super::projects::find(app, project).await {
            return Err(error.at(&format!("{at}/projects")));
        }
    }
    Ok(Granted { labels: ask.labels, projects: ask.projects, outside: ask.outside })
}

fn told(granted: Granted) -> RunnerGrant {
    RunnerGrant { labels: granted.labels, projects: granted.projects, outside: granted.outside }
}

async fn unknown(app: &App, name: &str) -> ApiError {
    let known: Vec<String> = match app.records.runners().await {
        Ok(runners) => runners.into_iter().map(|runner| runner.name).collect(),
        Err(error) => return error.into(),
    };
    let hint = match nearest(name, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None if known.is_empty() => "none is enrolled".into(),
        None => format!("there are: {}", known.join(", ")),
    };
    ApiError::not_found("runner", format!("there is no runner {name}; {hint}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quarter_is_full_when_all_slots_were_taken() {
        let busy = [(0, QUARTER_MS * 2), (QUARTER_MS, QUARTER_MS + QUARTER_MS / 2)];
        assert_eq!(fullness(&busy, 2, 0)[..4], [500, 750, 0, 0]);
        assert_eq!(fullness(&busy, 1, QUARTER_MS)[..2], [1000, 0]);
        assert_eq!(fullness(&[], 0, 0), [0; QUARTERS]);
    }
}
