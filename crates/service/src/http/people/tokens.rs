//! Tokens of persons, for programs: at most the person's own rights, for a while.

use super::projects;
use super::session::{Whose, whose_list};
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Limit};
use ordotaxis_store::{Entry, NewToken as NewTokenRow, Secret, TokenRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::token::{NewToken, TokenView};

const USUAL_MS: i64 = 90 * 24 * 60 * 60 * 1000;
const LONGEST_MS: i64 = 366 * 24 * 60 * 60 * 1000;

fn view(row: TokenRow) -> TokenView {
    TokenView {
        id: row.id,
        person: row.person,
        name: row.name,
        role: row.limit.role,
        projects: row.limit.projects,
        made_at: moment(row.made_at),
        ends_at: row.ends_at.map(moment),
        used_at: row.used_at.map(moment),
        token: None,
    }
}

/// One's own tokens, the newest first; for owners everybody's.
#[utoipa::path(get, operation_id = "list_tokens", path = "/api/v1/tokens", params(Whose), responses((status = 200, body = Vec<TokenView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller, Query(whose): Query<Whose>) -> Result<Json<Vec<TokenView>>, ApiError> {
    let person = whose_list(&app, &caller, whose.all, Action::EndOthersToken).await?;
    Ok(Json(app.records.tokens(person.as_deref()).await?.into_iter().map(view).collect()))
}

/// Make a token. The answer holds it; it is not shown again.
#[utoipa::path(post, operation_id = "make_token", path = "/api/v1/tokens", request_body = NewToken, responses((status = 201, body = TokenView), (status = 422, body = Problem)))]
pub(crate) async fn make(
    State(app): State<App>,
    caller: Caller,
    Body(ask): Body<NewToken>,
) -> Result<(StatusCode, Json<TokenView>), ApiError> {
    let person_id = caller.person_id()?;
    if ask.name.trim().is_empty() || ask.name.len() > 100 || ask.name.chars().any(char::is_control) {
        return Err(ApiError::field("/name", "say what the token is for, in at most 100 characters"));
    }
    let good = ask.ends_ms.unwrap_or(USUAL_MS);
    if !(1_000..=LONGEST_MS).contains(&good) {
        return Err(ApiError::field("/ends_ms", "a token is good for a second to a year"));
    }
    for project in ask.projects.iter().flatten() {
        let known = projects::find(&app, project).await.map_err(|error| error.at("/projects"))?;
        if !caller.sees(&known) {
            return Err(crate::http::gate::unknown_project(&app, &caller, project).await?.at("/projects"));
        }
    }
    let (secret, now) = (Secret::random("oxu"), clock::now());
    let limit = Limit { role: ask.role, projects: ask.projects };
    let new = NewTokenRow { person_id, name: &ask.name, secret: secret.expose(), limit: &limit, ends_at: Some(now + good) };
    let mut tx = app.records.tx(&caller.actor, now).await?;
    let id = tx.add_token(&new).await?;
    let after = serde_json::json!({ "id": id, "limit": limit, "ends_at": moment(now + good) });
    tx.note(Entry::new(Action::MakeToken, &ask.name).after(after));
    tx.commit().await?;
    let row =
        TokenRow { id, person: caller.name().to_owned(), name: ask.name, limit, made_at: now, ends_at: Some(now + good), used_at: None };
    Ok((StatusCode::CREATED, Json(TokenView { token: Some(secret.expose().to_owned()), ..view(row) })))
}

/// End a token: one's own, or for owners anybody's.
#[utoipa::path(delete, operation_id = "end_token", path = "/api/v1/tokens/{id}", params(("id" = i64, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn end(State(app): State<App>, caller: Caller, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let own = caller.person_id()?;
    let others = caller.may(&app, Action::EndOthersToken).await.is_ok();
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let ended = tx.end_token(id, (!others).then_some(own)).await?;
    let (whose, name) =
        ended.ok_or_else(|| ApiError::not_found("token", format!("there is no token {id}; `ordotaxis token list` shows yours")))?;
    let action = if whose == caller.name() { Action::EndToken } else { Action::EndOthersToken };
    tx.note(Entry::new(action, format!("{whose} {name}")));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
