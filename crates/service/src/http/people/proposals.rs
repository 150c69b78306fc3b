//! Proposals: what is offered, who approved it, and how its runs went.

use super::projects;
use super::views::run_views;
use crate::about::plan_changes;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use crate::talk;
use axum::Json;
use axum::extract::State;
use ordotaxis_store::{Project, ProposalRow, ReviewRow};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::proposal::{FailureView, GrownView, ProposalView, ReviewView, VerdictView};
use ordotaxis_wire::run::RunView;
use serde::Deserialize;
use std::collections::HashSet;
use utoipa::IntoParams;

/// How many proposals are listed at most, and how many runs of one.
const MOST: i64 = 200;
const RUNS: i64 = 100;
/// So many failures of one are shown.
const FAILURES: usize = 50;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Those that were closed or have landed, too.
    #[serde(default)]
    all: bool,
}

/// The newest run of each pipeline for a commit; `runs` are newest first.
fn verdicts(runs: &[Run], commit: &str) -> Vec<VerdictView> {
    let view = |Run { view, .. }: &Run| VerdictView {
        run: view.run.clone(),
        pipeline: view.pipeline.clone(),
        state: view.state,
        sentence: view.sentence.clone(),
    };
    newest(runs, commit).map(view).collect()
}

/// A run of a proposal.
struct Run {
    id: i64,
    /// The commit that its verdict goes to.
    head: String,
    view: RunView,
}

fn newest<'r>(runs: &'r [Run], commit: &'r str) -> impl Iterator<Item = &'r Run> {
    let mut seen = HashSet::new();
    runs.iter().filter(move |run| run.head == commit && seen.insert(run.view.pipeline.clone()))
}

fn view(project: &Project, row: ProposalRow, reviews: &[ReviewRow], runs: &[Run]) -> ProposalView {
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
        new_failures: 0,
        landing: Vec::new(),
        failures: Vec::new(),
        numbers: Vec::new(),
        plan: Vec::new(),
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

/// Runs of proposals, newest first.
async fn runs(app: &App, project: &Project, numbers: &[&str], limit: i64) -> Result<Vec<Run>, ApiError> {
    let rows = app.records.runs_of_proposals(project.id, numbers, limit).await?;
    let heads: Vec<(i64, String)> = rows.iter().map(|row| (row.id, row.told_on())).collect();
    Ok(heads.into_iter().zip(run_views(app, rows).await?).map(|((id, head), view)| Run { id, head, view }).collect())
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
    let new = new_failures(&app, &rows, &runs).await?;
    let landings = talk::Landings::of(&app, &project).await?;
    let mut views = Vec::new();
    for (row, new_failures) in rows.into_iter().zip(new) {
        let landing = if row.state == "open" { landings.lines(&row) } else { Vec::new() };
        views.push(ProposalView { new_failures, landing, ..view(&project, row, &reviews, &runs) });
    }
    Ok(Json(views))
}

/// Of each proposal how many tests fail, in the newest runs of its newest commit, that did not fail before.
async fn new_failures(app: &App, rows: &[ProposalRow], runs: &[Run]) -> Result<Vec<u64>, ApiError> {
    let ids: Vec<i64> = runs.iter().map(|run| run.id).collect();
    let new = app.records.number_of("tests.new", &ids).await?;
    let of = |id: i64| new.iter().find(|(run, _)| *run == id).map_or(0.0, |(_, value)| *value);
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts are whole and small")]
    let sum = |row: &ProposalRow| newest(runs, &row.head).map(|run| of(run.id)).sum::<f64>() as u64;
    Ok(rows.iter().map(sum).collect())
}

/// One proposal, with every run of it.
#[utoipa::path(get, operation_id = "show_proposal", path = "/api/v1/projects/{project}/proposals/{proposal}", params(("project" = String, Path), ("proposal" = String, Path)), responses((status = 200, body = ProposalView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path((project, number)): Path<(String, String)>) -> Result<Json<ProposalView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let row = find(&app, &project, &number).await?;
    Ok(Json(whole(&app, &project, row).await?))
}

/// A proposal by its number, or a problem that says where there are some.
pub(super) async fn find(app: &App, project: &Project, number: &str) -> Result<ProposalRow, ApiError> {
    let none = || {
        let detail = format!("{} has no proposal {number}; `ordotaxis proposals {} --all` shows all", project.name, project.name);
        ApiError::not_found("proposal", detail)
    };
    app.records.proposal(project.id, number).await?.ok_or_else(none)
}

/// All there is to say about a proposal.
pub(super) async fn whole(app: &App, project: &Project, row: ProposalRow) -> Result<ProposalView, ApiError> {
    let reviews = app.records.reviews(project.id).await?;
    let runs = runs(app, project, &[&row.number], RUNS).await?;
    let gathered = talk::gathered(app, project, &row).await?;
    let mut plan = Vec::new();
    for run in talk::newest_runs(app, project, &row).await? {
        if let Some(planned) = app.plan_of(run.id).await? {
            plan.extend(plan_changes(app, project.id, &run, &planned).await?);
        }
    }
    let failures = gathered.failures.into_iter().take(FAILURES);
    let view = ProposalView {
        new_failures: new_failures(app, std::slice::from_ref(&row), &runs).await?.first().copied().unwrap_or_default(),
        landing: gathered.landing,
        failures: failures.map(|one| FailureView { job: one.job, test: one.test, message: one.message, place: one.place }).collect(),
        numbers: gathered
            .numbers
            .into_iter()
            .map(|one| GrownView { name: one.name, now: one.now, before: one.before, wants: one.wants })
            .collect(),
        plan,
        ..view(project, row, &reviews, &runs)
    };
    Ok(ProposalView { runs: runs.into_iter().map(|run| run.view).collect(), ..view })
}
