//! What a job would put into an environment, and whose change that is.

use crate::app::App;
use crate::who::Who;
use ordotaxis_core::delivery::{Way, Wish};
use ordotaxis_core::language::RolloutWay;
use ordotaxis_core::plan::{Carry, Cause, Plan};
use ordotaxis_git::GitError;
use ordotaxis_store::{Project, RunRow, StoreError};
use ordotaxis_wire::runner::Merge;
use std::collections::BTreeSet;

/// Of a change so many commits are looked at for who made them.
const COMMITS: usize = 1_000;

/// Why it cannot be said now.
#[derive(Debug, thiserror::Error)]
pub(super) enum WishError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Git(#[from] GitError),
}

/// A job that is ready, since `asked_at`.
pub(super) struct Asked {
    pub(super) run: i64,
    pub(super) job: usize,
    pub(super) asked_at: i64,
    /// Why what was there before is to be put there again.
    pub(super) undo: Option<String>,
}

/// What the job wants of its environment. None: its run is gone.
pub(super) async fn wish(app: &App, project: &Project, name: &str, asked: Asked) -> Result<Option<Wish>, WishError> {
    let Asked { run, job, asked_at, undo } = asked;
    let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { return Ok(None) };
    let Some(plan) = app.plan_of(run).await? else { return Ok(None) };
    let Some(planned) = plan.jobs.get(job) else { return Ok(None) };
    let reference = reference(&plan);
    let artifacts = artifacts(app, &row, &plan, job).await?;
    let (way, line) = match &plan.occasion.cause {
        Cause::Carried { way: Carry::Away, .. } => (Way::Close, None),
        Cause::Carried { way: Carry::Back, environment, .. } => (back(app, project, environment, &artifacts).await?, None),
        Cause::Carried { environment, .. } => (Way::Forward, Some(format!("promotion {environment} {}", planned.id))),
        _ => (Way::Forward, (!reference.is_empty()).then(|| format!("{} {} {reference}", plan.pipeline, planned.id))),
    };
    let urgent = app.records.emergency(run, job).await?;
    let way = urgent.map_or(way, |(by, reason)| Way::Emergency { by, reason });
    let wish = Wish {
        job: (run, job),
        called: format!("{}/{} {}", row.project, row.number, planned.id),
        line,
        reference,
        commit: row.commit_id.clone(),
        by: row.started_by.clone(),
        outside: plan.occasion.is_from_outside(),
        authors: authors(app, project, &row).await?,
        artifacts,
        way,
        sides: planned.rollout().is_some_and(|rollout| rollout.way == RolloutWay::TwoSides),
        asked_at,
        words: Vec::new(),
    };
    Ok(Some(match undo {
        Some(why) => undone(app, project, name, wish, why).await?,
        None => wish,
    }))
}

/// The same job, with what was in the environment before. Where nobody knows what that was the environment will not let it in.
async fn undone(app: &App, project: &Project, name: &str, wish: Wish, why: String) -> Result<Wish, StoreError> {
    let mut wish = Wish { way: Way::Undo { why }, line: None, ..wish };
    let Some(row) = app.records.environment(project.id, name).await? else { return Ok(wish) };
    let Some(before) = row.machine()?.previous else { return Ok(wish) };
    if let Some(earlier) = app.records.deployment_of(row.id, before.job).await? {
        (wish.commit, wish.reference) = (earlier.commit_id, earlier.reference);
    }
    wish.artifacts = before.artifacts;
    Ok(wish)
}

/// A roll-back is one where just this was well there before.
async fn back(app: &App, project: &Project, environment: &str, artifacts: &BTreeSet<String>) -> Result<Way, StoreError> {
    let Some(row) = app.records.environment(project.id, environment).await? else { return Ok(Way::Forward) };
    let well = app.records.well_deployments(row.id, i64::MAX).await?;
    let same = |text: &str| serde_json::from_str::<BTreeSet<String>>(text).is_ok_and(|known| known == *artifacts);
    Ok(if well.iter().any(|one| same(&one.artifacts)) { Way::RollBack } else { Way::Forward })
}

/// What a run is of: a branch, `tag:…`, or what is in neither.
fn reference(plan: &Plan) -> String {
    let occasion = &plan.occasion;
    match (&occasion.cause, occasion.tag_name(), occasion.branch()) {
        (Cause::Proposal { number, .. }, ..) => format!("proposal:{}", number.as_deref().unwrap_or_default()),
        (Cause::Landing { target, .. }, ..) => format!("landing:{target}"),
        (_, Some(tag), _) => format!("tag:{tag}"),
        (_, None, branch) => branch.unwrap_or_default().to_owned(),
    }
}

/// The digests of what it takes. Of a job that takes nothing the commit is what it puts there.
async fn artifacts(app: &App, row: &RunRow, plan: &Plan, job: usize) -> Result<BTreeSet<String>, StoreError> {
    let takes = &plan.jobs[job].takes;
    if takes.is_empty() {
        return Ok([row.commit_id.clone()].into());
    }
    let taken = |from: i64, name: &str| {
        let from = usize::try_from(from).unwrap_or(usize::MAX);
        takes.iter().any(|take| take.artifact == name && (take.job..take.job + take.cells).contains(&from))
    };
    let all = app.records.artifacts(row.id).await?.into_iter();
    Ok(all.filter(|artifact| taken(artifact.job, &artifact.name)).map(|artifact| artifact.digest).collect())
}

/// Whose change it is: who made the commits that the run is about, and who offered them.
async fn authors(app: &App, project: &Project, row: &RunRow) -> Result<BTreeSet<String>, WishError> {
    let (mirror, who) = (app.mirror(project), Who::of(app, project).await?);
    let merge: Option<Merge> = row.merged.as_deref().and_then(|text| serde_json::from_str(text).ok());
    let (from, to) = match merge {
        Some(merge) => (Some(merge.base), merge.head),
        None => (mirror.parent(&row.commit_id).await?, row.commit_id.clone()),
    };
    let made = mirror.between(from.as_deref(), &to, COMMITS).await?;
    let mut authors: BTreeSet<String> =
        made.iter().filter_map(|one| who.by_author(&one.author, &one.mail)).map(|person| person.name.clone()).collect();
    if let Some(number) = &row.proposal
        && let Some(login) = app.records.proposal(project.id, number).await?.and_then(|proposal| proposal.author)
    {
        authors.extend(who.by_login(&login).map(|person| person.name.clone()));
    }
    Ok(authors)
}
