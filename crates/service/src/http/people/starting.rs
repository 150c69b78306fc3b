//! Starting a run by hand: what there is to start it of, what would then be done, and the start itself.

use super::projects;
use super::runs::away;
use super::views::{find_run, whole_run};
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::occasions::{Begun, Complete, PipelineFile, begin, complete, main_branch_there, pipeline_files, planned_by_hand};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::language::{Code, has_errors, nearest};
use ordotaxis_core::plan::{BorrowedFiles, Cause, Occasion, Ref, Source, check, plan as core_plan};
use ordotaxis_git::{Mirror, Named};
use ordotaxis_store::Project;
use ordotaxis_wire::pipeline::PlannedRunView;
use ordotaxis_wire::plan::PlanView;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::project::{RefView, RefsView};
use ordotaxis_wire::run::{NewRun, RunView};
use serde::Deserialize;
use utoipa::IntoParams;

/// How many branches, tags and commits are told.
const REFS: usize = 200;
const COMMITS: usize = 30;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Of {
    /// The commits of this branch; of the main one when absent.
    of: Option<String>,
}

/// The branches, tags and newest commits that a run can be started of, as of now.
#[utoipa::path(get, operation_id = "list_refs", path = "/api/v1/projects/{project}/refs", params(("project" = String, Path), Of), responses((status = 200, body = RefsView), (status = 404, body = Problem)))]
pub(crate) async fn refs(State(app): State<App>, Path(project): Path<String>, Query(ask): Query<Of>) -> Result<Json<RefsView>, ApiError> {
    let (project, mirror) = read(&app, &project).await?;
    let of = resolve(&mirror, &project, ask.of.as_deref().unwrap_or(&project.main_branch)).await?;
    let unread = |error: ordotaxis_git::GitError| away(error.into());
    let view = |one: Named| RefView { name: one.name, commit: one.commit, title: one.title, author: one.author };
    let commit = |one: ordotaxis_git::Between| RefView { name: one.id.clone(), commit: one.id, title: one.title, author: one.author };
    Ok(Json(RefsView {
        branches: mirror.newest_branches(REFS).await.map_err(unread)?.into_iter().map(view).collect(),
        tags: mirror.newest_tags(REFS).await.map_err(unread)?.into_iter().map(view).collect(),
        commits: mirror.between(None, &of, COMMITS).await.map_err(unread)?.into_iter().map(commit).collect(),
        main_branch: project.main_branch,
    }))
}

/// A project, and its repository as it is now.
async fn read(app: &App, project: &str) -> Result<(Project, std::sync::Arc<Mirror>), ApiError> {
    let project = projects::find(app, project).await?;
    let mirror = app.mirror(&project);
    if let Err(error) = mirror.fetch_all().await {
        let detail = format!("{} cannot be read now: {error}", project.git_url);
        return Err(ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", detail));
    }
    let project = main_branch_there(app, project).await.map_err(away)?;
    Ok((project, mirror))
}

/// All that a start by hand is made of.
struct Asked {
    project: Project,
    file: PipelineFile,
    known: Complete,
}

/// Looks up what is asked for; what does not fit is the caller's mistake.
async fn asked(app: &App, caller: &Caller, project: &str, ask: NewRun) -> Result<Asked, ApiError> {
    let (project, mirror) = read(app, project).await?;
    let reference = ask.reference.clone().unwrap_or_else(|| project.main_branch.clone());
    let id = resolve(&mirror, &project, &reference).await?;
    let files = pipeline_files(app, &project, &mirror, &id).await.map_err(away)?;
    let name = ask.pipeline.unwrap_or_else(|| "main".into());
    let known: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
    let Some(file) = files.iter().find(|file| file.name == name) else {
        let detail = format!(
            "commit {} has no pipeline {name}; it has: {}",
            id.get(..10).unwrap_or(&id),
            if known.is_empty() { "none".into() } else { known.join(", ") }
        );
        return Err(ApiError::field("/pipeline", detail));
    };
    let branch = mirror.branches().await.unwrap_or_default().into_iter().find(|branch| *branch == reference);
    let inputs = ask.inputs.into_iter().collect();
    let by = Some(caller.name().to_owned());
    let cause = Cause::ByHand { on: branch.map(Ref::Branch) };
    let by_hand = Occasion { commit: Some(id), by, inputs, only: ask.jobs, ..Occasion::new(cause) };
    if let Some(kept) = app.settings.rehearsal.as_ref().and_then(|rehearsal| rehearsal.kept.as_ref()) {
        crate::kept::bring_entries(kept, &app.records, project.id).await;
    }
    // A rehearsal plays through another occasion than the one that it is.
    let occasion = match &app.settings.rehearsal {
        Some(played) => Occasion { commit: by_hand.commit.clone(), only: by_hand.only, ..played.occasion.clone() },
        None => by_hand,
    };
    unfit_inputs(file, &occasion)?;
    let file = file.clone();
    let mut known = complete(&mirror, &project, &occasion).await.map_err(away)?;
    if let Some(played) = &app.settings.rehearsal {
        known.occasion.changed = played.occasion.changed.clone();
    }
    Ok(Asked { project, file, known })
}

/// What a start would do: the plan of exactly that. Nothing is begun.
#[utoipa::path(post, operation_id = "plan_start", path = "/api/v1/projects/{project}/planned-run", params(("project" = String, Path)), request_body = NewRun, responses((status = 200, body = PlannedRunView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn planned(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<NewRun>,
) -> Result<Json<PlannedRunView>, ApiError> {
    let Asked { project, file, known } = asked(&app, &caller, &project, ask).await?;
    let (plan, diagnostics) = match planned_by_hand(&app, &project, &known, &file).await.map_err(away)? {
        Ok(plan) => (Some(PlanView::new(&plan)), Vec::new()),
        Err(found) => (None, found),
    };
    Ok(Json(PlannedRunView {
        commit: known.commit.id,
        commit_title: known.commit.title,
        commit_author: known.commit.author,
        diagnostics,
        plan,
    }))
}

