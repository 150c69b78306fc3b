//! Pipeline files: checked and planned as someone types, kept as a branch of the repository, or kept here.

use super::projects;
use super::views::find_run;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::http::gate::unknown_project;
use crate::occasions::{PipelineFile, fetch_missing_borrowed, path_of, pipeline_files, take_over};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::edit::{apply, outline};
use ordotaxis_core::language::{self, Diagnostic};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, check_borrowing, plan, starts, svg};
use ordotaxis_core::rules;
use ordotaxis_store::{Entry, StoredPipeline};
use ordotaxis_wire::moment;
use ordotaxis_wire::pipeline::{Check, NewDraft, NewStored};
use ordotaxis_wire::pipeline::{CheckView, DraftView, InputView, PipelineView, VersionView};
use ordotaxis_wire::pipeline::{EditFile, EditedView};
use ordotaxis_wire::plan::{PlanView, diagnostic_views};
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use utoipa::IntoParams;

/// Plans of more jobs than this are not drawn while someone types.
const DRAWN_JOBS: usize = 2_000;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Schema {
    /// Of a project's rules, in place of pipelines.
    #[serde(default)]
    rules: bool,
}

/// The language as JSON Schema, for editors.
#[utoipa::path(get, operation_id = "schema", path = "/api/v1/schema", params(Schema), responses((status = 200, body = serde_json::Value)))]
pub(crate) async fn schema(Query(of): Query<Schema>) -> Json<serde_json::Value> {
    Json(if of.rules { rules::schema() } else { language::schema() })
}

/// All that is wrong with a file, and its plan for an occasion.
#[utoipa::path(post, operation_id = "check", path = "/api/v1/check", request_body = Check, responses((status = 200, body = CheckView), (status = 404, body = Problem)))]
pub(crate) async fn check(State(app): State<App>, caller: Caller, Body(ask): Body<Check>) -> Result<Json<CheckView>, ApiError> {
    let borrowed = match &ask.project {
        Some(name) => match app.records.project(name).await? {
            Some(project) if caller.sees(&project) => fetch_missing_borrowed(&app, &project, &ask.text).await,
            _ => return Err(unknown_project(&app, &caller, name).await?),
        },
        None => BorrowedFiles::new(),
    };
    Ok(Json(apart(&app, move || checked(&ask, &borrowed)).await?))
}

/// A change to a file by what it means: the whole text as it is then. Nothing is kept.
#[utoipa::path(post, operation_id = "edit_file", path = "/api/v1/edited-file", request_body = EditFile, responses((status = 200, body = EditedView), (status = 422, body = Problem)))]
pub(crate) async fn edited(State(app): State<App>, Body(ask): Body<EditFile>) -> Result<Json<EditedView>, ApiError> {
    let text = apart(&app, move || apply(&ask.text, &ask.edit)).await?.map_err(|error| ApiError::field("/edit", error.to_string()))?;
    Ok(Json(EditedView { text }))
}

/// How long someone waits for a turn to have a file looked at, and for what comes of it.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(15);

/// Does something heavy on a thread of its own, a few at a time. What takes too long is answered so; its turn is over only
/// when it is done.
pub(crate) async fn apart<T: Send + 'static>(app: &App, work: impl FnOnce() -> T + Send + 'static) -> Result<T, ApiError> {
    let busy = |_| {
        let detail = "other files are being looked at; try again in a moment";
        ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "busy", detail)
    };
    let turn = tokio::time::timeout(PATIENCE, app.planning.clone().acquire_owned()).await.map_err(busy)?;
    let turn = turn.map_err(|_| ApiError::from(crate::keeper::Away))?;
    let (sender, answer) = tokio::sync::oneshot::channel();
    std::thread::spawn(move || {
        drop(sender.send(work()));
        drop(turn);
    });
    let long = |_| {
        let detail = format!("the file takes longer than {} s to plan; make its matrices or conditions smaller", PATIENCE.as_secs());
        ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "too-heavy", detail)
    };
    let broke =
        |_| ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "check-broke", "the file could not be looked at; the service's log says why");
    tokio::time::timeout(PATIENCE, answer).await.map_err(long)?.map_err(broke)
}

