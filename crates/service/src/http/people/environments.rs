//! Environments: what is in each, what waits to come in and why, and the words that people give on it.

use super::projects;
use super::views::{find_run, whole_run};
use crate::app::App;
use crate::clock;
use crate::delivery::{Around, NotSaid, Said, Standing, behind, close_now, frozen, promote, roll_back, said, urgent};
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::occasions::NotCarried;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use futures_util::StreamExt;
use ordotaxis_core::delivery::{Environment, Frozen, People, Way, Wish, Word, asks, sentence};
use ordotaxis_store::{DeploymentRow, EnvironmentRow, Project};
use ordotaxis_wire::environment::{
    AskEmergency, AskPromotion, AskRollBack, DeploymentEnd, DeploymentView, DoubtView, EmergencyView, EnvironmentPage, EnvironmentView,
    Freeze, FrozenView, InsideView, Speak, WaitingView, WayView, WordView,
};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::RunView;
use serde::Deserialize;
use std::collections::HashMap;

/// How many deployments a page has.
const PAGE: i64 = 50;
/// How many commits are compared with main at once.
const AT_ONCE: usize = 4;

/// A project's environments, by name.
#[utoipa::path(get, operation_id = "list_environments", path = "/api/v1/projects/{project}/environments", params(("project" = String, Path)), responses((status = 200, body = Vec<EnvironmentView>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    caller: Caller,
    Path(project): Path<String>,
) -> Result<Json<Vec<EnvironmentView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let mut rows = app.records.held(project.id, None).await?;
    rows.retain(|(row, _)| row.closed_at.is_none());
    Ok(Json(views(&app, &project, &caller, rows).await?))
}

/// Which part of an environment's history.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Older {
    /// Those before this number.
    before: Option<i64>,
}

/// One environment, with its history.
#[utoipa::path(get, operation_id = "show_environment", path = "/api/v1/projects/{project}/environments/{environment}", params(("project" = String, Path), ("environment" = String, Path), Older), responses((status = 200, body = EnvironmentPage), (status = 404, body = Problem)))]
pub(crate) async fn show(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Query(older): Query<Older>,
) -> Result<Json<EnvironmentPage>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let held = find(&app, &project, &name).await?;
    let mut rows = app.records.deployments(held.0.id, older.before, PAGE + 1).await?;
    let more = rows.len() > usize::try_from(PAGE).unwrap_or(0);
    rows.truncate(usize::try_from(PAGE).unwrap_or(0));
    let environment = views(&app, &project, &caller, vec![held]).await?.remove(0);
    Ok(Json(EnvironmentPage { environment, deployments: rows.into_iter().map(deployment).collect(), more }))
}

/// An environment, and what is there.
pub(super) type Held = (EnvironmentRow, Option<DeploymentRow>);

pub(super) async fn find(app: &App, project: &Project, name: &str) -> Result<Held, ApiError> {
    if let Some(held) = app.records.held(project.id, Some(name)).await?.pop() {
        return Ok(held);
    }
    let known: Vec<String> = app.records.environments(project.id).await?.into_iter().map(|row| row.name).collect();
    let hint = match ordotaxis_core::language::nearest(name, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => "an environment is made when a job deploys there for the first time".to_owned(),
    };
    Err(ApiError::not_found("environment", format!("{} has no environment {name}; {hint}", project.name)))
}

/// Approve or refuse what a job would put into its environment, or confirm an emergency.
#[utoipa::path(post, operation_id = "approve_deployment", path = "/api/v1/runs/{project}/{number}/approval", params(("project" = String, Path), ("number" = i64, Path)), request_body = Speak, responses((status = 200, body = Vec<EnvironmentView>), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn speak(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<Speak>,
) -> Result<Json<Vec<EnvironmentView>>, ApiError> {
    caller.person_id()?;
    let run = find_run(&app, &project, number).await?;
    let project = projects::find(&app, &project).await?;
    let reason = reason(ask.reason)?;
    said(&app, &caller.actor, &project, &run, Said { job: ask.job, agrees: ask.agrees, reason }).await.map_err(refused)?;
    let rows = app.records.held(project.id, None).await?;
    Ok(Json(views(&app, &project, &caller, rows).await?))
}

