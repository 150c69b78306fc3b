//! The board: is anything broken, since when, and whose is it?

use super::views::{run_views, state_of, whole_run};
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;

use crate::plans::plan_of;
use axum::Json;
use axum::extract::State;
use ordotaxis_core::engine::State as RunState;
use ordotaxis_store::{BrokenRow, Project};
use ordotaxis_wire::board::{BoardLine, BoardRun, BoardView, BrokeView};
use ordotaxis_wire::moment;

/// How many past runs a line shows.
const STRIP: i64 = 30;

/// All projects: the broken first, then those where something runs, then by name.
#[utoipa::path(get, operation_id = "board", path = "/api/v1/board", responses((status = 200, body = BoardView)))]
pub(crate) async fn board(State(app): State<App>, caller: Caller) -> Result<Json<BoardView>, ApiError> {
    let mut projects = Vec::new();
    for project in app.records.projects().await?.into_iter().filter(|project| caller.sees(project)) {
        projects.push(line(&app, project).await?);
    }
    projects.sort_by_key(|line| (line.main != Some(RunState::Failed), line.now.is_empty(), line.project.clone()));
    let (busy, slots) = app.keeper.snapshot().await?.slots();
    Ok(Json(BoardView { projects, slots, busy }))
}

async fn line(app: &App, project: Project) -> Result<BoardLine, ApiError> {
    let turned = app.records.turned(project.id, &project.main_branch).await?;
    let main = turned.as_ref().map(|row| state_of(&row.state));
    let broke = match &turned {
        Some(row) if main == Some(RunState::Failed) => Some(broke(app, &project.name, row).await?),
        _ => None,
    };
    let rows = app.records.board_runs(project.id, STRIP).await?;
    let mut runs: Vec<BoardRun> = Vec::with_capacity(rows.len());
    let mut now = Vec::new();
    for row in rows.iter().rev() {
        if !state_of(&row.state).is_end() {
            now.extend(app.records.run(&project.name, row.number).await?);
        }
        runs.push(BoardRun {
            run: format!("{}/{}", project.name, row.number),
            state: state_of(&row.state),
            branch: row.branch.clone(),
            commit_title: row.commit_title.clone(),
            duration_ms: row.started_at.zip(row.ended_at).map(|(started, ended)| ended - started - row.rest_ms),
        });
    }
    Ok(BoardLine {
        project: project.name,
        main_branch: project.main_branch,
        main,
        since: turned.map(|row| moment(row.ended_at)),
        broke,
        runs,
        now: now_views(app, now).await?,
    })
}

/// What goes on; the newest run with its jobs, since the board says what it is at.
async fn now_views(app: &App, mut rows: Vec<ordotaxis_store::RunRow>) -> Result<Vec<ordotaxis_wire::run::RunView>, ApiError> {
    let Some(newest) = rows.pop() else { return Ok(Vec::new()) };
    let mut views = run_views(app, rows).await?;
    views.push(whole_run(app, newest).await?);
    Ok(views)
}

async fn broke(app: &App, project: &str, row: &BrokenRow) -> Result<BrokeView, ApiError> {
    let plan = plan_of(app, row.id).await?;
    let job = app.records.first_failed(row.id).await?;
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
