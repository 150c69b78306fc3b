//! Work for the outside that failed: seen with its reason, and tried once more when someone has mended it.

use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::Path;
use crate::react::Message;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_store::{Entry, TroubledWork};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::work::WorkView;

fn view(row: TroubledWork) -> WorkView {
    let message: Option<Message> = serde_json::from_str(&row.body).ok();
    let waits = row.state == "waiting";
    WorkView {
        id: row.id,
        project: row.project,
        commit: Some(row.lane).filter(|lane| !lane.is_empty() && matches!(row.kind.as_str(), "status" | "note")),
        kind: row.kind,
        run: message.map(|message| message.run),
        state: row.state,
        tries: row.tries,
        next_at: waits.then(|| moment(row.next_at)),
        given_up_at: row.ended_at.map(moment),
        why: row.said.unwrap_or_default(),
    }
}

/// Work that was given up, the newest first, and what failed and is tried again; at most 200.
#[utoipa::path(get, operation_id = "list_work", path = "/api/v1/work", responses((status = 200, body = Vec<WorkView>), (status = 401, body = Problem)))]
pub(crate) async fn list(State(app): State<App>) -> Result<Json<Vec<WorkView>>, ApiError> {
    Ok(Json(app.records.troubled_work().await?.into_iter().map(view).collect()))
}

/// Try work once more, now.
#[utoipa::path(post, operation_id = "work_again", path = "/api/v1/work/{id}/again", params(("id" = i64, Path)), responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(crate) async fn again(State(app): State<App>, caller: Caller, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let Some((project, kind)) = tx.work_again(id).await? else {
        let detail = format!("no work {id} failed; `ordotaxis work list` shows what did");
        return Err(ApiError::not_found("work", detail));
    };
    tx.note(Entry::new(Action::WorkAgain, format!("{kind} {id}")).of(project));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
