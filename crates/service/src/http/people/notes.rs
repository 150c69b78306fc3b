//! Notes that someone, or a job that may, leaves on the commit of a run.

use super::projects;
use super::views::find_run;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::react::Remark;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Who};
use ordotaxis_store::{Entry, NewWork, WorkKind};
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::NewNote;

const LONGEST: usize = 1_000;

/// Leave a note on the commit of a run, in the repository's own notes.
#[utoipa::path(post, operation_id = "add_note", path = "/api/v1/runs/{project}/{number}/notes", params(("project" = String, Path), ("number" = i64, Path)), request_body = NewNote, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<NewNote>,
) -> Result<StatusCode, ApiError> {
    let (row, project) = (find_run(&app, &project, number).await?, projects::find(&app, &project).await?);
    let run = format!("{}/{number}", project.name);
    // A job speaks of its own run, and of no other.
    if let Who::Job(job) = &caller.actor.who
        && job.split(' ').next() != Some(&run)
    {
        return Err(ApiError::new(
            StatusCode::FORBIDDEN,
            "not-allowed",
            format!("this token is {job}'s: it leaves notes on that run only"),
        ));
    }
    let text = ask.text.trim();
    if text.is_empty() || text.chars().count() > LONGEST || text.chars().any(|c| c.is_control() && c != '\n') {
        return Err(ApiError::field("/text", format!("a note is 1 to {LONGEST} characters, none of them a control character")));
    }
    let remark = Remark { run: run.clone(), by: caller.name().to_owned(), note: text.to_owned() };
    let told_on = row.told_on();
    let work = NewWork {
        kind: WorkKind::Note,
        project_id: project.id,
        lane: told_on,
        once: None,
        body: serde_json::to_string(&remark).unwrap_or_default(),
    };
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.add_work(&work).await?;
    tx.note(Entry::new(Action::AddNote, run).of(&project.name).after(text));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}
