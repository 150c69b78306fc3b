//! The rules of a project: what its main branch says, and what the service keeps besides.

use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::landing::{RulesError, rules_of, text_on_main};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::access::Action;
use ordotaxis_core::language::{Lines, Severity};
use ordotaxis_core::rules;
use ordotaxis_store::{Entry, Project};
use ordotaxis_wire::landing::{RulesView, SetRules};
use ordotaxis_wire::problem::Problem;

async fn view(app: &App, project: &Project) -> Result<RulesView, ApiError> {
    let file = match text_on_main(app, project).await {
        Ok(text) => text,
        Err(RulesError::Store(error)) => return Err(error.into()),
        Err(_) => None,
    };
    let trouble = match rules_of(app, project).await {
        Ok(_) => None,
        Err(RulesError::Store(error)) => return Err(error.into()),
        Err(error) => Some(error.to_string()),
    };
    Ok(RulesView { path: rules::FILE.to_owned(), file, kept: app.records.kept_rules(project.id).await?, trouble })
}

/// A project's rules.
#[utoipa::path(get, operation_id = "show_rules", path = "/api/v1/projects/{project}/rules", params(("project" = String, Path)), responses((status = 200, body = RulesView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path(project): Path<String>) -> Result<Json<RulesView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(view(&app, &project).await?))
}

/// Keep rules besides those of the main branch: they only make them stricter. An empty text takes them away.
#[utoipa::path(put, operation_id = "set_rules", path = "/api/v1/projects/{project}/rules", params(("project" = String, Path)), request_body = SetRules, responses((status = 200, body = RulesView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<SetRules>,
) -> Result<Json<RulesView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let text = if ask.text.trim().is_empty() { "" } else { ask.text.as_str() };
    if !text.is_empty() {
        let (_, told) = rules::read(text);
        if let Some(found) = told.iter().find(|found| found.severity == Severity::Error) {
            let (line, column) = Lines::new(text).position(found.span.start);
            let hint = found.hint.as_ref().map(|hint| format!("; {hint}")).unwrap_or_default();
            return Err(ApiError::field("/text", format!("line {line}, column {column}: {}{hint}", found.message)));
        }
    }
    let before = app.records.kept_rules(project.id).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_rules(project.id, text).await?;
    tx.note(Entry::new(Action::SetRules, &project.name).of(&project.name).before(before).after(text));
    tx.commit().await?;
    Ok(Json(view(&app, &project).await?))
}
