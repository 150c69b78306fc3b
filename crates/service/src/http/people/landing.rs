//! The landing queue: asked to land, taken out, put first, held; and where everything stands.

use super::projects;
use super::views::run_views;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::landing::{change, lacks, rules_of, tick};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::landing::{Entry as Queued, Event, Offered, Queue};
use ordotaxis_git::GitError;
use ordotaxis_store::{Entry, LandingEnd, Project, ProposalRow};
use ordotaxis_wire::landing::{LandAsk, LandingBranch, LandingEndView, LandingEntry, LandingStep, LandingView};
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
    for (branch, queue) in app.records.landings(project.id).await? {
        let mut entries = Vec::new();
        for entry in queue.entries() {
            entries.push(entry_view(app, project, &branch, &queue, entry).await?);
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
    let trouble = rules_of(app, project).await.err().map(|error| error.to_string());
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
    let branch = row.target.clone();
    if ask.what == LandingStep::Land {
        asked(&app, &caller, &project, &row).await?;
    } else {
        moved(&app, &caller, &project, &row, &ask).await?;
    }
    tick(&app, &project, &branch).await?;
    Ok(Json(view(&app, &project).await?))
}

fn conflict(detail: impl Into<String>) -> ApiError {
    ApiError::new(StatusCode::CONFLICT, "not-landing", detail)
}

/// It takes its place, if its branch has a queue and it is offered.
async fn asked(app: &App, caller: &Caller, project: &Project, row: &ProposalRow) -> Result<(), ApiError> {
    if row.state != "open" {
        return Err(conflict(format!("proposal {} is {}: there is nothing to land", row.number, row.state)));
    }
    let away = |error: GitError| {
        ApiError::new(StatusCode::BAD_GATEWAY, "repository-away", format!("{} cannot be read now: {error}", project.git_url))
    };
    let mirror = app.mirror(project);
    mirror.fetch_all().await.map_err(away)?;
    let rules = rules_of(app, project).await.map_err(|error| conflict(error.to_string()))?.branch(&row.target);
    if !rules.queue {
        let detail = format!(
            "the branch {} has no landing queue: `{}` on {} says land = \"queue\" below [branch.{}] where it should have one",
            row.target,
            ordotaxis_core::rules::FILE,
            project.main_branch,
            row.target
        );
        return Err(conflict(detail));
    }
    let Some(head) = mirror.resolve(&row.target).await.map_err(away)? else {
        return Err(conflict(format!("there is no branch {}", row.target)));
    };
    let lacking = lacks(app, project, row, &rules).await?;
    let offered = Offered { proposal: row.number.clone(), head: row.head.clone() };
    let now = clock::now();
    let mut tx = app.records.tx(&caller.actor, now).await?;
    if tx.landing(project.id, &row.target).await?.is_none() {
        tx.set_landing(project.id, &row.target, &Queue::new(&head, rules.manner)).await?;
    }
    let events = vec![
        Event::Moved { head },
        Event::Manner(rules.manner),
        // What it lacks is known before it is tried.
        Event::Asked { offered, by: caller.name().to_owned(), at: now, lacks: lacking },
    ];
    change(&mut tx, project.id, &row.target, events).await?;
    tx.note(Entry::new(Action::Land, format!("proposal {}", row.number)).of(&project.name).after(&row.head));
    tx.commit().await?;
    Ok(())
}

/// It leaves, goes first, is held or released.
async fn moved(app: &App, caller: &Caller, project: &Project, row: &ProposalRow, ask: &LandAsk) -> Result<(), ApiError> {
    let proposal = row.number.clone();
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let queue = tx.landing(project.id, &row.target).await?;
    let Some(queue) = queue.filter(|queue| queue.entry(&proposal).is_some()) else {
        return Err(conflict(format!("proposal {proposal} is not in the landing queue of {}", row.target)));
    };
    if queue.is_landing(&proposal) && ask.what != LandingStep::Release {
        return Err(conflict(format!("proposal {proposal} is landing just now: it is too late")));
    }
    let why = |what: &str| match &ask.why {
        Some(why) => format!("{}: {why}", caller.name()),
        None => format!("{} {what}", caller.name()),
    };
    let event = match ask.what {
        LandingStep::Leave => Event::Leave { proposal, why: why("took it out") },
        LandingStep::First => Event::Ranked { proposal, rank: 1 },
        LandingStep::Hold => Event::Held { proposal, why: Some(why("holds it back")) },
        LandingStep::Release | LandingStep::Land => Event::Held { proposal, why: None },
    };
    change(&mut tx, project.id, &row.target, vec![event]).await?;
    tx.note(Entry::new(Action::Land, format!("proposal {}", row.number)).of(&project.name).after(ask.what));
    tx.commit().await?;
    Ok(())
}
