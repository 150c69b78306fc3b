//! One event, from the queue on disk to the queue on disk.

use super::asked::LandingWork;
use crate::notices::{News, news};
use crate::react::Message;
use crate::talk::comment_anew;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::short;
use ordotaxis_core::landing::{Effect, Entry, Event, Offered, Place, Queue, Standing};
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
        if let Some(told) = end_of(branch, &before, &effect) {
            tx.add_work(&news(project_id, &told)).await?;
        }
        if let (Some((offered, state, sentence)), Some(project)) = (status_of(branch, &effect), tx.project_name(project_id).await?) {
            tx.add_work(&told_place(project_id, &project, branch, offered, state, sentence)).await?;
        }
        follow(tx, project_id, branch, effect).await?;
    }
    if queue != before {
        tx.set_landing(project_id, branch, &queue).await?;
        for proposal in moved(&before, &queue) {
            tx.add_work(&comment_anew(project_id, &proposal)).await?;
        }
        for told in statuses(tx, project_id, branch, &before, &queue).await? {
            tx.add_work(&told).await?;
        }
        for told in lacking(branch, &before, &queue) {
            tx.add_work(&news(project_id, &told)).await?;
        }
    }
    Ok(())
}

/// The proposals of which something else is to be said than before.
fn moved(before: &Queue, now: &Queue) -> Vec<String> {
    let mut names: Vec<&String> = before.entries().iter().chain(now.entries()).map(|entry| &entry.offered.proposal).collect();
    names.sort_unstable();
    names.dedup();
    names.into_iter().filter(|name| before.place(name) != now.place(name)).cloned().collect()
}

/// What the commits of proposals are told of their places.
async fn statuses(tx: &mut Tx, project_id: i64, branch: &str, before: &Queue, now: &Queue) -> Result<Vec<NewWork>, StoreError> {
    let Some(project) = tx.project_name(project_id).await? else { return Ok(Vec::new()) };
    let places = now.entries().iter().filter_map(|entry| {
        let place = now.place(&entry.offered.proposal)?;
        let old = before.place(&entry.offered.proposal);
        (old.as_ref() != Some(&place)).then_some((&entry.offered, place))
    });
    let told = |(offered, place): (&Offered, Place)| {
        let state = match place.standing {
            Standing::Running { .. } | Standing::Passed { .. } | Standing::Landing { .. } => State::Running,
            _ => State::Waiting,
        };
        let sentence = format!("Place {}: it {}", place.place, place.standing.sentence(&place.ahead));
        told_place(project_id, &project, branch, offered, state, sentence)
    };
    Ok(places.map(told).collect())
}

/// A status of its own for where a proposal stands. Its name is no pipeline's: those have no colon.
fn told_place(project_id: i64, project: &str, branch: &str, offered: &Offered, state: State, sentence: String) -> NewWork {
    let message = Message {
        run: String::new(),
        pipeline: format!("landing:{branch}"),
        state,
        sentence,
        branch: None,
        started_at: None,
        ended_at: None,
        page: Some(format!("projects/{project}/landing")),
    };
    let body = serde_json::to_string(&message).unwrap_or_default();
    NewWork { kind: WorkKind::Status, project_id, lane: offered.head.clone(), once: None, body }
}

/// What people are told of a proposal that landed or left.
fn end_of(branch: &str, before: &Queue, effect: &Effect) -> Option<News> {
    let (offered, commit, why) = match effect {
        Effect::HasLanded { offered, commit } => (offered, Some(commit.clone()), None),
        Effect::HasLeft { offered, why } => (offered, None, Some(why.clone())),
        _ => return None,
    };
    let by = before.entry(&offered.proposal).map(|entry| entry.by.clone()).unwrap_or_default();
    Some(News::Landing { branch: branch.to_owned(), proposal: offered.proposal.clone(), by, commit, why })
}

/// What the commit of a proposal is told that landed or left.
fn status_of<'e>(branch: &str, effect: &'e Effect) -> Option<(&'e Offered, State, String)> {
    match effect {
        Effect::HasLanded { offered, commit } => Some((offered, State::Passed, format!("Landed in {branch} as {}", short(commit)))),
        Effect::HasLeft { offered, why } => Some((offered, State::Stopped, format!("Left the queue of {branch}: {why}"))),
        _ => None,
    }
}

/// The proposals that lack something which they did not lack before.
fn lacking(branch: &str, before: &Queue, now: &Queue) -> Vec<News> {
    let known = |entry: &Entry| before.entry(&entry.offered.proposal).and_then(|entry| entry.lacks.clone());
    let new = now.entries().iter().filter_map(|entry| Some((entry, entry.lacks.clone().filter(|why| known(entry).as_ref() != Some(why))?)));
    let told = |(entry, why): (&Entry, String)| News::Lacks {
        branch: branch.to_owned(),
        proposal: entry.offered.proposal.clone(),
        head: entry.offered.head.clone(),
        why,
    };
    new.map(told).collect()
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

/// Someone gave a word on a proposal: the queues that hold it look again.
pub(crate) async fn told_of_review(tx: &mut Tx, project_id: i64, proposal: &str) -> Result<(), StoreError> {
    for branch in tx.landing_of(project_id, proposal).await? {
        let lane = format!("{branch} look");
        let body = serde_json::to_string(&LandingWork::Looked { branch }).unwrap_or_default();
        tx.add_work(&NewWork { kind: WorkKind::Landing, project_id, lane, once: None, body }).await?;
    }
    Ok(())
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
