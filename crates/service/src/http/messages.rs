//! Messages to the outside that were given up: seen with the reason, and sent once more when someone has mended it.

use super::auth::Person;
use super::error::ApiError;
use super::extract::Path;
use crate::app::App;
use crate::clock;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_store::{GivenUpMessage, Message};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::view::MessageView;

/// Messages that are not tried any more, the newest first, at most 200.
#[utoipa::path(get, operation_id = "given_up_messages", path = "/api/v1/messages", responses((status = 200, body = Vec<MessageView>), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): State<App>, _: Person) -> Result<Json<Vec<MessageView>>, ApiError> {
    let view = |row: GivenUpMessage| {
        let message: Option<Message> = serde_json::from_str(&row.body).ok();
        MessageView {
            id: row.id,
            project: row.project,
            commit: row.commit_id,
            kind: row.kind,
            run: message.map(|message| message.run),
            tries: row.tries,
            given_up_at: moment(row.given_up_at),
            why: row.said.unwrap_or_default(),
        }
    };
    Ok(Json(app.records.given_up_messages().await?.into_iter().map(view).collect()))
}

/// Send a message that was given up once more.
#[utoipa::path(post, operation_id = "send_message_again", path = "/api/v1/messages/{id}/again", params(("id" = i64, Path)), responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn again(State(app): State<App>, _: Person, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    if app.records.send_again(id, clock::now()).await? {
        app.keeper.outbox.notify_one();
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found("message", format!("no message {id} was given up; `ordotaxis message list` shows those that were")))
}
