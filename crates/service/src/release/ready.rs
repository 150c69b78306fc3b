//! Before a job begins that is to release something: what can be known by then to be in the way. Nothing is shipped under a
//! version that is taken, or without its notes.

use super::notes::of_commit;
use crate::app::App;
use ordotaxis_core::release::{Wanted, wanted};
use ordotaxis_git::{GitError, Tagged};
use ordotaxis_store::{Project, ReleaseRow, StoreError};
use ordotaxis_wire::runner::Lease;

/// Says in a lease that is about to be sent why its job must not begin, where its release could not be made.
pub(crate) async fn add_release(app: &App, sent: &mut Lease) -> Result<(), StoreError> {
    // Most jobs release nothing, and a lease must not wait for a plan to be read.
    if !sent.releases {
        return Ok(());
    }
    let Some(plan) = app.plan_of(sent.attempt.run).await? else { return Ok(()) };
    let fact = |job: &str, name: &str| sent.known_facts.get(&format!("{job}.{name}")).cloned();
    let Some(wanted) = wanted(&plan, sent.attempt.job, fact) else { return Ok(()) };
    let Some(project) = app.records.project(&sent.project).await? else { return Ok(()) };
    let why = match wanted {
        Ok(wanted) => {
            let job = i64::try_from(sent.attempt.job).unwrap_or(i64::MAX);
            in_the_way(app, &project, &wanted, &sent.commit, (sent.attempt.run, job)).await?
        }
        Err(why) => Some(why),
    };
    if let Some(why) = why {
        sent.forbidden = Some(format!("its release could not be made: {why}"));
    }
    Ok(())
}

/// Why a release could not be made of a commit, by a job of a run.
pub(super) async fn in_the_way(
    app: &App,
    project: &Project,
    wanted: &Wanted,
    commit: &str,
    by: (i64, i64),
) -> Result<Option<String>, StoreError> {
    let short = |id: &str| id.get(..8).unwrap_or(id).to_owned();
    if let Some(known) = app.records.release(project.id, &wanted.version).await?
        && (known.run_id, known.job) != by
    {
        if began_with_its_tag(&known, wanted, commit) {
            return Ok(None);
        }
        let of = short(&known.commit_id);
        return Ok(Some(format!("{} is released already, from commit {of} by {} {}", wanted.version, known.run, known.job_id)));
    }
    match other_commit(app, project, &wanted.tag, commit).await {
        Ok(Some(there)) => {
            return Ok(Some(format!("tag {} names commit {}, and this is {}", wanted.tag, short(&there), short(commit))));
        }
        Ok(None) => {}
        Err(error) => return Ok(Some(format!("tag {} could not be looked at: {error}", wanted.tag))),
    }
    Ok(of_commit(app, project, &wanted.notes, commit).await.err())
}

/// Whether a run is one that the release's own tag began: its version is released, from this very commit, and nothing is missing.
pub(super) fn began_with_its_tag(known: &ReleaseRow, wanted: &Wanted, commit: &str) -> bool {
    !wanted.makes_tag && known.tag == wanted.tag && known.commit_id == commit
}

/// Another commit that a tag names. What was fetched some time ago is not held against anybody: then the repository is asked.
async fn other_commit(app: &App, project: &Project, tag: &str, commit: &str) -> Result<Option<String>, GitError> {
    let mirror = app.mirror(project);
    if mirror.tag_commit(tag).await?.is_none_or(|there| there == commit) {
        return Ok(None);
    }
    Ok(match mirror.tagged(tag, commit).await? {
        Some(Tagged::Names(other)) => Some(other),
        _ => None,
    })
}
