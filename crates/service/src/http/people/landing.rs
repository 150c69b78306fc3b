//! The landing queue: asked to land, taken out, put first, held; and where everything stands.

use super::projects;
use super::views::run_views;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::landing::{NotLanding, expected, rules_of, step};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::landing::{Entry as Queued, Queue};
use ordotaxis_store::{LandingEnd, Project};
use ordotaxis_wire::landing::{LandAsk, LandingBranch, LandingEndView, LandingEntry, LandingView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::proposal::VerdictView;

/// How much of what landed or left is shown.
const ENDED: i64 = 30;

/// A project's landing queues.
#[utoipa::path(get, operation_id = "show_landing", path = "/api/v1/projects/{project}/landing", params(("project" = String, Path)), responses((status = 200, body = LandingView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path(project): Path<String>) -> Result<Json<LandingView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(view(&app, &project).await?))
}

async fn view(app: &App, project: &Project) -> Result<LandingView, ApiError> {
    let mut branches = Vec::new();
    let (rules, trouble) = match rules_of(app, project).await {
        Ok(rules) => (Some(rules), None),
        Err(error) => (None, Some(error.to_string())),
    };
    for (branch, queue) in app.records.landings(project.id).await? {
        let expected = match &rules {
            Some(rules) => expected(app, project, &branch, &rules.branch(&branch), &queue).await?,
            None => Default::default(),
        };
        let mut entries = Vec::new();
        for entry in queue.entries() {
            let expected_at = expected.get(&entry.offered.proposal).copied().map(moment);
            entries.push(LandingEntry { expected_at, ..entry_view(app, project, &branch, &queue, entry).await? });
        }
        branches.push(LandingBranch { branch, head: queue.head.clone(), shut: queue.shut.clone(), entries });
    }
    let ended = |end: LandingEnd| LandingEndView {
        proposal: end.proposal,
        branch: end.branch,
        commit: end.commit_id,
        why: end.why,
        at: moment(end.at),
    };
    Ok(LandingView { branches, ended: app.records.landing_ends(project.id, ENDED).await?.into_iter().map(ended).collect(), trouble })
}

async fn entry_view(app: &App, project: &Project, branch: &str, queue: &Queue, entry: &Queued) -> Result<LandingEntry, ApiError> {
    let proposal = entry.offered.proposal.clone();
    let trial = queue.trials().iter().find(|trial| trial.group.contains(&entry.offered));
    let title = app.records.proposal(project.id, &proposal).await?.map(|row| row.title).unwrap_or_default();
    let place = queue.place(&proposal);
    let mut runs = Vec::new();
    if let Some(trial) = trial {
        for run in app.records.trial_runs(project.id, branch, trial.number).await? {
            runs.extend(app.records.run(&project.name, run.number).await?);
        }
    }
    let verdict =
        |run: ordotaxis_wire::run::RunView| VerdictView { run: run.run, pipeline: run.pipeline, state: run.state, sentence: run.sentence };
    Ok(LandingEntry {
        title,
        by: entry.by.clone(),
        asked_at: moment(entry.asked_at),
        place: place.as_ref().map_or(0, |place| place.place),
        sentence: place.as_ref().map(|place| place.standing.sentence(&place.ahead)).unwrap_or_default(),
        ahead: place.map(|place| place.ahead).unwrap_or_default(),
        expected_at: None,
        trial: trial.map(|trial| trial.number),
        together: trial.iter().flat_map(|trial| &trial.group).map(|one| one.proposal.clone()).filter(|one| *one != proposal).collect(),
        commit: trial.and_then(|trial| trial.commit().cloned()),
        runs: run_views(app, runs).await?.into_iter().map(verdict).collect(),
        proposal,
    })
}

/// Ask for a proposal to land, or change where it stands in the queue.
#[utoipa::path(post, operation_id = "land_proposal", path = "/api/v1/projects/{project}/proposals/{proposal}/landing", params(("project" = String, Path), ("proposal" = String, Path)), request_body = LandAsk, responses((status = 200, body = LandingView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn land(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, String)>,
    Body(ask): Body<LandAsk>,
) -> Result<Json<LandingView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    if ask.why.as_ref().is_some_and(|why| why.len() > 1_000) {
        return Err(ApiError::field("/why", "a reason is at most 1000 bytes"));
    }
    let none = || {
        ApiError::not_found(
            "proposal",
            format!("{} has no proposal {number}; `ordotaxis proposals {}` lists them", project.name, project.name),
        )
    };
    let row = app.records.proposal(project.id, &number).await?.ok_or_else(none)?;
    step(&app, &caller.actor, &project, &row, ask.what, ask.why.as_deref()).await.map_err(refused)?;
    Ok(Json(view(&app, &project).await?))
}

fn refused(error: NotLanding) -> ApiError {
    match error {
        NotLanding::Store(error) => error.into(),
        NotLanding::Away(why) => ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", why),
        NotLanding::No(why) => ApiError::new(StatusCode::CONFLICT, "not-landing", why),
    }
}
