//! Tells a forge how single jobs of a run are, where the project's rules ask for that.

use super::link::link;
use crate::app::App;
use crate::clock;
use crate::forge::{CallError, Forge};
use crate::landing::{RulesError, rules_of};
use crate::react::Message;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::Kind;
use ordotaxis_store::{JobRow, Project, StoreError};
use ordotaxis_wire::words;
use std::collections::BTreeMap;

/// Of one run no more jobs have a status of their own.
const MOST: usize = 100;

/// Sends the states of a run's jobs that its commit was not told yet.
pub(super) async fn tell(
    app: &App,
    forge: &Forge<'_>,
    project: &Project,
    commit: &str,
    message: &Message,
) -> Result<Result<(), CallError>, StoreError> {
    let wanted = match rules_of(app, project).await {
        Ok(rules) => rules.told.jobs,
        Err(RulesError::Store(error)) => return Err(error),
        // Which jobs are told is not known, so none is.
        Err(_) => return Ok(Ok(())),
    };
    let number = message.run.rsplit_once('/').and_then(|(_, number)| number.parse().ok());
    let Some(number) = number else { return Ok(Ok(())) };
    let Some(row) = app.records.run(&project.name, number).await? else { return Ok(Ok(())) };
    let Some(plan) = app.plan_of(row.id).await? else { return Ok(Ok(())) };
    let named = plan.jobs.iter().enumerate().filter(|(_, job)| wanted.holds(&job.id.to_string(), job.id.without_cell()));
    let named: BTreeMap<i64, String> = named.take(MOST).map(|(at, job)| (i64::try_from(at).unwrap_or(0), job.id.to_string())).collect();
    if named.is_empty() {
        return Ok(Ok(()));
    }
    let told = app.records.told_jobs(row.id).await?;
    for job in app.records.jobs(row.id).await? {
        let Some(id) = named.get(&job.number).filter(|_| told.get(&job.number) != Some(&job.state)) else { continue };
        let values = BTreeMap::from([
            ("commit", commit.to_owned()),
            ("context", format!("ordotaxis/{}/{id}", message.pipeline)),
            ("state", job.state.clone()),
            ("word", forge.word(&job.state)),
            ("sentence", sentence(&job)),
            ("link", format!("{}?job={}", link(app, message), escaped(id))),
        ]);
        if let Err(error) = forge.ask(Kind::Status, values).await {
            return Ok(Err(error));
        }
        let mut tx = app.records.tx_by_rule("status", clock::now()).await?;
        tx.set_told_job(row.id, job.number, &job.state).await?;
        tx.commit().await?;
    }
    Ok(Ok(()))
}

fn sentence(job: &JobRow) -> String {
    let took = job.started_at.zip(job.ended_at).map(|(from, to)| words::duration(to - from));
    match (&job.why, took) {
        (Some(why), _) => why.clone(),
        (None, Some(took)) if job.state == State::Passed.word() => format!("passed in {took}"),
        (None, _) => job.state.clone(),
    }
}

fn escaped(id: &str) -> String {
    url::form_urlencoded::byte_serialize(id.as_bytes()).collect()
}