/// Let a job into its environment past the rules; someone else must confirm it.
#[utoipa::path(post, operation_id = "emergency", path = "/api/v1/runs/{project}/{number}/emergency", params(("project" = String, Path), ("number" = i64, Path)), request_body = AskEmergency, responses((status = 200, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn emergency(
    State(app): State<App>,
    caller: Caller,
    Path((project, number)): Path<(String, i64)>,
    Body(ask): Body<AskEmergency>,
) -> Result<Json<RunView>, ApiError> {
    caller.person_id()?;
    let run = find_run(&app, &project, number).await?;
    let known = projects::find(&app, &project).await?;
    let why = reason(Some(ask.reason))?.ok_or_else(|| ApiError::field("/reason", "say why: everybody reads it"))?;
    urgent(&app, &caller.actor, &known, &run, &ask.job, &why).await.map_err(refused)?;
    Ok(Json(whole_run(&app, find_run(&app, &project, number).await?).await?))
}

fn reason(text: Option<String>) -> Result<Option<String>, ApiError> {
    match text {
        Some(text) if text.len() > 1_000 => Err(ApiError::field("/reason", "a reason is at most 1000 bytes")),
        text => Ok(text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty())),
    }
}

fn refused(error: NotSaid) -> ApiError {
    match error {
        NotSaid::Store(error) => error.into(),
        NotSaid::No(why) => ApiError::new(StatusCode::CONFLICT, "not-counted", why),
    }
}

/// Freeze an environment: nothing goes in but roll-backs and emergencies.
#[utoipa::path(put, operation_id = "freeze_environment", path = "/api/v1/projects/{project}/environments/{environment}/frozen", params(("project" = String, Path), ("environment" = String, Path)), request_body = Freeze, responses((status = 200, body = EnvironmentView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn freeze(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Body(ask): Body<Freeze>,
) -> Result<Json<EnvironmentView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let why = reason(Some(ask.reason))?.ok_or_else(|| ApiError::field("/reason", "say why it is frozen: who waits reads it"))?;
    let until = ask.until.map(|until| until.as_millisecond());
    if until.is_some_and(|until| until <= clock::now()) {
        return Err(ApiError::field("/until", "that moment is over"));
    }
    find(&app, &project, &name).await?;
    let frost = Frozen { by: caller.name().to_owned(), reason: why, until };
    frozen(&app, &caller.actor, &project, &name, Some(frost)).await?;
    one(&app, &project, &caller, &name).await
}

/// Let an environment thaw.
#[utoipa::path(delete, operation_id = "thaw_environment", path = "/api/v1/projects/{project}/environments/{environment}/frozen", params(("project" = String, Path), ("environment" = String, Path)), responses((status = 200, body = EnvironmentView), (status = 404, body = Problem)))]
pub(crate) async fn thaw(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
) -> Result<Json<EnvironmentView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    find(&app, &project, &name).await?;
    frozen(&app, &caller.actor, &project, &name, None).await?;
    one(&app, &project, &caller, &name).await
}

/// Put what a run made into one more environment: nothing is built, the run's own job does it.
#[utoipa::path(post, operation_id = "promote", path = "/api/v1/projects/{project}/environments/{environment}/promotion", params(("project" = String, Path), ("environment" = String, Path)), request_body = AskPromotion, responses((status = 201, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn promotion(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Body(ask): Body<AskPromotion>,
) -> Result<(StatusCode, Json<RunView>), ApiError> {
    let project = projects::find(&app, &project).await?;
    let run = match ask.run {
        Some(number) => Some(find_run(&app, &project.name, number).await?),
        None => None,
    };
    let key = promote(&app, &caller.actor, &project, &name, run).await.map_err(not_carried)?;
    let row = find_run(&app, &project.name, key.number).await?;
    Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)))
}

/// Put what was in an environment before there again.
#[utoipa::path(post, operation_id = "roll_back", path = "/api/v1/projects/{project}/environments/{environment}/roll-back", params(("project" = String, Path), ("environment" = String, Path)), request_body = AskRollBack, responses((status = 201, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn back(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
    Body(ask): Body<AskRollBack>,
) -> Result<(StatusCode, Json<RunView>), ApiError> {
    let project = projects::find(&app, &project).await?;
    find(&app, &project, &name).await?;
    let key = roll_back(&app, &caller.actor, &project, &name, ask.to).await.map_err(not_carried)?;
    let row = find_run(&app, &project.name, key.number).await?;
    Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)))
}

