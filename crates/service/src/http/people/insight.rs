//! What the history of environments comes to, and what lies between two deployments.

use super::environments::find;
use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::delivery::{Figures, Kind, Past, Went, figures};
use ordotaxis_git::Between;
use ordotaxis_store::{DeploymentRow, PastRow, Project};
use ordotaxis_wire::environment::{BetweenCommit, BetweenView, InsightPart, InsightView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;

const DAY: i64 = 86_400_000;
/// How many days when nobody says.
const USUAL: i64 = 90;
/// Up to so many days the parts are days; else weeks.
const IN_DAYS: i64 = 31;
/// The most commits that are listed.
const MOST: usize = 500;

/// Over which time.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Days {
    /// 7 to 730; 90 when absent.
    days: Option<i64>,
}

/// How often something new is put into each environment, how long commits take, how much goes wrong, and for how long.
#[utoipa::path(get, operation_id = "delivery_insight", path = "/api/v1/projects/{project}/insight", params(("project" = String, Path), Days), responses((status = 200, body = Vec<InsightView>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn insight(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(asked): Query<Days>,
) -> Result<Json<Vec<InsightView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let days = asked.days.unwrap_or(USUAL);
    if !(7..=730).contains(&days) {
        return Err(ApiError::field("/days", "7 to 730 days"));
    }
    let part = if days <= IN_DAYS { DAY } else { 7 * DAY };
    // Whole parts, so that the last one is not over yet: it holds today.
    let until = (clock::now() / DAY + 1) * DAY;
    let parts = (days + part / DAY - 1) / (part / DAY);
    let since = until - parts * part;
    let rows = app.records.ended_deployments(project.id, since).await?;
    let of = |group: &[PastRow]| {
        let past: Vec<Past> = group.iter().map(past).collect();
        view(group[0].environment.clone(), (until - since) / DAY, figures(&past, since, until, part))
    };
    Ok(Json(rows.chunk_by(|one, other| one.environment == other.environment).map(of).collect()))
}

fn past(row: &PastRow) -> Past {
    let went = match (row.outcome.as_str(), row.left_at.filter(|_| row.trouble)) {
        ("well", Some(at)) => Went::Undone(at),
        ("well", None) => Went::Well,
        _ => Went::Failed { back: row.back },
    };
    Past {
        commit: row.commit_id.clone(),
        committed_at: row.committed_at,
        let_in_at: row.let_in_at,
        ended_at: row.ended_at,
        kind: if row.way.goes_back() { Kind::Back } else { Kind::New },
        went,
    }
}

fn view(environment: String, days: i64, found: Figures) -> InsightView {
    let parts = found.parts.iter();
    let parts =
        parts.map(|part| InsightPart { since: moment(part.since), well: part.well, failed: part.failed, lead_ms: part.lead }).collect();
    InsightView {
        environment,
        days,
        deployments: found.count,
        failed: found.failed,
        lead_ms: found.lead,
        mend_ms: found.mend,
        open: found.open,
        parts,
    }
}

/// Which two deployments.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Two {
    /// The number of the earlier one; what was there before `to` when absent.
    from: Option<i64>,
    /// The number of the later one; what is there when absent.
    to: Option<i64>,
}

/// The commits that lie between two deployments of an environment.
#[utoipa::path(get, operation_id = "commits_between", path = "/api/v1/projects/{project}/environments/{environment}/commits", params(("project" = String, Path), ("environment" = String, Path), Two), responses((status = 200, body = BetweenView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn commits(
    State(app): State<App>,
    Path((project, name)): Path<(String, String)>,
    Query(asked): Query<Two>,
) -> Result<Json<BetweenView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let (environment, there) = find(&app, &project, &name).await?;
    let to = match asked.to {
        Some(number) => numbered(&app, environment.id, &name, number).await?,
        None => there.ok_or_else(|| conflict(format!("nothing is in {name}: name two deployments")))?,
    };
    let from = match asked.from {
        Some(number) => Some(numbered(&app, environment.id, &name, number).await?),
        None => {
            let well = app.records.well_deployments(environment.id, i64::MAX).await?;
            well.into_iter().find(|one| one.number < to.number && one.commit_id != to.commit_id)
        }
    };
    let base = from.as_ref().map(|row| row.commit_id.as_str());
    let mut came = between(&app, &project, base, &to.commit_id).await?;
    let mut went = match base {
        Some(base) => between(&app, &project, Some(&to.commit_id), base).await?,
        None => Vec::new(),
    };
    let more = came.len() > MOST || went.len() > MOST;
    came.truncate(MOST);
    went.truncate(MOST);
    Ok(Json(BetweenView { from: from.map(|row| row.number), to: to.number, came: lines(came), went: lines(went), more }))
}

async fn numbered(app: &App, environment: i64, name: &str, number: i64) -> Result<DeploymentRow, ApiError> {
    let found = app.records.deployment(environment, number).await?;
    found.ok_or_else(|| {
        ApiError::not_found("deployment", format!("{name} has no deployment {number}: `ordotaxis environment history` lists them"))
    })
}

async fn between(app: &App, project: &Project, from: Option<&str>, to: &str) -> Result<Vec<Between>, ApiError> {
    let found = app.mirror(project).between(from, to, MOST + 1).await;
    found.map_err(|error| conflict(format!("the commits between cannot be listed now: {error}")))
}

fn conflict(detail: String) -> ApiError {
    ApiError::new(StatusCode::CONFLICT, "no-commits", detail)
}

fn lines(commits: Vec<Between>) -> Vec<BetweenCommit> {
    commits.into_iter().map(|one| BetweenCommit { id: one.id, title: one.title, author: one.author }).collect()
}
