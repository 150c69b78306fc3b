//! The board: is anything broken, since when, and whose is it?

use super::views::{run_views, state_of};
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::Query;
use axum::Json;
use axum::extract::State;
use ordotaxis_core::engine::State as RunState;
use ordotaxis_store::{BoardRow, BrokenRow, JobRow, Project, RunRow};
use ordotaxis_wire::board::{BoardLine, BoardRun, BoardView, BrokeView};
use ordotaxis_wire::moment;
use ordotaxis_wire::run::RunView;
use serde::Deserialize;
use std::collections::{BTreeSet, HashMap};
use utoipa::IntoParams;

/// How many past runs a line shows.
const STRIP: i64 = 30;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Only {
    /// Only these projects, with commas between them: whoever knows the board asks again for what changed.
    projects: Option<String>,
}

/// All projects: the broken first, then those where something runs, then by name.
#[utoipa::path(get, operation_id = "board", path = "/api/v1/board", params(Only), responses((status = 200, body = BoardView)))]
pub(crate) async fn board(State(app): State<App>, caller: Caller, Query(only): Query<Only>) -> Result<Json<BoardView>, ApiError> {
    let wanted: Option<BTreeSet<&str>> = only.projects.as_deref().map(|names| names.split(',').collect());
    let all = app.records.projects().await?.into_iter();
    let named = |project: &Project| wanted.as_ref().is_none_or(|wanted| wanted.contains(project.name.as_str()));
    let seen: Vec<Project> = all.filter(|project| named(project) && caller.sees(project)).collect();
    let mut found = Found::of(&app, &seen).await?;
    let mut projects = Vec::with_capacity(seen.len());
    for project in seen {
        projects.push(line(&app, &caller, project, &mut found).await?);
    }
    projects.sort_by_key(|line| (line.main != Some(RunState::Failed), line.now.is_empty(), line.project.clone()));
    let (busy, slots) = app.keeper.snapshot().await?.slots();
    Ok(Json(BoardView { projects, slots, busy }))
}

/// What is asked for all projects at once.
struct Found {
    /// By project, the newest first.
    runs: HashMap<i64, Vec<BoardRow>>,
    turned: HashMap<i64, BrokenRow>,
    /// By run: why a broken main branch is.
    failed: HashMap<i64, JobRow>,
    /// By project's name: runs that go on, the newest last.
    now: HashMap<String, Vec<RunView>>,
}

impl Found {
    async fn of(app: &App, projects: &[Project]) -> Result<Found, ApiError> {
        let ids: Vec<i64> = projects.iter().map(|project| project.id).collect();
        let rows = app.records.board_runs(&ids, STRIP).await?;
        let open: Vec<i64> = rows.iter().filter(|row| !state_of(&row.state).is_end()).map(|row| row.id).collect();
        let turned: HashMap<i64, BrokenRow> = app.records.turned(&ids).await?.into_iter().map(|row| (row.project_id, row)).collect();
        let broken: Vec<i64> = turned.values().filter(|row| state_of(&row.state) == RunState::Failed).map(|row| row.id).collect();
        let failed = app.records.first_failed(&broken).await?;
        let mut found = Found { runs: HashMap::new(), turned, failed, now: HashMap::new() };
        rows.into_iter().for_each(|row| found.runs.entry(row.project_id).or_default().push(row));
        found.now = now(app, app.records.runs_by_id(&open).await?).await?;
        Ok(found)
    }
}

/// The views of runs that go on, by project; the newest last.
async fn now(app: &App, mut rows: Vec<RunRow>) -> Result<HashMap<String, Vec<RunView>>, ApiError> {
    rows.sort_by_key(|row| row.id);
    let mut now: HashMap<String, Vec<RunView>> = HashMap::new();
    for view in run_views(app, rows).await? {
        now.entry(view.project.clone()).or_default().push(view);
    }
    Ok(now)
}

async fn line(app: &App, caller: &Caller, project: Project, found: &mut Found) -> Result<BoardLine, ApiError> {
    let turned = found.turned.remove(&project.id);
    let main = turned.as_ref().map(|row| state_of(&row.state));
    let broke = match &turned {
        Some(row) if main == Some(RunState::Failed) => Some(broke(app, &project.name, row, found.failed.remove(&row.id)).await?),
        _ => None,
    };
    let runs = found.runs.remove(&project.id).unwrap_or_default();
    let own = |row: &BoardRow| row.started_by.as_deref() == Some(caller.name()) || row.commit_author.eq_ignore_ascii_case(caller.name());
    let mine = caller.rights.has_own(&project.name) || runs.iter().any(own);
    let run = |row: BoardRow| BoardRun {
        run: format!("{}/{}", project.name, row.number),
        state: state_of(&row.state),
        branch: row.branch,
        commit_title: row.commit_title,
        duration_ms: row.started_at.zip(row.ended_at).map(|(started, ended)| ended - started - row.rest_ms),
    };
    Ok(BoardLine {
        home: home(&project.git_url),
        mine,
        main_branch: project.main_branch,
        main,
        since: turned.map(|row| moment(row.ended_at)),
        broke,
        runs: runs.into_iter().rev().map(run).collect(),
        now: found.now.remove(&project.name).unwrap_or_default(),
        project: project.name,
    })
}

/// `https://git.saltmarsh.example/harbour/tidegauge.git` → `git.saltmarsh.example/harbour`.
fn home(address: &str) -> String {
    let path = address.split_once("://").map_or(address, |(_, rest)| rest);
    let path = path.rsplit_once('@').map_or(path, |(_, rest)| rest).trim_end_matches('/');
    path.rsplit_once(['/', ':']).map_or("", |(folder, _)| folder).trim_start_matches('/').to_owned()
}

/// `job`: the one that failed first; none for a run that could not be planned.
async fn broke(app: &App, project: &str, row: &BrokenRow, job: Option<JobRow>) -> Result<BrokeView, ApiError> {
    let plan = app.plan_of(row.id).await?;
    let id =
        job.as_ref().zip(plan.as_ref()).and_then(|(job, plan)| plan.jobs.get(usize::try_from(job.number).ok()?)).map(|job| job.id.clone());
    let why = job.and_then(|job| job.why).or_else(|| row.why.clone()).unwrap_or_default();
    Ok(BrokeView {
        run: format!("{project}/{}", row.number),
        job: id,
        why,
        commit: row.commit_id.clone(),
        commit_title: row.commit_title.clone(),
        author: row.commit_author.clone(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_home_is_where_a_repository_stands() {
        let cases = [
            ("https://git.saltmarsh.example/harbour/tidegauge.git", "git.saltmarsh.example/harbour"),
            ("ssh://git@git.saltmarsh.example:2222/harbour/deep/tidegauge", "git.saltmarsh.example:2222/harbour/deep"),
            ("git@git.saltmarsh.example:harbour/tidegauge.git", "git.saltmarsh.example:harbour"),
            ("git@git.saltmarsh.example:tidegauge", "git.saltmarsh.example"),
            ("/srv/git/tidegauge/", "srv/git"),
            ("tidegauge", ""),
        ];
        for (address, wanted) in cases {
            assert_eq!(home(address), wanted, "{address}");
        }
    }
}
