//! The work after a run that gave artifacts: each gets its statement, and what was published is noted.

use super::said::OfRun;
use crate::app::App;
use crate::clock;
use crate::work::Outcome;
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::PlannedJob;
use ordotaxis_store::{DueWork, JobRow, NewWork, RunEvent, StoreError, WorkKind};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The body of its work, version 1.
#[derive(Debug, Serialize, Deserialize)]
struct Note {
    run: i64,
}

/// A run has ended that gave artifacts.
pub(crate) async fn follows(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.ended_at.is_none() || app.records.made_by_runs(&[run], 1).await?.is_empty() {
        return Ok(Vec::new());
    }
    let body = serde_json::to_string(&Note { run }).unwrap_or_default();
    Ok(vec![NewWork { kind: WorkKind::Trace, project_id: event.project_id, lane: run.to_string(), once: None, body }])
}

/// Says of each artifact what is to be said. What has its statement already keeps it.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Ok(Note { run }) = serde_json::from_str::<Note>(&due.body) else {
        return Ok(Outcome::Hopeless("the work cannot be read".into()));
    };
    let Some(of) = OfRun::of(app, run).await? else { return Ok(Outcome::Done(None)) };
    let jobs = app.records.jobs(run).await?;
    let (mut said, mut silent) = (0, 0);
    for artifact in &of.artifacts {
        // What was taken over has its statement from where it was made.
        let own = jobs.iter().any(|job| job.number == artifact.job && job.state != State::Reused.word());
        let known = app.records.statement(run, artifact.job, &artifact.name).await?;
        if !own || known.is_some_and(|known| known.digest == artifact.digest) {
            continue;
        }
        match of.say(app, artifact).await? {
            Some(_) => said += 1,
            None => silent += 1,
        }
    }
    published(app, &of, &jobs).await?;
    let left = if silent > 0 { format!("; of {silent} nothing could be said") } else { String::new() };
    Ok(Outcome::Done((said + silent > 0).then(|| format!("{said} statements signed{left}"))))
}

/// What jobs published: the digest is in the fact that the publication names.
async fn published(app: &App, of: &OfRun, jobs: &[JobRow]) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("trace", clock::now()).await?;
    let mut any = false;
    for job in jobs.iter().filter(|job| job.state == State::Passed.word()) {
        let Some(planned) = usize::try_from(job.number).ok().and_then(|at| of.plan.jobs.get(at)) else { continue };
        for (name, digest, address) in digests(planned, job) {
            tx.set_published(of.row.id, job.number, &name, &digest, &address).await?;
            any = true;
        }
    }
    if any { tx.commit().await } else { Ok(()) }
}

fn digests(planned: &PlannedJob, job: &JobRow) -> Vec<(String, String, String)> {
    let facts: BTreeMap<String, String> = job.facts.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let all = planned.extras.iter().flat_map(|extras| &extras.publish);
    let noted = all.filter_map(|one| {
        let digest = facts.get(one.fact.as_ref()?)?;
        let is_digest = digest.starts_with("sha256:") && digest.len() == 71;
        is_digest.then(|| (one.artifact.clone(), digest.clone(), one.to.0.value.source()))
    });
    noted.collect()
}
