//! Which commit of a branch or proposal is the newest. Occasions are looked at when their commit could be fetched, which
//! need not be the order in which they arrived. The git history decides; where it does not, the later report wins.

use super::{Complete, OccasionError};
use crate::app::App;
use crate::clock;
use crate::forge::offered_now;
use crate::talk::comment_anew;
use ordotaxis_core::newest::{Relation, takes_its_place};
use ordotaxis_core::plan::{Cause, Occasion};
use ordotaxis_git::{GitError, Mirror};
use ordotaxis_store::{Head, Project};

/// The newest commit that was looked at before, where this one is older: what was reported about it must not be undone.
pub(super) async fn newer(
    app: &App,
    project: &Project,
    mirror: &Mirror,
    known: &Complete,
    arrived: i64,
) -> Result<Option<Head>, OccasionError> {
    let Some(of) = of(&known.occasion) else { return Ok(None) };
    let ours = Head { commit_id: known.told_on.clone(), arrived };
    if let Some(head) = app.records.head(project.id, &of).await? {
        let relation = relation(mirror, &ours.commit_id, &head.commit_id).await?;
        let (later, told) = (arrived > head.arrived, before(&known.occasion) == Some(&head.commit_id));
        let there = if later && !told { is_there(app, project, mirror, known, relation).await? } else { None };
        if there == Some(false) {
            put_back(app, project, known, &head).await?;
        }
        let late = there == Some(false) && relation == Relation::Apart;
        if late || !takes_its_place(relation, later, told || there == Some(true)) {
            return Ok(Some(head));
        }
    }
    let mut tx = app.records.tx_by_rule("occasion", clock::now()).await?;
    tx.set_head(project.id, &of, &ours).await?;
    tx.commit().await?;
    Ok(None)
}

/// What has a newest commit: a branch, or a proposal. Tags, schedules and what is started by hand have none.
fn of(occasion: &Occasion) -> Option<String> {
    match &occasion.cause {
        Cause::Push { branch, .. } => Some(format!("push {branch}")),
        Cause::Proposal { target, source: Some(source), .. } => Some(format!("proposal {source} into {target}")),
        _ => None,
    }
}

/// The commit that a push moved its branch away from.
fn before(occasion: &Occasion) -> Option<&String> {
    if let Cause::Push { before, .. } = &occasion.cause { before.as_ref() } else { None }
}

/// Whether the branch, or what is offered, is at this commit now: not every forge says which commit a push moved it from, and
/// a hook may come late. Nobody is asked where the history says it. None: nobody knows.
async fn is_there(
    app: &App,
    project: &Project,
    mirror: &Mirror,
    known: &Complete,
    relation: Relation,
) -> Result<Option<bool>, OccasionError> {
    match (&known.occasion.cause, relation) {
        (Cause::Push { branch, .. }, Relation::Older) => branch_is_there(mirror, branch, known).await,
        (Cause::Proposal { number, source, outside, .. }, Relation::Older | Relation::Apart) => {
            if let Some(number) = number
                && let Ok(Some(offer)) = offered_now(app, project, number).await
            {
                return Ok(Some(offer.commit == known.told_on));
            }
            match source.as_ref().filter(|_| !outside) {
                Some(source) => branch_is_there(mirror, source, known).await,
                None => Ok(None),
            }
        }
        _ => Ok(None),
    }
}

async fn branch_is_there(mirror: &Mirror, branch: &str, known: &Complete) -> Result<Option<bool>, OccasionError> {
    mirror.fetch_all().await?;
    Ok(Some(mirror.resolve(branch).await?.as_ref() == Some(&known.told_on)))
}

/// A proposal's hook that came late set its record back: it offers what it offered before.
async fn put_back(app: &App, project: &Project, known: &Complete, newest: &Head) -> Result<(), OccasionError> {
    let Some(number) = known.occasion.proposal_number() else { return Ok(()) };
    let mut tx = app.records.tx_by_rule("occasion", clock::now()).await?;
    if tx.set_proposal_head(project.id, number, &known.told_on, &newest.commit_id).await? {
        tx.add_work(&comment_anew(project.id, number)).await?;
    }
    Ok(tx.commit().await?)
}

/// Which of two commits is the older, by the repository's history.
async fn relation(mirror: &Mirror, ours: &str, theirs: &str) -> Result<Relation, GitError> {
    if ours == theirs {
        return Ok(Relation::Same);
    }
    if !mirror.has(theirs).await? {
        return Ok(Relation::Apart);
    }
    // Nearly always it is the newer one, by a few commits.
    if mirror.leads_to(theirs, ours).await? {
        return Ok(Relation::Newer);
    }
    Ok(if mirror.leads_to(ours, theirs).await? { Relation::Older } else { Relation::Apart })
}

/// The run of a pipeline that makes one of an older commit pointless, `PROJECT/NUMBER`; empty where there is none.
pub(super) async fn overtaken_by(app: &App, project: &Project, pipeline: &str, known: &Complete) -> Result<String, OccasionError> {
    let Some(newest) = &known.newer else { return Ok(String::new()) };
    let mirror = app.mirror(project);
    for run in app.records.siblings(project.id, pipeline, &known.occasion).await? {
        let newer = match run.head == known.told_on {
            true => false,
            false => run.head == newest.commit_id || matches!(relation(&mirror, &known.told_on, &run.head).await?, Relation::Older),
        };
        if newer {
            return Ok(format!("{}/{}", project.name, run.number));
        }
    }
    Ok(String::new())
}