/// Take a preview away now: its job with `closes` does it.
#[utoipa::path(post, operation_id = "close_environment", path = "/api/v1/projects/{project}/environments/{environment}/close", params(("project" = String, Path), ("environment" = String, Path)), responses((status = 201, body = RunView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn close(
    State(app): State<App>,
    caller: Caller,
    Path((project, name)): Path<(String, String)>,
) -> Result<(StatusCode, Json<RunView>), ApiError> {
    let project = projects::find(&app, &project).await?;
    find(&app, &project, &name).await?;
    let key = close_now(&app, &caller.actor, &project, &name).await.map_err(not_carried)?;
    let row = find_run(&app, &project.name, key.number).await?;
    Ok((StatusCode::CREATED, Json(whole_run(&app, row).await?)))
}

fn not_carried(error: NotCarried) -> ApiError {
    match error {
        NotCarried::Store(error) => error.into(),
        NotCarried::No(why) => ApiError::new(StatusCode::CONFLICT, "not-carried", why),
    }
}

async fn one(app: &App, project: &Project, caller: &Caller, name: &str) -> Result<Json<EnvironmentView>, ApiError> {
    let held = find(app, project, name).await?;
    Ok(Json(views(app, project, caller, vec![held]).await?.remove(0)))
}

/// Environments of one project, as one caller sees them.
pub(super) async fn views(app: &App, project: &Project, caller: &Caller, rows: Vec<Held>) -> Result<Vec<EnvironmentView>, ApiError> {
    let standing = Standing::of(app, project).await?;
    let mut all = Vec::with_capacity(rows.len());
    for (row, present) in rows {
        let state = row.machine()?;
        let person = caller.person_id().is_ok().then(|| caller.name());
        all.push(View { project, standing: &standing, person, row: &row, state: &state }.whole(present.map(deployment)));
    }
    let commits: std::collections::BTreeSet<String> = all.iter().filter_map(|view| Some(view.present.as_ref()?.commit.clone())).collect();
    let distances = futures_util::stream::iter(commits).map(|commit| async {
        let found = behind(app, project, &commit, &standing.commit).await;
        (commit, found)
    });
    let distances: HashMap<_, _> = distances.buffer_unordered(AT_ONCE).collect().await;
    for view in &mut all {
        view.behind = view.present.as_ref().and_then(|there| *distances.get(&there.commit)?);
    }
    Ok(all)
}

/// One environment before one person.
struct View<'a> {
    project: &'a Project,
    standing: &'a Standing,
    person: Option<&'a str>,
    row: &'a EnvironmentRow,
    state: &'a Environment,
}

