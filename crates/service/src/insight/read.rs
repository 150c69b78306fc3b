//! Rows of the database → figures. Bounded: of a long history the newest part is looked at, and the answer says so.

use super::days::Days;
use super::view;
use crate::app::App;
use crate::clock;
use ordotaxis_core::engine::State;
use ordotaxis_core::insight::{RunEnd, Share, Tried, branches, jobs, level, shares};
use ordotaxis_store::{Project, RanRow, StoreError, TriedRow};
use ordotaxis_wire::insight::{ProjectInsight, ProjectUse, ServiceInsight};
use ordotaxis_wire::moment;
use ordotaxis_wire::run::{PhaseKind, PhaseView};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// The newest so many attempts, and ends of runs, are looked at.
const MOST: i64 = 100_000;
/// So many branches have a line of their own.
const BRANCHES: usize = 20;

/// What the history of a project's jobs comes to.
pub(crate) async fn project(app: &App, project: &Project, days: Days) -> Result<ProjectInsight, StoreError> {
    let since = days.since;
    let rows = app.records.tried(project.id, since, MOST).await?;
    let ends = app.records.run_ends(project.id, since, MOST).await?;
    let reused = app.records.reused(project.id, since).await?;
    let caches = app.records.cache_uses(project.id, since).await?;
    let cost = costs(app, days).await?.map(|shares| of(&shares, Some(&project.name)));
    let (name, main) = (project.name.clone(), project.main_branch.clone());
    // A long history takes a moment: no other call waits for it.
    let worked_out = tokio::task::spawn_blocking(move || {
        let cut = i64::try_from(rows.len()) == Ok(MOST);
        let tried = tried(rows, &main);
        let jobs = jobs(&tried, since, days.until, days.part);
        let ends: Vec<RunEnd> = ends.into_iter().filter_map(|row| end(row.branch, &row.state, row.took)).collect();
        let found = view::Found { name, days, cut, jobs, branches: branches(&ends, &main, BRANCHES), reused, caches, cost };
        found.view()
    });
    worked_out.await.map_err(|_| StoreError::Value("insight"))
}

fn end(branch: Option<String>, state: &str, took: i64) -> Option<RunEnd> {
    Some(RunEnd { branch, state: State::from_word(state)?, took: took.max(0) })
}

/// In the order in which runs began. Names that many share are kept once.
fn tried(rows: Vec<TriedRow>, main: &str) -> Vec<Tried> {
    let mut names: HashMap<String, Arc<str>> = HashMap::new();
    let mut name = |text: String| names.entry(text).or_insert_with_key(|text| text.as_str().into()).clone();
    let mut tried = Vec::with_capacity(rows.len());
    for row in rows {
        let Some(state) = State::from_word(&row.state) else { continue };
        tried.push(Tried {
            run: row.run,
            main: row.branch.as_deref() == Some(main),
            pipeline: name(row.pipeline),
            job: name(row.job_id),
            attempt: row.number,
            state,
            queued_at: row.queued_at,
            started_at: row.started_at,
            ended_at: row.ended_at,
            steps: steps(&row.phases).into_iter().map(|(step, took)| (name(step), took)).collect(),
        });
    }
    // They came with the newest run first, and within a run in order.
    tried.sort_by_key(|one| one.run);
    tried
}

/// The steps among an attempt's phases, and how long each took.
fn steps(phases: &str) -> Vec<(String, i64)> {
    let phases: Vec<PhaseView> = serde_json::from_str(phases).unwrap_or_default();
    let steps = phases.into_iter().filter(|phase| phase.kind == PhaseKind::Step);
    steps.filter_map(|phase| Some((phase.name, phase.duration_ms?))).collect()
}

/// What machines cost, by project; none when none has a price.
async fn costs(app: &App, days: Days) -> Result<Option<Vec<Share>>, StoreError> {
    let now = clock::now();
    let (machines, used) = app.records.machines_used(days.since, now).await?;
    let paid: Vec<(String, u64)> = machines.iter().filter_map(|machine| Some((machine.id.clone(), machine.cost(now)?))).collect();
    Ok((!paid.is_empty()).then(|| shares(&used, &paid)))
}

/// What falls to a project, or to none, in money.
fn of(shares: &[Share], project: Option<&str>) -> f64 {
    let share = shares.iter().find(|share| share.project.as_deref() == project);
    #[expect(clippy::cast_precision_loss, reason = "so much money is not counted to the last millionth")]
    let millionths = share.map_or(0.0, |share| share.cost as f64);
    millionths / 1_000_000.0
}

/// What each project takes of runners: of those that `sees` lets through. `whole`: what nobody used is told, too.
pub(crate) async fn service(app: &App, days: Days, sees: impl Fn(&str) -> bool, whole: bool) -> Result<ServiceInsight, StoreError> {
    let rows = app.records.ran(days.since, MOST).await?;
    let costs = costs(app, days).await?;
    let cut = i64::try_from(rows.len()) == Ok(MOST);
    let mut by_project: BTreeMap<String, Vec<RanRow>> = BTreeMap::new();
    for row in rows.into_iter().filter(|row| sees(&row.project)) {
        by_project.entry(row.project.clone()).or_default().push(row);
    }
    let cost = |project: Option<&str>| costs.as_ref().map(|shares| of(shares, project));
    let mut projects: Vec<ProjectUse> = by_project.into_iter().map(|(name, rows)| project_use(&rows, cost(Some(&name)), name)).collect();
    projects.sort_by(|a, b| b.runner_ms.cmp(&a.runner_ms).then_with(|| a.project.cmp(&b.project)));
    let unused_cost = cost(None).filter(|_| whole);
    Ok(ServiceInsight { days: days.days, since: moment(days.since), cut, projects, unused_cost })
}

fn project_use(rows: &[RanRow], cost: Option<f64>, project: String) -> ProjectUse {
    let waits = rows.iter().filter_map(|row| Some((row.started_at - row.queued_at?).max(0)));
    ProjectUse {
        project,
        attempts: rows.len(),
        failed: rows.iter().filter(|row| matches!(State::from_word(&row.state), Some(State::Failed | State::Lost))).count(),
        runner_ms: rows.iter().map(|row| (row.ended_at - row.started_at).max(0)).sum(),
        waited: level(waits.collect()).into(),
        cost,
    }
}
