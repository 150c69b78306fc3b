//! Runners as people see them, and the invitations that let one enrol.

use super::auth::Person;
use super::error::ApiError;
use crate::app::App;
use crate::clock;
use crate::keeper::Command;
use axum::Json;
use axum::extract::State;
use ordotaxis_store::{Kind, Secret};
use ordotaxis_wire::ask::Invitation;
use ordotaxis_wire::moment;
use ordotaxis_wire::view::RunnerView;

const INVITATION_MS: i64 = 60 * 60 * 1000;

/// All enrolled runners and what each does now.
#[utoipa::path(get, operation_id = "list_runners", path = "/api/v1/runners", responses((status = 200, body = Vec<RunnerView>)))]
pub(super) async fn list(State(app): State<App>, _: Person) -> Result<Json<Vec<RunnerView>>, ApiError> {
    let now = app.keeper.ask(|reply| Command::Runners { reply }).await?;
    let view = |row: ordotaxis_store::RunnerRow| {
        let live = now.iter().find(|runner| runner.name == row.name);
        let doing = live.map(|runner| runner.doing.clone()).unwrap_or_default();
        RunnerView {
            labels: live.map_or(row.labels, |runner| runner.labels.clone()),
            isolation: live.map_or(row.isolation, |runner| runner.isolation.clone()),
            slots: live.map_or(row.slots, |runner| runner.slots),
            busy: u32::try_from(doing.len()).unwrap_or(u32::MAX),
            connected: live.is_some(),
            seen_at: row.seen_at.map(moment),
            name: row.name,
            doing,
        }
    };
    Ok(Json(app.records.runners().await?.into_iter().map(view).collect()))
}

/// A token that enrols one runner, once, within an hour.
#[utoipa::path(post, operation_id = "invite_runner", path = "/api/v1/runner-invitations", responses((status = 200, body = Invitation)))]
pub(super) async fn invite(State(app): State<App>, Person(by): Person) -> Result<Json<Invitation>, ApiError> {
    let token = Secret::random("oxi");
    let now = clock::now();
    app.records.add_key(Kind::Invitation, token.expose(), &by, now, Some(now + INVITATION_MS)).await?;
    Ok(Json(Invitation { token: token.expose().to_owned() }))
}