impl View<'_> {
    fn whole(&self, present: Option<DeploymentView>) -> EnvironmentView {
        let name = self.row.name.as_str();
        let around = Around::here(self.standing, name);
        let parts = |called: &str| called.split_once(' ').map(|(run, job)| (run.to_owned(), job.to_owned())).unwrap_or_default();
        let state = self.state;
        let doubt = state.doubt.as_ref().map(|doubt| {
            let (run, job) = parts(&doubt.called);
            DoubtView { run, job, since: moment(doubt.since), why: doubt.why.clone() }
        });
        let frozen = state.frozen.as_ref().map(|frozen| FrozenView {
            by: frozen.by.clone(),
            reason: frozen.reason.clone(),
            until: frozen.until.map(moment),
        });
        let inside = state.inside().map(|inside| {
            let (run, job) = parts(&inside.wish.called);
            InsideView { run, job, since: moment(inside.since) }
        });
        let waiting = state.waiting().map(|(wish, holds)| {
            let (run, job) = parts(&wish.called);
            let asks_you = self.person.is_some_and(|person| around.at(clock::now(), |around| asks(wish, person, around)));
            WaitingView {
                run,
                job,
                commit: wish.commit.clone(),
                reference: wish.reference.clone(),
                way: way(&wish.way),
                why: sentence(name, holds, &clock::words),
                asked_at: moment(wish.asked_at),
                artifacts: wish.artifacts.iter().cloned().collect(),
                authors: wish.authors.iter().cloned().collect(),
                words: words(wish),
                asks_you,
            }
        });
        let unconfirmed = state.unconfirmed().iter().map(|one| {
            let (run, job) = parts(&one.called);
            let may = |person: &str| person != one.by && People::is_among(&self.standing.who, person, &[]);
            let asks_you = self.person.is_some_and(may);
            EmergencyView { run, job, by: one.by.clone(), reason: one.reason.clone(), at: moment(one.at), asks_you }
        });
        EnvironmentView {
            project: self.project.name.clone(),
            name: name.to_owned(),
            url: around.rules.as_ref().ok().and_then(|rules| rules.url.as_ref().map(|url| url.replace("{environment}", name))),
            sentence: told(present.as_ref(), doubt.as_ref()),
            behind: None,
            doubt,
            frozen,
            inside,
            waiting: waiting.collect(),
            unconfirmed: unconfirmed.collect(),
            trouble: around.rules.as_ref().err().cloned(),
            closed_at: self.row.closed_at.map(moment),
            unclosed: self.row.unclosed.clone(),
            present,
        }
    }
}

fn words(wish: &Wish) -> Vec<WordView> {
    let one = |word: &Word| WordView { by: word.by.clone(), agrees: word.agrees, reason: word.reason.clone(), at: moment(word.at) };
    wish.words.iter().map(one).collect()
}

fn way(way: &Way) -> WayView {
    match way {
        Way::Forward => WayView::Forward,
        Way::RollBack => WayView::RollBack,
        Way::Close => WayView::Close,
        Way::Undo { .. } => WayView::Undo,
        Way::Emergency { .. } => WayView::Emergency,
    }
}

/// What is there, in one sentence.
fn told(present: Option<&DeploymentView>, doubt: Option<&DoubtView>) -> String {
    let there = present.map(|there| {
        let commit = there.commit.get(..8).unwrap_or(&there.commit);
        let since = there.ended_at.map(|at| clock::words(at.as_millisecond())).unwrap_or_default();
        format!("{commit} of {} since {since}, by {}", there.reference, there.run)
    });
    match (doubt, there) {
        (Some(doubt), there) => {
            let since = clock::words(doubt.since.as_millisecond());
            let before = there.map(|there| format!("; before it was {there}")).unwrap_or_default();
            format!("unknown since {since}: {} {}: {}{before}", doubt.run, doubt.job, doubt.why)
        }
        (None, Some(there)) => there,
        (None, None) => "nothing was put there yet".to_owned(),
    }
}

/// A stored deployment.
pub(super) fn deployment(row: DeploymentRow) -> DeploymentView {
    let words: Vec<Word> = serde_json::from_str(&row.words).unwrap_or_default();
    let (asked_by, reason) = match &row.way {
        Way::Emergency { by, reason } => (Some(by.clone()), Some(reason.clone())),
        Way::Undo { why } => (None, Some(why.clone())),
        _ => (None, None),
    };
    let outcome = row.outcome.as_deref().map(|word| match word {
        "well" => DeploymentEnd::Well,
        "untouched" => DeploymentEnd::Untouched,
        "failed" => DeploymentEnd::Failed,
        _ => DeploymentEnd::Lost,
    });
    DeploymentView {
        number: row.number,
        run: row.run,
        job: row.job_id,
        commit: row.commit_id,
        reference: row.reference,
        way: way(&row.way),
        reason,
        by: asked_by.or(row.started_by),
        approved_by: words.into_iter().map(|word| word.by).collect(),
        artifacts: serde_json::from_str(&row.artifacts).unwrap_or_default(),
        rules_commit: row.rules_commit,
        let_in_at: moment(row.let_in_at),
        ended_at: row.ended_at.map(moment),
        outcome,
        back: row.back,
        why: row.why,
        answer: row.answer,
        left_at: row.left_at.map(moment),
        trouble: row.trouble,
        confirmed_by: row.confirmed_by,
    }
}