/// The diagnostics of a text, and its plan where it has one.
fn checked(ask: &Check, borrowed: &BorrowedFiles) -> CheckView {
    let file = ask.file.clone().unwrap_or_else(|| path_of("main"));
    if file == rules::FILE {
        return checked_rules(&file, &ask.text);
    }
    let name = file.rsplit('/').next().and_then(|name| name.strip_suffix(".toml")).unwrap_or("main");
    let name = if name == "ordotaxis" { "main" } else { name };
    let occasion = ask.occasion.clone().unwrap_or_else(|| Occasion::push("main"));
    let views = |diagnostics: &[Diagnostic]| diagnostic_views(&file, &ask.text, diagnostics);
    match plan(Source { text: &ask.text, name, borrowed }, &occasion) {
        Ok(planned) => {
            let jobs = planned.plan.jobs.len();
            let drawn = (jobs <= DRAWN_JOBS).then(|| PlanView::new(&planned.plan));
            let picture = (drawn.is_some() && !ask.without_picture).then(|| svg(&planned.plan));
            CheckView {
                diagnostics: views(&planned.remarks),
                later: Vec::new(),
                starts: starts(&planned.starts, &occasion),
                jobs,
                plan: drawn,
                picture,
                says: Vec::new(),
                outline: outline(&ask.text),
            }
        }
        Err(found) => {
            // Mistakes that only this occasion has are listed after those that the file always has.
            let mut all = check_borrowing(&ask.text, borrowed);
            all.extend(found.into_iter().filter(|one| !all.contains(one)).collect::<Vec<_>>());
            CheckView {
                diagnostics: views(&all),
                later: Vec::new(),
                starts: false,
                jobs: 0,
                plan: None,
                picture: None,
                says: Vec::new(),
                outline: outline(&ask.text),
            }
        }
    }
}

/// The diagnostics of rules, and what they say.
fn checked_rules(file: &str, text: &str) -> CheckView {
    let (rules, told) = rules::read(text);
    let says = if language::has_errors(&told) { Vec::new() } else { rules.sentences() };
    let diagnostics = diagnostic_views(file, text, &told);
    CheckView { diagnostics, later: Vec::new(), starts: false, jobs: 0, plan: None, picture: None, says, outline: None }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct At {
    /// A branch, tag or commit; the main branch when absent.
    #[serde(rename = "ref")]
    reference: Option<String>,
}

/// A project's pipelines as its main branch, or another commit, has them; those kept here included.
#[utoipa::path(get, operation_id = "list_pipelines", path = "/api/v1/projects/{project}/pipelines", params(("project" = String, Path), At), responses((status = 200, body = Vec<PipelineView>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(at): Query<At>,
) -> Result<Json<Vec<PipelineView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let mirror = app.mirror(&project);
    let wanted = at.reference.as_deref().unwrap_or(&project.main_branch);
    let commit = match mirror.resolve(wanted).await {
        Ok(Some(commit)) => commit,
        _ => {
            mirror.fetch_all().await.map_err(away)?;
            mirror.resolve(wanted).await.map_err(away)?.unwrap_or_default()
        }
    };
    if let (Some(reference), true) = (&at.reference, commit.is_empty()) {
        return Err(ApiError::field("/ref", format!("{} has no branch, tag or commit {reference}", project.name)));
    }
    let kept = app.records.stored_pipelines(project.id).await?;
    let files = if commit.is_empty() { Vec::new() } else { pipeline_files(&app, &project, &mirror, &commit).await.map_err(away)? };
    let view = |file: PipelineFile| PipelineView {
        path: path_of(&file.name),
        version: kept.iter().find(|kept| kept.pipeline == file.name).map(|kept| kept.version),
        commit: commit.clone(),
        ..pipeline_view(file)
    };
    Ok(Json(files.into_iter().map(view).collect()))
}

