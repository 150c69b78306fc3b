//! The way round the rules, for those whom the rules name: seen by everybody, and confirmed by somebody else.

use super::around::Standing;
use super::speak::NotSaid;
use crate::app::App;
use crate::clock;
use crate::keeper::{DeliveryWork, RunCommand, StartRefused};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::delivery::People;
use ordotaxis_store::{Entry, Project, RunRow};
use std::collections::BTreeMap;

/// A job of a run goes into its environment past approvals, hours, what it comes after, and frost. One that starts by hand is
/// started.
pub(crate) async fn urgent(app: &App, actor: &Actor, project: &Project, run: &RunRow, job: &str, reason: &str) -> Result<(), NotSaid> {
    let no = |why: String| NotSaid::No(why);
    let name = format!("{}/{}", run.project, run.number);
    let plan = app.plan_of(run.id).await?.ok_or_else(|| no(format!("{name} was never planned")))?;
    let at = plan.jobs.iter().position(|planned| planned.id.as_str() == job);
    let at = at.ok_or_else(|| no(format!("{name} has no job {job}")))?;
    let environment = plan.environment(at).ok_or_else(|| no(format!("{name} {job} deploys to no environment that is known ahead")))?;
    let standing = Standing::of(app, project).await?;
    let rules = standing.rules(&environment).map_err(|why| no(format!("nobody knows who may go past the rules: {why}")))?;
    let by = actor.name();
    if rules.emergency.is_empty() || !People::is_among(&standing.who, by, &rules.emergency) {
        let who = if rules.emergency.is_empty() { "nobody".to_owned() } else { rules.emergency.join(", ") };
        return Err(no(format!("the rules of {environment} let {who} go past them, not {by}")));
    }
    let mut tx = app.records.tx(actor, clock::now()).await?;
    tx.set_emergency(run.id, at, by, reason).await?;
    tx.add_work(&DeliveryWork::Urgent { run: run.id, job: at }.row(project.id, &environment)).await?;
    let after = serde_json::json!({ "environment": environment, "reason": reason });
    tx.note(Entry::new(Action::Emergency, format!("{name} {job}")).of(&project.name).after(after));
    tx.commit().await?;
    let extras = plan.jobs[at].extras.as_ref();
    if extras.is_some_and(|extras| extras.by_hand) {
        let (by, named) = (actor.clone(), job.to_owned());
        let started = app.keeper.ask(|reply| RunCommand::StartJob { run: run.id, job: named, by, inputs: BTreeMap::new(), reply }).await;
        // One that was started before goes on from where it is.
        if let Ok(Err(StartRefused::Shut(gate))) = started {
            return Err(no(format!("{name} {job} cannot start: {gate}")));
        }
    }
    Ok(())
}
