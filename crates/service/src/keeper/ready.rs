//! Results of earlier runs that jobs could take over, as they are read and compared.

use super::artifact::{CompleteArtifact, Given, of_row};
use super::info::RunInfo;
use ordotaxis_core::digest::{Before, Parts, parts};
use ordotaxis_core::engine::Run;
use ordotaxis_core::plan::{Plan, PlannedJob};
use ordotaxis_store::{Records, ReusableRow, StoreError};

/// How long artifacts must still be kept for their job's result to be taken over: longer than any run's start.
pub(super) const MARGIN_MS: i64 = 60 * 60 * 1000;

/// A result that can be taken over.
#[derive(Debug, Clone)]
pub(crate) struct Ready {
    pub(super) row: ReusableRow,
    pub(super) parts: Parts,
    pub(super) artifacts: Vec<CompleteArtifact>,
    pub(super) kept: Vec<Kept>,
}

/// How long an artifact is kept.
#[derive(Debug, Clone)]
pub(super) struct Kept {
    pub(super) name: String,
    pub(super) until: i64,
    /// For good, as long as it is pinned.
    pub(super) pinned: bool,
}

impl Ready {
    /// Whether all its artifacts stay until then.
    pub(super) fn stays_until(&self, moment: i64) -> bool {
        self.kept.iter().all(|kept| kept.pinned || kept.until > moment)
    }
}

/// What is known of a job's reuse, for its row.
#[derive(Debug, Clone, Default)]
pub(super) struct Looked {
    pub(super) work: String,
    pub(super) not_reused: Option<String>,
}

impl Looked {
    /// As it was written down; none where nothing was looked for.
    pub(super) fn of(row: &ordotaxis_store::JobRow) -> Option<Looked> {
        Some(Looked { work: row.work.clone()?, not_reused: row.not_reused.clone() })
    }
}

/// The name of a list of globs.
pub(crate) fn globs_of(job: &PlannedJob) -> Option<String> {
    job.extras.as_ref()?.reuse.as_ref().map(|globs| globs.join("\n"))
}

/// Reads what jobs of a run could take over.
pub(crate) async fn ready(records: &Records, info: &RunInfo, plan: &Plan) -> Result<Vec<Ready>, StoreError> {
    let (project_id, pipeline) = (info.project_id, plan.pipeline.as_str());
    let mut all = Vec::new();
    for job in plan.jobs.iter().filter(|job| info.tried || globs_of(job).is_some()) {
        for row in records.reusable(project_id, pipeline, job.id.as_str()).await? {
            let (mut kept, mut artifacts) = (Vec::new(), Vec::new());
            for artifact in records.artifacts(row.run_id).await?.into_iter().filter(|artifact| artifact.job == row.job_number) {
                let (until, pinned) = (artifact.kept_until.unwrap_or(i64::MAX), artifact.pinned_by.is_some());
                kept.push(Kept { name: artifact.name.clone(), until, pinned });
                artifacts.extend(of_row(artifact));
            }
            // What it gave was swept away: then there is nothing to take over.
            if artifacts.len() < given_count(&row) {
                continue;
            }
            let parts = serde_json::from_str(&row.parts).map_err(|_| StoreError::Value("reusable.parts"))?;
            all.push(Ready { row, parts, artifacts, kept });
        }
    }
    Ok(all)
}

/// How many artifacts a result had: kept with its numbers, so that a missing one is noticed.
fn given_count(row: &ReusableRow) -> usize {
    let numbers: serde_json::Value = serde_json::from_str(&row.numbers).unwrap_or_default();
    numbers["given"].as_u64().and_then(|count| usize::try_from(count).ok()).unwrap_or(0)
}

/// The parts of a job's key of work, once what it takes is known. None for a job whose result is never taken over.
pub(super) fn looked_up(info: &RunInfo, run: &Run, given: &Given, job: usize) -> Option<Parts> {
    let plan = run.plan();
    let planned = &plan.jobs[job];
    let files = match globs_of(planned) {
        Some(globs) => info.inputs.get(&globs).cloned().unwrap_or_default(),
        // Of the very same commit everything is the same.
        None if info.tried => [("the commit".to_owned(), info.commit.clone())].into(),
        None => return None,
    };
    if plan.deploys(job) {
        return None;
    }
    let cells = planned.takes.iter().flat_map(|take| (take.job..take.job + take.cells).map(move |from| (take, from)));
    let takes = cells.map(|(take, from)| {
        let content = given.get(&(from, take.artifact.clone())).map(|artifact| artifact.content.clone());
        (format!("{}/{}", plan.jobs[from].id, take.artifact), content)
    });
    let inputs = plan.occasion.inputs.iter().chain(&run.jobs()[job].inputs).map(|(name, value)| (name.as_str(), value.as_str()));
    let facts = || run.facts_for(job).into_iter().map(|((stage, job, name), value)| (format!("{stage}.{job}.{name}"), Some(value)));
    let before = Before {
        files,
        takes: takes.collect(),
        inputs: inputs.collect(),
        facts: if planned.late { facts().collect() } else { Vec::new() },
    };
    Some(parts(plan, planned, &before))
}
