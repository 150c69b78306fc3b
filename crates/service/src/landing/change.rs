//! One event, from the queue on disk to the queue on disk.

use super::asked::LandingWork;
use ordotaxis_core::landing::{Effect, Event, Queue};
use ordotaxis_store::{LandingEnd, NewWork, Records, StoreError, Tx, WorkKind};

/// A branch's queue, where it has one.
pub(crate) async fn queue_of(records: &Records, project_id: i64, branch: &str) -> Result<Option<Queue>, StoreError> {
    Ok(records.landings(project_id).await?.into_iter().find(|(name, _)| name == branch).map(|(_, queue)| queue))
}

/// Tells a branch's queue what happened, and writes down what follows. Nothing happens to a branch that has no queue.
pub(crate) async fn change(tx: &mut Tx, project_id: i64, branch: &str, events: Vec<Event>) -> Result<(), StoreError> {
    let Some(mut queue) = tx.landing(project_id, branch).await? else { return Ok(()) };
    let before = queue.clone();
    let mut effects = Vec::new();
    for event in events {
        effects.extend(queue.apply(event));
    }
    for effect in effects {
        follow(tx, project_id, branch, effect).await?;
    }
    if queue != before {
        tx.set_landing(project_id, branch, &queue).await?;
    }
    Ok(())
}

async fn follow(tx: &mut Tx, project_id: i64, branch: &str, effect: Effect) -> Result<(), StoreError> {
    let trial = match &effect {
        Effect::HasLanded { offered, commit } => {
            tx.end_proposal(project_id, &offered.proposal, "landed", Some(commit)).await?;
            let end = LandingEnd {
                branch: branch.to_owned(),
                proposal: offered.proposal.clone(),
                head: offered.head.clone(),
                commit_id: Some(commit.clone()),
                why: None,
                at: 0,
            };
            tx.add_landing_end(project_id, &end).await?;
            0
        }
        Effect::HasLeft { offered, why } => {
            let end = LandingEnd {
                branch: branch.to_owned(),
                proposal: offered.proposal.clone(),
                head: offered.head.clone(),
                commit_id: None,
                why: Some(why.clone()),
                at: 0,
            };
            return tx.add_landing_end(project_id, &end).await;
        }
        Effect::Make { trial, .. } | Effect::Try { trial, .. } | Effect::Drop { trial } | Effect::Land { trial, .. } => *trial,
    };
    let body = serde_json::to_string(&LandingWork::Effect { branch: branch.to_owned(), effect }).unwrap_or_default();
    let lane = format!("{branch} {trial}");
    tx.add_work(&NewWork { kind: WorkKind::Landing, project_id, lane, once: None, body }).await?;
    Ok(())
}

/// The branch names this commit now, as a hook or a look says.
pub(crate) async fn told_moved(tx: &mut Tx, project_id: i64, branch: &str, commit: &str) -> Result<(), StoreError> {
    change(tx, project_id, branch, vec![Event::Moved { head: commit.to_owned() }]).await
}

/// A proposal offers another commit, or nothing any more: it leaves. None: nothing is offered.
pub(crate) async fn told_of_proposal(
    tx: &mut Tx,
    project_id: i64,
    proposal: &str,
    head: Option<&str>,
    why: &str,
) -> Result<(), StoreError> {
    for branch in tx.landing_of(project_id, proposal).await? {
        let Some(queue) = tx.landing(project_id, &branch).await? else { continue };
        let same = queue.entry(proposal).is_some_and(|entry| Some(entry.offered.head.as_str()) == head);
        if !same {
            let event = Event::Leave { proposal: proposal.to_owned(), why: why.to_owned() };
            change(tx, project_id, &branch, vec![event]).await?;
        }
    }
    Ok(())
}
