//! Proposals: what is offered, who approved it, and how its runs went.

use super::projects;
use super::views::run_views;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use ordotaxis_store::{Project, ProposalRow, ReviewRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::proposal::{ProposalView, ReviewView, VerdictView};
use ordotaxis_wire::run::RunView;
use serde::Deserialize;
use std::collections::HashSet;
use utoipa::IntoParams;

/// How many proposals are listed at most, and how many runs of one.
const MOST: i64 = 200;
const RUNS: i64 = 100;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Those that were closed or have landed, too.
    #[serde(default)]
    all: bool,
}

/// The newest run of each pipeline for a commit; `runs` are newest first.
fn verdicts(runs: &[(String, RunView)], commit: &str) -> Vec<VerdictView> {
    let mut seen = HashSet::new();
    let newest = runs.iter().filter(|(head, run)| head == commit && seen.insert(run.pipeline.clone()));
    let view = |(_, run): &(String, RunView)| VerdictView {
        run: run.run.clone(),
        pipeline: run.pipeline.clone(),
        state: run.state,
        sentence: run.sentence.clone(),
    };
    newest.map(view).collect()
}

fn view(project: &Project, row: ProposalRow, reviews: &[ReviewRow], runs: &[(String, RunView)]) -> ProposalView {
    let review = |review: &ReviewRow| ReviewView {
        by: review.who.clone(),
        approves: review.approves,
        current: review.commit_id == row.head,
        at: moment(review.at),
    };
    ProposalView {
        project: project.name.clone(),
        reviews: reviews.iter().filter(|review| review.proposal_id == row.id).map(review).collect(),
        verdicts: verdicts(runs, &row.head),
        runs: Vec::new(),
        number: row.number,
        title: row.title,
        author: row.author,
        source: row.source,
        target: row.target,
        commit: row.head,
        outside: row.outside,
        draft: row.draft,
        state: row.state,
        link: row.link,
        offered_at: moment(row.offered_at),
        changed_at: moment(row.changed_at),
        ended_at: row.ended_at.map(moment),
        landed_as: row.landed_as,
    }
}

/// Runs of proposals, newest first, each with the commit that verdicts go to.
async fn runs(app: &App, project: &Project, numbers: &[&str], limit: i64) -> Result<Vec<(String, RunView)>, ApiError> {
    let rows = app.records.runs_of_proposals(project.id, numbers, limit).await?;
    let heads: Vec<String> = rows.iter().map(ordotaxis_store::RunRow::told_on).collect();
    Ok(heads.into_iter().zip(run_views(app, rows).await?).collect())
}

/// A project's proposals that are open, newest first; all with `all`.
#[utoipa::path(get, operation_id = "list_proposals", path = "/api/v1/projects/{project}/proposals", params(("project" = String, Path), Which), responses((status = 200, body = Vec<ProposalView>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(which): Query<Which>,
) -> Result<Json<Vec<ProposalView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let rows = app.records.proposals(project.id, !which.all, MOST).await?;
    let reviews = app.records.reviews(project.id).await?;
    let numbers: Vec<&str> = rows.iter().map(|row| row.number.as_str()).collect();
    let runs = runs(&app, &project, &numbers, MOST * 5).await?;
    Ok(Json(rows.into_iter().map(|row| view(&project, row, &reviews, &runs)).collect()))
}

/// One proposal, with every run of it.
#[utoipa::path(get, operation_id = "show_proposal", path = "/api/v1/projects/{project}/proposals/{proposal}", params(("project" = String, Path), ("proposal" = String, Path)), responses((status = 200, body = ProposalView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path((project, number)): Path<(String, String)>) -> Result<Json<ProposalView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let none = || {
        let detail = format!("{} has no proposal {number}; `ordotaxis proposals {} --all` shows all", project.name, project.name);
        ApiError::not_found("proposal", detail)
    };
    let row = app.records.proposal(project.id, &number).await?.ok_or_else(none)?;
    let reviews = app.records.reviews(project.id).await?;
    let runs = runs(&app, &project, &[&number], RUNS).await?;
    let mut view = view(&project, row, &reviews, &runs);
    view.runs = runs.into_iter().map(|(_, run)| run).collect();
    Ok(Json(view))
}