/// The pipeline file that a run was made from, as it was then: what its diagnostics point into.
#[utoipa::path(get, operation_id = "run_file", path = "/api/v1/runs/{project}/{number}/file", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = PipelineView), (status = 404, body = Problem)))]
pub(crate) async fn of_run(State(app): State<App>, Path((project, number)): Path<(String, i64)>) -> Result<Json<PipelineView>, ApiError> {
    let (row, known) = (find_run(&app, &project, number).await?, projects::find(&app, &project).await?);
    let path = path_of(&row.pipeline);
    // A file that is kept here stood in place of the repository's from when it was kept.
    let versions = app.records.stored_versions(known.id, &row.pipeline).await?;
    let kept = versions.into_iter().find(|kept| kept.at <= row.created_at).filter(|kept| !kept.text.is_empty());
    if let Some(kept) = kept {
        let version = Some(kept.version);
        let file = PipelineFile { name: row.pipeline, path, text: kept.text };
        return Ok(Json(PipelineView { version, commit: row.commit_id, ..pipeline_view(file) }));
    }
    let mirror = app.mirror(&known);
    mirror.need(&row.commit_id, row.branch.as_deref()).await.map_err(away)?;
    let bytes = mirror.read(&row.commit_id, &path).await.map_err(away)?;
    let bytes = bytes.ok_or_else(|| ApiError::not_found("file", format!("commit {} has no {path}", row.commit_id)))?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let file = PipelineFile { name: row.pipeline, path, text };
    Ok(Json(PipelineView { commit: row.commit_id, ..pipeline_view(file) }))
}

/// A file with what it asks for when someone starts it; where it was read is for the caller to say.
fn pipeline_view(file: PipelineFile) -> PipelineView {
    let (pipeline, _) = language::read(&file.text);
    let input = |(name, input): (&String, &language::Input)| InputView {
        name: name.clone(),
        says: input.says.clone(),
        choices: input.choices.clone().unwrap_or_default(),
        default: input.default.clone(),
    };
    PipelineView {
        inputs: pipeline.starts.inputs.iter().map(input).collect(),
        by_hand: pipeline.starts.by_hand,
        name: file.name,
        path: file.path,
        text: file.text,
        version: None,
        commit: String::new(),
    }
}

fn away(error: impl ToString) -> ApiError {
    ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", error.to_string())
}

/// Keep a file as a commit on a new branch.
#[utoipa::path(post, operation_id = "keep_draft", path = "/api/v1/projects/{project}/drafts", params(("project" = String, Path)), request_body = NewDraft, responses((status = 201, body = DraftView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn draft(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<NewDraft>,
) -> Result<(StatusCode, Json<DraftView>), ApiError> {
    let project = projects::find(&app, &project).await?;
    named(&ask.pipeline)?;
    if ask.message.trim().is_empty() {
        return Err(ApiError::field("/message", "say what the change is for"));
    }
    let fits = |c: char| c.is_ascii_alphanumeric() || "-_./".contains(c);
    if ask.branch.is_empty() || !ask.branch.chars().all(fits) || ask.branch.starts_with(['-', '/', '.']) || ask.branch.contains("..") {
        return Err(ApiError::field("/branch", "a branch's name is letters, digits, - _ . and /"));
    }
    let mirror = app.mirror(&project);
    mirror.fetch_all().await.map_err(away)?;
    if mirror.branches().await.map_err(away)?.contains(&ask.branch) {
        return Err(ApiError::field("/branch", format!("{} has a branch {} already", project.name, ask.branch)));
    }
    let from = ask.from.clone().unwrap_or_else(|| project.main_branch.clone());
    let from = mirror.resolve(&from).await.map_err(away)?.ok_or_else(|| ApiError::field("/from", format!("there is no commit {from}")))?;
    let path = path_of(&ask.pipeline);
    let commit = mirror.commit_file(&from, &path, &ask.text, &ask.branch, &ask.message, caller.name()).await.map_err(away)?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let after = serde_json::json!({ "branch": ask.branch, "commit": commit });
    tx.note(Entry::new(Action::KeepPipeline, &path).of(&project.name).after(after));
    tx.commit().await?;
    Ok((StatusCode::CREATED, Json(DraftView { branch: ask.branch, commit })))
}