/// Start a run by hand.
#[utoipa::path(post, operation_id = "start_run", path = "/api/v1/projects/{project}/runs", params(("project" = String, Path)), request_body = NewRun, responses((status = 201, body = RunView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn start(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
    Body(ask): Body<NewRun>,
) -> Result<(StatusCode, Json<RunView>), ApiError> {
    let Asked { project, file, known } = asked(&app, &caller, &project, ask).await?;
    let key = match begin(&app, &caller.actor, &project, &known, &file).await.map_err(away)? {
        Begun::Run(key) => key,
        Begun::Known => return Err(ApiError::new(StatusCode::CONFLICT, "run-known", "this commit has a run of that pipeline already")),
        Begun::Unwanted => {
            return Err(ApiError::field(
                "/pipeline",
                format!("pipeline {} says `by_hand = false`: nobody may start it by hand", file.name),
            ));
        }
    };
    let row = find_run(&app, &project.name, key.number).await?;
    Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)))
}

/// Inputs and jobs that the file does not know are the caller's mistake, not the file's.
fn unfit_inputs(file: &PipelineFile, occasion: &Occasion) -> Result<(), ApiError> {
    let borrowed = BorrowedFiles::new();
    let source = Source { text: &file.text, name: &file.name, borrowed: &borrowed };
    let Err(found) = core_plan(source, occasion) else { return Ok(()) };
    let own = found.iter().find(|found| {
        let about_inputs = matches!(found.code, Code::Given | Code::UnknownInput) && !occasion_free(&file.text);
        about_inputs || (found.code == Code::UnknownJob && found.span == (0..0))
    });
    let Some(own) = own else { return Ok(()) };
    let hint = own.hint.as_ref().map(|hint| format!("; {hint}")).unwrap_or_default();
    let pointer = if own.code == Code::UnknownJob { "/jobs" } else { "/inputs" };
    Err(ApiError::field(pointer, format!("{}{hint}", own.message)))
}

/// Whether the file has mistakes on any occasion: those become a failed run.
fn occasion_free(text: &str) -> bool {
    has_errors(&check(text))
}

/// The commit that a branch, tag or commit names.
async fn resolve(mirror: &Mirror, project: &Project, reference: &str) -> Result<String, ApiError> {
    match mirror.resolve(reference).await {
        Ok(Some(id)) => Ok(id),
        Ok(None) => {
            let branches = mirror.branches().await.unwrap_or_default();
            let hint = match nearest(reference, branches.iter().map(String::as_str)) {
                Some(near) => format!("did you mean {near}?"),
                None => format!("its branches: {}", branches.iter().take(8).cloned().collect::<Vec<_>>().join(", ")),
            };
            Err(ApiError::field("/ref", format!("{} has no branch, tag or commit {reference}; {hint}", project.name)))
        }
        Err(error) => Err(ApiError::field("/ref", error.to_string())),
    }
}
