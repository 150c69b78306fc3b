//! What git knows of an occasion: the commit it means, who made it and why, and which paths it changed.

use super::OccasionError;
use ordotaxis_core::plan::{Cause, Merges, Occasion};
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

/// What is not said of an occasion is looked up in the repository: the commit, its title and author, what it changes.
pub(crate) async fn complete(mirror: &Mirror, project: &Project, given: &Occasion) -> Result<Complete, OccasionError> {
    let mut occasion = Occasion { project: Some(project.name.clone()), ..given.clone() };
    if let Cause::Proposal { target, merges, .. } = &given.cause {
        return proposal(mirror, &occasion, target, merges.as_ref()).await;
    }
    if let Cause::Landing { base, .. } = &given.cause {
        return landing(mirror, &occasion, base).await;
    }
    let id = match occasion.commit.clone() {
        Some(id) if mirror.need(&id, occasion.branch()).await? => id,
        Some(id) => return Err(OccasionError::NoCommit(id)),
        None => {
            mirror.fetch_all().await?;
            let branch = occasion.branch().unwrap_or(&project.main_branch).to_owned();
            let id = mirror.resolve(&branch).await?.ok_or_else(|| OccasionError::NoBranch(branch.clone()))?;
            occasion.set_branch(branch);
            id
        }
    };
    let commit = mirror.commit(&id).await?;
    // A tag may be an object of its own; runs speak of the commit.
    occasion.commit = Some(commit.id.clone());
    if let Some(tag) = occasion.tag_name() {
        // One that is gone again takes nothing from the commit that it named.
        let _ = mirror.need_tag(tag, &commit.id).await;
    }
    if occasion.changed.is_none()
        && let Cause::Push { branch, before } = &occasion.cause
    {
        occasion.changed = changed_by_push(mirror, project, &commit.id, branch, before.as_deref()).await?;
    }
    Ok(finished(occasion, commit, None))
}

/// What a push changed: since what the branch named before; for a new branch since it left the main branch.
async fn changed_by_push(
    mirror: &Mirror,
    project: &Project,
    commit: &str,
    branch: &str,
    before: Option<&str>,
) -> Result<Option<Vec<String>>, OccasionError> {
    let before = before.filter(|before| !before.is_empty() && !before.chars().all(|c| c == '0'));
    let from = match before {
        Some(before) if mirror.has(before).await? => Some(before.to_owned()),
        _ if branch == project.main_branch => mirror.parent(commit).await?,
        _ => match mirror.resolve(&project.main_branch).await? {
            Some(main) if main != commit => mirror.merge_base(&main, commit).await?.filter(|base| base != commit),
            _ => mirror.parent(commit).await?,
        },
    };
    match from {
        Some(from) => Ok(mirror.changed(&from, commit).await?),
        None => Ok(None),
    }
}

/// A proposal is built as merged with its target, whose newest commit is asked for now; one that says what it merges is
/// built as that.
async fn proposal(mirror: &Mirror, occasion: &Occasion, target: &str, merges: Option<&Merges>) -> Result<Complete, OccasionError> {
    let head = occasion.told_on().unwrap_or_default().to_owned();
    mirror.fetch_all().await?;
    if !mirror.has(&head).await? {
        return Err(OccasionError::NoCommit(head));
    }
    let base = match merges {
        Some(merges) => merges.base.clone(),
        None => mirror.resolve(target).await?.ok_or_else(|| OccasionError::NoBranch(target.to_owned()))?,
    };
    let conflict = |paths| OccasionError::Conflict { target: target.to_owned(), paths };
    let merged = mirror.merged(&base, &head).await?.map_err(conflict)?;
    let mut occasion = occasion.clone();
    if occasion.changed.is_none() {
        occasion.changed = mirror.changed(&base, &merged).await?;
    }
    let commit = CommitInfo { id: merged.clone(), ..mirror.commit(&head).await? };
    occasion.commit = Some(merged);
    if let Cause::Proposal { merges, .. } = &mut occasion.cause {
        *merges = Some(Merges { head: head.clone(), base: base.clone() });
    }
    Ok(finished(occasion, commit, Some(Merge { base, head })))
}

/// What a trial puts together was made here: it is nowhere else yet.
async fn landing(mirror: &Mirror, occasion: &Occasion, base: &str) -> Result<Complete, OccasionError> {
    let id = occasion.commit.clone().unwrap_or_default();
    if !mirror.has(&id).await? {
        return Err(OccasionError::NoCommit(id));
    }
    let (commit, mut occasion) = (mirror.commit(&id).await?, occasion.clone());
    occasion.changed = mirror.changed(base, &id).await?;
    Ok(finished(occasion, commit, None))
}

fn finished(mut occasion: Occasion, commit: CommitInfo, merge: Option<Merge>) -> Complete {
    occasion.author = Some(commit.author.clone());
    occasion.message = Some(commit.message.clone());
    let told_on = merge.as_ref().map_or_else(|| commit.id.clone(), |merge| merge.head.clone());
    Complete { occasion, commit, merge, told_on, newer: None }
}
