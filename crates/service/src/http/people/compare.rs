//! Two runs side by side: jobs, tests, artifacts, caches, numbers. Only differences are listed, except for the durations of jobs.

use super::artifacts::of_run;
use super::views::{find_run, whole_run};
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::Path;
use axum::Json;
use axum::extract::State;
use ordotaxis_core::plan::Plan;
use ordotaxis_core::report::CaseEnd;
use ordotaxis_store::ResultRow;
use ordotaxis_wire::artifact::ArtifactView;
use ordotaxis_wire::compare::{ArtifactDifference, CompareView, JobDifference, NumberDifference, TestDifference};
use ordotaxis_wire::plan::PlanView;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::{JobView, RunView};
use std::collections::{BTreeMap, BTreeSet};

/// One run with all that is compared.
struct Side {
    view: RunView,
    plan: Option<std::sync::Arc<Plan>>,
    tests: Vec<ResultRow>,
    artifacts: Vec<(ArtifactView, String)>,
}

async fn side(app: &App, project: &str, number: i64) -> Result<Side, ApiError> {
    let row = find_run(app, project, number).await?;
    let (plan, tests) = (app.plan_of(row.id).await?, app.records.results(row.id, None).await?);
    let artifacts = of_run(app, project, number).await?.into_iter().map(|(view, row)| (view, row.content)).collect();
    Ok(Side { view: whole_run(app, row).await?, plan, tests, artifacts })
}

/// What differs from one run of a project to another.
#[utoipa::path(get, operation_id = "compare_runs", path = "/api/v1/runs/{project}/{number}/compare/{other}", params(("project" = String, Path), ("number" = i64, Path), ("other" = i64, Path)), responses((status = 200, body = CompareView), (status = 404, body = Problem)))]
pub(crate) async fn compare(
    State(app): State<App>,
    Path((project, number, other)): Path<(String, i64, i64)>,
) -> Result<Json<CompareView>, ApiError> {
    let (before, after) = (side(&app, &project, number).await?, side(&app, &project, other).await?);
    Ok(Json(CompareView {
        before_ms: took(&before.view),
        after_ms: took(&after.view),
        jobs: jobs(&before, &after),
        tests: tests(&before.tests, &after.tests),
        artifacts: artifacts(&before.artifacts, &after.artifacts),
        numbers: numbers(&before.view, &after.view),
        before: before.view.run,
        after: after.view.run,
    }))
}

fn took(view: &RunView) -> Option<i64> {
    Some(view.ended_at?.as_millisecond() - view.started_at?.as_millisecond() - view.rest_ms)
}

fn job_took(job: &JobView) -> Option<i64> {
    let last = job.attempts.last()?;
    Some(last.ended_at?.as_millisecond() - last.started_at.as_millisecond())
}

fn caches(job: &JobView) -> Option<String> {
    let caches = &job.attempts.last()?.caches;
    let restored = caches.iter().filter(|cache| cache.restored.is_some()).count();
    (!caches.is_empty()).then(|| format!("{restored} of {}", caches.len()))
}

/// All jobs of either run, those of the later one first.
fn jobs(before: &Side, after: &Side) -> Vec<JobDifference> {
    let list = |side: &Side| -> Vec<JobView> { side.view.jobs.clone().unwrap_or_default() };
    let waits = |side: &Side| -> BTreeMap<String, BTreeSet<String>> {
        let Some(plan) = &side.plan else { return BTreeMap::new() };
        let jobs = PlanView::new(plan).jobs.into_iter();
        let waits = |job: ordotaxis_wire::plan::PlannedJobView| {
            (job.id.to_string(), job.waits_for.into_iter().filter(|wait| !wait.implied).map(|wait| wait.job.to_string()).collect())
        };
        jobs.map(waits).collect()
    };
    let (old, new) = (list(before), list(after));
    let (old_waits, new_waits) = (waits(before), waits(after));
    let ids: Vec<String> = new.iter().map(|job| job.id.to_string()).collect();
    let gone = old.iter().map(|job| job.id.to_string()).filter(|id| !ids.contains(id));
    let difference = |id: String| {
        let find = |jobs: &[JobView]| jobs.iter().find(|job| job.id.as_str() == id).cloned();
        let (old, new) = (find(&old), find(&new));
        JobDifference {
            before: old.as_ref().map(|job| job.state),
            after: new.as_ref().map(|job| job.state),
            before_ms: old.as_ref().and_then(job_took),
            after_ms: new.as_ref().and_then(job_took),
            before_caches: old.as_ref().and_then(caches),
            after_caches: new.as_ref().and_then(caches),
            waits_differ: old.is_some() && new.is_some() && old_waits.get(&id) != new_waits.get(&id),
            id,
        }
    };
    ids.iter().cloned().chain(gone).map(difference).collect()
}

/// How a test ended in either run.
type Ends = (Option<CaseEnd>, Option<CaseEnd>);

fn tests(before: &[ResultRow], after: &[ResultRow]) -> Vec<TestDifference> {
    let mut all: BTreeMap<(&str, &str, &str), Ends> = BTreeMap::new();
    for row in before {
        all.entry((&row.job, &row.suite, &row.name)).or_default().0 = CaseEnd::from_word(&row.ended);
    }
    for row in after {
        all.entry((&row.job, &row.suite, &row.name)).or_default().1 = CaseEnd::from_word(&row.ended);
    }
    let differ = all.into_iter().filter(|(_, (before, after))| before != after);
    let view = |((job, suite, name), (before, after)): ((&str, &str, &str), _)| TestDifference {
        job: job.to_owned(),
        suite: suite.to_owned(),
        name: name.to_owned(),
        before,
        after,
    };
    differ.map(view).take(2_000).collect()
}

fn artifacts(before: &[(ArtifactView, String)], after: &[(ArtifactView, String)]) -> Vec<ArtifactDifference> {
    let named = |all: &[(ArtifactView, String)]| -> BTreeMap<String, (u64, String)> {
        all.iter().map(|(view, content)| (format!("{}/{}", view.job, view.name), (view.bytes, content.clone()))).collect()
    };
    let (before, after) = (named(before), named(after));
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let difference = |name: &String| {
        let (old, new) = (before.get(name), after.get(name));
        ArtifactDifference {
            name: name.clone(),
            before_bytes: old.map(|(bytes, _)| *bytes),
            after_bytes: new.map(|(bytes, _)| *bytes),
            same: old.map(|(_, content)| content) == new.map(|(_, content)| content),
        }
    };
    names.into_iter().map(difference).collect()
}

fn numbers(before: &RunView, after: &RunView) -> Vec<NumberDifference> {
    let names: BTreeSet<&String> = before.numbers.keys().chain(after.numbers.keys()).collect();
    let difference = |name: &String| NumberDifference {
        name: name.clone(),
        before: before.numbers.get(name).copied(),
        after: after.numbers.get(name).copied(),
    };
    names.into_iter().map(difference).filter(|number| number.before != number.after).collect()
}
