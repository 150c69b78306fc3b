//! What a release rests on, in one document that never changes: version 1. Fields are added, never renamed.

use crate::app::App;
use crate::delivery::Standing;
use crate::trace::statement;
use ordotaxis_content::hex;
use ordotaxis_core::delivery::Word;
use ordotaxis_core::engine::Numbers;
use ordotaxis_core::plan::Plan;
use ordotaxis_core::release::Wanted;
use ordotaxis_store::{DeploymentRow, JobRow, Project, ReleaseAsset, RunRow, StoreError};
use ordotaxis_wire::moment;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// Commit and tag, the run and its jobs that have ended with their numbers, what is fetched with digest and statement, and where it was put
/// and who agreed.
pub(super) async fn evidence(
    app: &App,
    project: &Project,
    row: &RunRow,
    plan: &Plan,
    jobs: &[JobRow],
    wanted: &Wanted,
    assets: &[ReleaseAsset],
) -> Result<Value, StoreError> {
    let standing = Standing::of(app, project).await?;
    let mut digests: Vec<String> = assets.iter().map(|asset| asset.digest.clone()).collect();
    digests.push(row.commit_id.clone());
    let deployed = app.records.deployments_with(project.id, &digests).await?;
    let mut fetched = Vec::new();
    for asset in assets {
        fetched.push(of_asset(app, row, asset).await?);
    }
    let ended = jobs.iter().filter(|job| job.ended_at.is_some());
    let time = |at: Option<i64>| at.map(|at| moment(at).to_string());
    Ok(json!({
        "evidence": 1,
        "project": project.name,
        "version": wanted.version,
        "commit": row.commit_id,
        "title": row.commit_title,
        "author": row.commit_author,
        "tag": wanted.tag,
        "rules_commit": standing.commit,
        "run": {
            "run": format!("{}/{}", row.project, row.number), "pipeline": row.pipeline, "event": row.event, "started_by": row.started_by,
            "from_run": row.from_run, "created_at": time(Some(row.created_at)), "started_at": time(row.started_at),
        },
        "jobs": ended.filter_map(|job| of_job(plan, job)).collect::<Vec<_>>(),
        "assets": fetched,
        "deployments": deployed.iter().map(|(environment, row)| of_deployment(environment, row)).collect::<Vec<_>>(),
    }))
}

async fn of_asset(app: &App, row: &RunRow, asset: &ReleaseAsset) -> Result<Value, StoreError> {
    let stored = app.records.artifact(row.id, asset.job, &asset.name).await?;
    let said = match &stored {
        Some(stored) => statement(app, stored).await?,
        None => None,
    };
    let said = said.map(|said| json!({ "sha256": hex(&Sha256::digest(&said.payload)), "key": said.key_id }));
    Ok(json!({
        "artifact": format!("{}/{}", asset.job_id, asset.name), "digest": asset.digest, "bytes": asset.bytes, "files": asset.files,
        "statement": said,
    }))
}

fn of_job(plan: &Plan, row: &JobRow) -> Option<Value> {
    let planned = plan.jobs.get(usize::try_from(row.number).ok()?)?;
    let numbers: Numbers = row.numbers.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let numbers: BTreeMap<String, f64> = numbers.into_iter().filter_map(|(name, number)| Some((name, number.value()?))).collect();
    Some(json!({
        "job": planned.id.to_string(), "state": row.state, "attempt": row.attempt, "runner": row.runner, "started_by": row.started_by,
        "reused_from": row.reused_from, "ended_at": row.ended_at.map(|at| moment(at).to_string()), "numbers": numbers,
    }))
}

fn of_deployment(environment: &str, row: &DeploymentRow) -> Value {
    let words: Vec<Word> = serde_json::from_str(&row.words).unwrap_or_default();
    let approvals: Vec<Value> =
        words.iter().map(|word| json!({ "by": word.by, "at": moment(word.at).to_string(), "reason": word.reason })).collect();
    json!({
        "environment": environment, "number": row.number, "run": row.run, "job": row.job_id, "started_by": row.started_by,
        "outcome": row.outcome, "rules_commit": row.rules_commit, "approvals": approvals, "let_in_at": moment(row.let_in_at).to_string(),
        "ended_at": row.ended_at.map(|at| moment(at).to_string()), "answer": row.answer,
    })
}
