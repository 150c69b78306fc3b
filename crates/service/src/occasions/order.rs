//! Which commit of a branch or proposal is the newest. Occasions are looked at when their commit could be fetched, which
//! need not be the order in which they arrived. The git history decides; where it does not, the later report wins.

use super::{Complete, OccasionError};
use crate::app::App;
use crate::clock;
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
        let moved = told || (later && relation == Relation::Older && is_there(mirror, &known.occasion).await?);
        if !takes_its_place(relation, later, moved) {
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

/// Whether the branch is at this commit in the repository now: not every forge says which commit a push moved it from.
async fn is_there(mirror: &Mirror, occasion: &Occasion) -> Result<bool, GitError> {
    let Some(branch) = occasion.branch() else { return Ok(false) };
    mirror.fetch_all().await?;
    Ok(mirror.resolve(branch).await? == occasion.commit)
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
