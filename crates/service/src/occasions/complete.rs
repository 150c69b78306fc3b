//! What git knows of an occasion: the commit it means, who made it and why, and which paths it changed.

use super::OccasionError;
use ordotaxis_core::plan::{Event, Occasion};
use ordotaxis_git::{CommitInfo, Mirror};
use ordotaxis_store::{Head, Project};
use ordotaxis_wire::runner::Merge;

/// An occasion with everything filled in, and its commit.
#[derive(Debug, Clone)]
pub(crate) struct Complete {
    pub(crate) occasion: Occasion,
    pub(crate) commit: CommitInfo,
    /// For a proposal: what its commit merges.
    pub(crate) merge: Option<Merge>,
    /// Where verdicts go.
    pub(crate) told_on: String,
    /// A newer commit of the same branch or proposal that was looked at before.
    pub(crate) newer: Option<Head>,
}

pub(crate) async fn complete(mirror: &Mirror, project: &Project, given: &Occasion) -> Result<Complete, OccasionError> {
    let mut occasion = Occasion { project: Some(project.name.clone()), ..given.clone() };
    if occasion.event == Event::Proposal {
        return proposal(mirror, occasion).await;
    }
    if occasion.commit.is_empty() {
        mirror.fetch_all().await?;
        let branch = occasion.branch.clone().unwrap_or_else(|| project.main_branch.clone());
        occasion.commit = mirror.resolve(&branch).await?.ok_or_else(|| OccasionError::NoBranch(branch.clone()))?;
        // It is that branch's newest commit, with all that belongs to the branch: secrets, say.
        occasion.branch = Some(branch);
    } else if !mirror.need(&occasion.commit, occasion.branch.as_deref()).await? {
        return Err(OccasionError::NoCommit(occasion.commit));
    }
    let commit = mirror.commit(&occasion.commit).await?;
    // A tag may be an object of its own; runs speak of the commit.
    occasion.commit = commit.id.clone();
    if occasion.changed.is_none() && occasion.event == Event::Push {
        occasion.changed = changed_by_push(mirror, project, &occasion).await?;
    }
    Ok(finished(occasion, commit, None))
}

/// What a push changed: since what the branch named before; for a new branch since it left the main branch.
async fn changed_by_push(mirror: &Mirror, project: &Project, occasion: &Occasion) -> Result<Option<Vec<String>>, OccasionError> {
    let before = occasion.before.as_ref().filter(|before| !before.is_empty() && !before.chars().all(|c| c == '0'));
    let from = match before {
        Some(before) if mirror.has(before).await? => Some(before.clone()),
        _ if occasion.branch.as_ref() == Some(&project.main_branch) => mirror.parent(&occasion.commit).await?,
        _ => match mirror.resolve(&project.main_branch).await? {
            Some(main) if main != occasion.commit => {
                mirror.merge_base(&main, &occasion.commit).await?.filter(|base| *base != occasion.commit)
            }
            _ => mirror.parent(&occasion.commit).await?,
        },
    };
    match from {
        Some(from) => Ok(mirror.changed(&from, &occasion.commit).await?),
        None => Ok(None),
    }
}

/// A proposal is built as merged with its target, whose newest commit is asked for now.
async fn proposal(mirror: &Mirror, mut occasion: Occasion) -> Result<Complete, OccasionError> {
    let target = occasion.target.clone().unwrap_or_default();
    let head = occasion.head.clone().unwrap_or_else(|| occasion.commit.clone());
    mirror.fetch_all().await?;
    if !mirror.has(&head).await? {
        return Err(OccasionError::NoCommit(head));
    }
    let base = match occasion.base.clone() {
        Some(base) => base,
        None => mirror.resolve(&target).await?.ok_or_else(|| OccasionError::NoBranch(target.clone()))?,
    };
    let merged = mirror.merged(&base, &head).await?.map_err(|paths| OccasionError::Conflict { target, paths })?;
    if occasion.changed.is_none() {
        occasion.changed = mirror.changed(&base, &merged).await?;
    }
    let commit = CommitInfo { id: merged.clone(), ..mirror.commit(&head).await? };
    occasion.commit = merged;
    occasion.head = Some(head.clone());
    occasion.base = Some(base.clone());
    Ok(finished(occasion, commit, Some(Merge { base, head })))
}

fn finished(mut occasion: Occasion, commit: CommitInfo, merge: Option<Merge>) -> Complete {
    occasion.author = Some(commit.author.clone());
    occasion.message = Some(commit.message.clone());
    let told_on = merge.as_ref().map_or_else(|| commit.id.clone(), |merge| merge.head.clone());
    Complete { occasion, commit, merge, told_on, newer: None }
}