fn named(pipeline: &str) -> Result<(), ApiError> {
    let fits = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'_';
    if pipeline.is_empty() || pipeline.len() > 64 || !pipeline.bytes().all(fits) {
        return Err(ApiError::field("/pipeline", "a pipeline's name is lower-case letters, digits, - and _"));
    }
    Ok(())
}

/// Every version of a pipeline that is kept here, newest first.
#[utoipa::path(get, operation_id = "stored_versions", path = "/api/v1/projects/{project}/stored/{pipeline}", params(("project" = String, Path), ("pipeline" = String, Path)), responses((status = 200, body = Vec<VersionView>), (status = 404, body = Problem)))]
pub(crate) async fn versions(
    State(app): State<App>,
    Path((project, pipeline)): Path<(String, String)>,
) -> Result<Json<Vec<VersionView>>, ApiError> {
    let found = projects::find(&app, &project).await?;
    let versions = app.records.stored_versions(found.id, &pipeline).await?;
    if versions.is_empty() {
        return Err(ApiError::not_found("pipeline", format!("nothing is kept here for {project}'s pipeline {pipeline}")));
    }
    Ok(Json(versions.into_iter().map(version).collect()))
}

fn version(kept: StoredPipeline) -> VersionView {
    VersionView { version: kept.version, text: kept.text, by: kept.by, message: kept.message, at: moment(kept.at) }
}

/// Keep a new version of a pipeline file here, in place of one in the repository. An empty text takes it out.
#[utoipa::path(put, operation_id = "store_pipeline", path = "/api/v1/projects/{project}/stored/{pipeline}", params(("project" = String, Path), ("pipeline" = String, Path)), request_body = NewStored, responses((status = 200, body = VersionView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn store(
    State(app): State<App>,
    caller: Caller,
    Path((project, pipeline)): Path<(String, String)>,
    Body(ask): Body<NewStored>,
) -> Result<Json<VersionView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    named(&pipeline)?;
    if !ask.text.is_empty() {
        let borrowed = fetch_missing_borrowed(&app, &project, &ask.text).await;
        let found = check_borrowing(&ask.text, &borrowed);
        if let Some(first) = found.iter().find(|one| one.severity == language::Severity::Error) {
            let (line, column) = language::Lines::new(&ask.text).position(first.span.start);
            return Err(ApiError::field("/text", format!("{line}:{column}: {}; nothing was kept", first.message)));
        }
    }
    let new = StoredPipeline {
        pipeline: pipeline.clone(),
        version: 0,
        text: ask.text,
        by: caller.name().to_owned(),
        message: ask.message,
        at: clock::now(),
    };
    let mut tx = app.records.tx(&caller.actor, new.at).await?;
    let Some(number) = tx.store_pipeline(project.id, ask.on, &new).await? else {
        let newest = app.records.stored_versions(project.id, &pipeline).await?.first().map_or(0, |kept| kept.version);
        let detail = format!("version {newest} is the newest, not {}; look at it, then keep yours on top of it", ask.on);
        return Err(ApiError::new(StatusCode::CONFLICT, "version-known", detail));
    };
    take_over(&app, &mut tx, &project, &pipeline, &new.text).await?;
    let after = serde_json::json!({ "version": number, "taken_out": new.text.is_empty() });
    tx.note(Entry::new(Action::KeepPipeline, &pipeline).of(&project.name).after(after));
    tx.commit().await?;
    Ok(Json(version(StoredPipeline { version: number, ..new })))
}
