//! What waits for the caller: approvals, emergencies to be confirmed, runs from outside.

use super::environments::views;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use axum::Json;
use axum::extract::State;
use ordotaxis_core::access::{Action, Object, allowed};
use ordotaxis_store::Project;
use ordotaxis_wire::environment::{EmergencyView, EnvironmentView, NeedKind, NeedView, WaitingView};
use ordotaxis_wire::moment;
use std::collections::BTreeSet;

/// All that waits for the caller, the oldest first.
#[utoipa::path(get, operation_id = "list_needs", path = "/api/v1/needs", responses((status = 200, body = Vec<NeedView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<NeedView>>, ApiError> {
    Ok(Json(needs(&app, &caller).await?))
}

pub(super) async fn needs(app: &App, caller: &Caller) -> Result<Vec<NeedView>, ApiError> {
    let mut all = Vec::new();
    let (busy, holding) = (app.records.asking_environments().await?, app.records.holding_projects().await?);
    for project in app.records.projects().await?.into_iter().filter(|project| caller.sees(project)) {
        let asks: BTreeSet<i64> = busy.iter().filter(|row| row.project_id == project.id).map(|row| row.id).collect();
        if !asks.is_empty() {
            let mut rows = app.records.held(project.id, None).await?;
            rows.retain(|(row, _)| asks.contains(&row.id));
            all.extend(views(app, &project, caller, rows).await?.iter().flat_map(of_environment));
        }
        let object = Object::Project { name: &project.name, seen: project.seen };
        if holding.contains(&project.id) && allowed(&caller.rights, Action::AllowRun, object).is_ok() {
            all.extend(outside(app, &project).await?);
        }
    }
    all.sort_by_key(|need| (need.since, need.run.clone(), need.job.clone()));
    Ok(all)
}

fn of_environment(view: &EnvironmentView) -> Vec<NeedView> {
    let waits = view.waiting.iter().filter(|one| one.asks_you).map(|one| approval(view, one));
    let past = view.unconfirmed.iter().filter(|one| one.asks_you).map(|one| confirmation(view, one));
    waits.chain(past).collect()
}

fn page(view: &EnvironmentView) -> String {
    format!("projects/{}/environments/{}", view.project, view.name)
}

fn approval(view: &EnvironmentView, one: &WaitingView) -> NeedView {
    NeedView {
        kind: NeedKind::Approval,
        project: view.project.clone(),
        run: Some(one.run.clone()),
        job: Some(one.job.clone()),
        environment: Some(view.name.clone()),
        sentence: format!("{} {} {}", one.run, one.job, one.why),
        command: format!("ordotaxis approve {} {}", one.run, one.job),
        since: one.asked_at,
        page: page(view),
    }
}

fn confirmation(view: &EnvironmentView, one: &EmergencyView) -> NeedView {
    NeedView {
        kind: NeedKind::Confirmation,
        project: view.project.clone(),
        run: Some(one.run.clone()),
        job: Some(one.job.clone()),
        environment: Some(view.name.clone()),
        sentence: format!(
            "{} put {} {} into {} past the rules, and nobody else has confirmed it: {}",
            one.by, one.run, one.job, view.name, one.reason
        ),
        command: format!("ordotaxis approve {} {}", one.run, one.job),
        since: one.at,
        page: page(view),
    }
}

/// Runs that come from outside and wait for someone to allow them.
async fn outside(app: &App, project: &Project) -> Result<Vec<NeedView>, ApiError> {
    let runs: Vec<i64> = app.records.held_runs(project.id).await?.into_iter().map(|run| run.id).collect();
    let rows = app.records.runs_by_id(&runs).await?.into_iter();
    Ok(rows
        .map(|row| {
            let run = format!("{}/{}", row.project, row.number);
            NeedView {
                kind: NeedKind::Allow,
                project: project.name.clone(),
                job: None,
                environment: None,
                sentence: format!(
                    "{run} comes from outside, and waits for someone to allow it: {} by {}",
                    row.commit_title, row.commit_author
                ),
                command: format!("ordotaxis allow {run}"),
                since: moment(row.created_at),
                page: format!("runs/{run}"),
                run: Some(run),
            }
        })
        .collect())
}
