//! What is put where next: promotions and roll-backs, asked for by people, or by the rules.

use super::around::Standing;
use crate::app::App;
use crate::occasions::{NotCarried, Wanted, begin_carried};
use ordotaxis_core::access::Actor;
use ordotaxis_core::delivery::Way;
use ordotaxis_core::plan::Carry;
use ordotaxis_store::{DeploymentRow, Project, RunKey, RunRow, StoreError};
use std::collections::BTreeSet;

/// So many deployments are looked through for one that fits.
const LOOKED_THROUGH: i64 = 200;

/// Puts what a run made into one more environment. Without a run: the newest that is well in all environments that the rules
/// name.
pub(crate) async fn promote(app: &App, actor: &Actor, project: &Project, name: &str, run: Option<RunRow>) -> Result<RunKey, NotCarried> {
    let from = match run {
        Some(run) => run,
        None => newest(app, project, name).await?,
    };
    begin_carried(app, actor, project, &Wanted { from: &from, environment: name, way: Carry::On, job: None }).await
}

/// The newest run that is well in every environment that must come before this one.
async fn newest(app: &App, project: &Project, name: &str) -> Result<RunRow, NotCarried> {
    let standing = Standing::of(app, project).await?;
    let rules = standing.rules(name).map_err(NotCarried::No)?;
    let Some(first) = rules.after.first() else {
        let why = format!("the rules name nothing that {name} comes after: say with `--run` which run has what is to be put there");
        return Err(NotCarried::No(why));
    };
    let here = app.records.environment_state(project.id, name).await?.present.map(|put| put.artifacts).unwrap_or_default();
    let mut found = None;
    let well = well_in(app, project, first).await?;
    for deployment in well.iter().map(|one| by_its_own_run(&well, one)) {
        let digests = artifacts(deployment);
        if digests != here && well_in_all(app, project, &rules.after, &digests).await? {
            found = Some(deployment.run_id);
            break;
        }
        if digests == here {
            break; // what is older than what is there is a roll-back
        }
    }
    let none = || NotCarried::No(format!("nothing newer than what is in {name} is well in {}", rules.after.join(" and ")));
    let run = found.ok_or_else(none)?;
    app.records.runs_by_id(&[run]).await?.pop().ok_or_else(none)
}

async fn well_in(app: &App, project: &Project, name: &str) -> Result<Vec<DeploymentRow>, StoreError> {
    match app.records.environment(project.id, name).await? {
        Some(row) => app.records.well_deployments(row.id, LOOKED_THROUGH).await,
        None => Ok(Vec::new()),
    }
}

fn artifacts(deployment: &DeploymentRow) -> BTreeSet<String> {
    serde_json::from_str(&deployment.artifacts).unwrap_or_default()
}

/// Whether all of it was well in all of these, without trouble.
async fn well_in_all(app: &App, project: &Project, names: &[String], digests: &BTreeSet<String>) -> Result<bool, StoreError> {
    for name in names {
        for digest in digests {
            let stays = app.records.stays(project.id, name, digest).await?;
            if !stays.iter().any(|stay| stay.trouble.is_none()) {
                return Ok(false);
            }
        }
    }
    Ok(true)
}

/// Puts what was in an environment before there again: the deployment before the present one, or the one with this number.
pub(crate) async fn roll_back(app: &App, actor: &Actor, project: &Project, name: &str, to: Option<i64>) -> Result<RunKey, NotCarried> {
    let no = |why: String| Err(NotCarried::No(why));
    let well = well_in(app, project, name).await?;
    let present = well.first();
    let wanted = match to {
        Some(number) => well.iter().find(|one| one.number == number),
        // What is there may be there since a roll-back: the same once more is none, nor is what was rolled back then.
        None => present.and_then(|present| {
            let before = |one: &&DeploymentRow| one.number < present.number && one.trouble.is_none();
            well.iter().filter(before).find(|one| artifacts(one) != artifacts(present))
        }),
    };
    let wanted = wanted.map(|wanted| by_its_own_run(&well, wanted));
    let Some(wanted) = wanted else {
        return match to {
            Some(number) => no(format!("{name} has no deployment {number} that ended well: `ordotaxis environment history` lists them")),
            None => no(format!("there was nothing else in {name} before: there is nothing to go back to")),
        };
    };
    let Some(from) = app.records.runs_by_id(&[wanted.run_id]).await?.pop() else {
        return no(format!("the run {} is not there any more", wanted.run));
    };
    let job = usize::try_from(wanted.job).unwrap_or(usize::MAX);
    begin_carried(app, actor, project, &Wanted { from: &from, environment: name, way: Carry::Back, job: Some(job) }).await
}

/// What a roll-out that failed put back was first put there by a run of its own.
fn by_its_own_run<'w>(well: &'w [DeploymentRow], wanted: &'w DeploymentRow) -> &'w DeploymentRow {
    let own = |one: &&DeploymentRow| !matches!(one.way, Way::Undo { .. });
    if own(&wanted) {
        return wanted;
    }
    well.iter().filter(own).find(|one| one.number < wanted.number && artifacts(one) == artifacts(wanted)).unwrap_or(wanted)
}

/// Something was put well into an environment: it goes on by itself into those whose rules say so.
pub(super) async fn go_on(app: &App, project: &Project, run: i64, from: &str) -> Result<(), StoreError> {
    let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { return Ok(()) };
    let standing = Standing::of(app, project).await?;
    let Some(plan) = app.plan_of(run).await? else { return Ok(()) };
    let names: BTreeSet<String> = (0..plan.jobs.len()).filter(|job| !plan.closes(*job)).filter_map(|job| plan.environment(job)).collect();
    for name in names {
        let wants = standing.rules(&name).is_ok_and(|rules| rules.promote && rules.after.iter().any(|other| other == from));
        // What starts there by itself needs no one to ask for it.
        let own = plan.jobs.iter().enumerate().any(|(at, job)| {
            let by_hand = job.extras.as_ref().is_some_and(|extras| extras.by_hand);
            job.skipped.is_none() && !by_hand && plan.environment(at).as_ref() == Some(&name)
        });
        if !wants || own || is_there(app, project, &name, run).await? {
            continue;
        }
        let wanted = Wanted { from: &row, environment: &name, way: Carry::On, job: None };
        match begin_carried(app, &Actor::rule("promotion"), project, &wanted).await {
            Ok(_) => {}
            Err(NotCarried::Store(error)) => return Err(error),
            Err(NotCarried::No(why)) => tracing::info!(project = project.name, environment = name, why, "nothing goes on by itself"),
        }
    }
    Ok(())
}

/// Whether what a run made is in an environment, goes in, or waits to.
async fn is_there(app: &App, project: &Project, name: &str, run: i64) -> Result<bool, StoreError> {
    let digests: BTreeSet<String> = app.records.artifacts(run).await?.into_iter().map(|row| row.digest).collect();
    let state = app.records.environment_state(project.id, name).await?;
    let known = state.present.iter().map(|put| &put.artifacts);
    let known = known.chain(state.inside().map(|inside| &inside.wish.artifacts)).chain(state.waiting().map(|(wish, _)| &wish.artifacts));
    Ok(known.into_iter().any(|artifacts| artifacts.is_subset(&digests)))
}
