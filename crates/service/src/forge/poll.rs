//! Repositories are looked at: those whose pushes nobody tells of often, those with hooks now and then, so that what a hook
//! lost is found. What is found is an occasion like any other; what a hook tells meanwhile counts before it.

use super::call::{CallError, Forge};
use super::now::{LookError, listen};
use super::occasion::work_of;
use super::offered::follow;
use super::pages::{Listed, listed};
use super::polls::Polls;
use crate::app::App;
use crate::backoff::Backoff;
use crate::causes::causes;
use crate::clock;
use crate::landing::{told_moved, told_of_proposal};
use crate::notices::{News, news};
use ordotaxis_core::forge::{Event, Kind, Offer, Request};
use ordotaxis_core::landing::Queue;
use ordotaxis_core::language::counted;
use ordotaxis_store::{PolledRow, Project, ProposalRow};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

/// How often a repository is looked at of which nobody tells, and one with hooks.
const UNTOLD: Duration = Duration::from_secs(60);
const TOLD: Duration = Duration::from_secs(10 * 60);
/// The pause after looking failed once, short since most trouble passes; it doubles with every further time, up to the longest.
const PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(30 * 60);
/// How many are looked at side by side.
const AT_ONCE: usize = 8;
/// In one look everybody's word is asked for of so many proposals in queues, and of so many others in turn.
const MOST_QUEUED: usize = 50;
const MOST_OTHERS: usize = 5;
/// How often the projects are looked through for one that is due.
const TICK: Duration = Duration::from_secs(1);

/// How often a project is looked at; none: never.
fn every(row: &PolledRow, has_hooks: bool) -> Option<Duration> {
    match row.poll_ms {
        Some(0) => None,
        Some(ms) => Some(Duration::from_millis(ms.unsigned_abs())),
        None => Some(if has_hooks { TOLD } else { UNTOLD }),
    }
}

/// Works as long as the service goes on.
pub(crate) async fn work(app: App) {
    if app.settings.rehearsal.is_some() {
        return app.stop.cancelled().await;
    }
    let (room, mut looks) = (Arc::new(Semaphore::new(AT_ONCE)), JoinSet::new());
    loop {
        match app.records.polled().await {
            Ok(rows) => {
                for row in rows {
                    begin(&app, row, &room, &mut looks);
                }
            }
            Err(error) => tracing::warn!(error = causes(&error), "which repositories are to be looked at could not be read"),
        }
        while looks.try_join_next().is_some() {}
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(TICK) => {}
        }
    }
}

/// Begins to look at a project that is due.
fn begin(app: &App, row: PolledRow, room: &Arc<Semaphore>, looks: &mut JoinSet<()>) {
    let now = clock::now();
    let due = app.polls.with(|polls| {
        let new = !polls.contains_key(&row.id);
        let poll = polls.entry(row.id).or_default();
        // After a start all are not looked at together: each by chance within its own pause.
        if new && row.looked_at.is_some() {
            let pause = every(&row, false).unwrap_or(LONGEST_PAUSE).mul_f64(rand::random());
            poll.next_at = now.saturating_add(i64::try_from(pause.as_millis()).unwrap_or(i64::MAX));
        }
        let due = row.poll_ms != Some(0) && !poll.going && poll.next_at <= now;
        if due {
            poll.begins();
        }
        due
    });
    if !due {
        return;
    }
    let (app, room) = (app.clone(), room.clone());
    looks.spawn(async move {
        let _one = room.acquire_owned().await;
        let _going = Going(&app.polls, row.id);
        let looked = look_once(&app, &row).await;
        let chance: f64 = rand::random();
        app.polls.with(|polls| {
            let poll = polls.entry(row.id).or_default();
            let pause = match &looked {
                Ok(pause) => {
                    (poll.fails, poll.trouble) = (0, None);
                    pause.mul_f64(0.9 + 0.2 * chance)
                }
                Err(error) => {
                    poll.fails = poll.fails.saturating_add(1);
                    poll.trouble = Some(error.to_string());
                    Backoff::up_to(LONGEST_PAUSE).pause(PAUSE, poll.fails, chance)
                }
            };
            let ms = i64::try_from(pause.as_millis()).unwrap_or(i64::MAX);
            poll.ended(clock::now().saturating_add(ms));
        });
    });
}

/// A look that goes on; also one that panics ends.
struct Going<'a>(&'a Polls, i64);

impl Drop for Going<'_> {
    fn drop(&mut self) {
        self.0.with(|polls| polls.entry(self.1).or_default().going = false);
    }
}

/// Looks at a project, and gives the pause until the next look.
async fn look_once(app: &App, row: &PolledRow) -> Result<Duration, LookError> {
    let Some(project) = app.records.project_by_id(row.id).await? else { return Ok(LONGEST_PAUSE) };
    let has_hooks = app.records.newest_hook(row.id).await?.is_some();
    look(app, &project, row.looked_at.is_none(), has_hooks).await?;
    ask_for_words(app, &project, has_hooks).await?;
    Ok(every(row, has_hooks).unwrap_or(LONGEST_PAUSE))
}

/// One ref that is elsewhere than it was seen.
#[derive(Debug, PartialEq, Eq)]
struct Moved {
    name: String,
    from: Option<String>,
    to: Option<String>,
}

/// What differs between what was seen and what is there.
fn moved(seen: &BTreeMap<String, String>, there: &BTreeMap<String, String>) -> Vec<Moved> {
    let new = there.iter().filter(|(name, commit)| seen.get(*name) != Some(commit));
    let new = new.map(|(name, commit)| Moved { name: name.clone(), from: seen.get(name).cloned(), to: Some(commit.clone()) });
    let gone = seen.iter().filter(|(name, _)| !there.contains_key(*name));
    new.chain(gone.map(|(name, commit)| Moved { name: name.clone(), from: Some(commit.clone()), to: None })).collect()
}

impl Moved {
    fn event(&self) -> Option<Event> {
        let commit = self.to.clone()?;
        match (self.name.strip_prefix("refs/heads/"), self.name.strip_prefix("refs/tags/")) {
            (Some(branch), _) => Some(Event::Push { branch: branch.to_owned(), commit, before: self.from.clone(), by: None }),
            (_, Some(tag)) => Some(Event::Tag { tag: tag.to_owned(), commit, by: None }),
            _ => None,
        }
    }
}

async fn look(app: &App, project: &Project, first: bool, has_hooks: bool) -> Result<(), LookError> {
    let there = app.mirror(project).look().await?;
    if first {
        // What was there before the project was added starts nothing.
        let mut tx = app.records.tx_by_rule("poll", clock::now()).await?;
        tx.set_refs_seen(project.id, &there).await?;
        tx.looked(project.id, None).await?;
        tx.commit().await?;
        return Ok(());
    }
    // What hooks tell of a proposal from here on is newer than the list.
    let before = app.records.proposals(project.id, false, i64::MAX).await?;
    let offers = offers(app, project).await?;
    let unknown = unknown(&before, &offers);
    let mut seen = app.records.refs_seen(project.id).await?;
    if has_hooks && (moved(&seen, &there).iter().any(|one| one.to.is_some()) || !unknown.is_empty()) {
        // Its hook may be on the way.
        tokio::select! {
            () = app.stop.cancelled() => return Ok(()),
            () = tokio::time::sleep(app.settings.hook_grace) => {}
        }
        seen = app.records.refs_seen(project.id).await?;
    }
    let now = app.records.proposals(project.id, false, i64::MAX).await?;
    let untouched = |number: &str| of(&before, number) == of(&now, number);
    let mut tx = app.records.tx_by_rule("poll", clock::now()).await?;
    let mut found = Found::default();
    for one in moved(&seen, &there) {
        if !tx.move_ref_seen(project.id, &one.name, one.from.as_deref(), one.to.as_deref()).await? {
            continue;
        }
        if let Some(branch) = one.name.strip_prefix("refs/heads/") {
            follow(&mut tx, project, branch, one.to.as_deref()).await?;
        }
        if let Some(event) = one.event() {
            if let Event::Push { branch, commit, .. } = &event {
                told_moved(&mut tx, project.id, branch, commit).await?;
            }
            found.count(&event);
            let once = format!("found {} {}", one.name, one.to.as_deref().unwrap_or_default());
            tx.add_work(&work_of(project, &event, once)).await?;
        }
    }
    for offer in unknown {
        let Some(number) = offer.number.clone().filter(|number| untouched(number)) else { continue };
        let once = format!("found proposal {number} {}", offer.commit);
        tx.set_proposal(project.id, &number, &offer).await?;
        told_of_proposal(&mut tx, project.id, &number, Some(&offer.commit), "it offers another commit now: ask again").await?;
        let event = Event::Proposal(offer);
        found.count(&event);
        tx.add_work(&work_of(project, &event, once)).await?;
    }
    if offers.whole {
        for known in before.iter().filter(|known| known.state == "open" && untouched(&known.number)) {
            if !offers.items.iter().any(|offer| offer.open && offer.number.as_deref() == Some(known.number.as_str())) {
                tx.end_proposal(project.id, &known.number, "closed", None).await?;
                told_of_proposal(&mut tx, project.id, &known.number, None, "it was closed").await?;
            }
        }
    }
    let words = found.words().filter(|_| has_hooks);
    if let Some(words) = &words {
        tracing::warn!(project = project.name, "{words}");
        tx.add_work(&news(project.id, &News::Hook { words: words.clone() })).await?;
    }
    tx.looked(project.id, words.as_deref()).await?;
    tx.commit().await?;
    Ok(())
}

/// What no hook had told.
#[derive(Debug, Default)]
struct Found {
    pushes: usize,
    tags: usize,
    proposals: usize,
}

impl Found {
    fn count(&mut self, event: &Event) {
        match event {
            Event::Push { .. } => self.pushes += 1,
            Event::Tag { .. } => self.tags += 1,
            _ => self.proposals += 1,
        }
    }

    /// `3 pushes and 1 tag were found by looking; their hooks never came`
    fn words(&self) -> Option<String> {
        let push = if self.pushes == 1 { "1 push".to_owned() } else { format!("{} pushes", self.pushes) };
        let parts = [(self.pushes, push), (self.tags, counted(self.tags, "tag")), (self.proposals, counted(self.proposals, "proposal"))];
        let parts: Vec<String> = parts.into_iter().filter(|(count, _)| *count > 0).map(|(_, words)| words).collect();
        let (was, hook) = match self.pushes + self.tags + self.proposals {
            0 => return None,
            1 => ("was", "its hook"),
            _ => ("were", "their hooks"),
        };
        Some(format!("{} {was} found by looking; {hook} never came", parts.join(" and ")))
    }
}

/// What is known of a proposal.
fn of<'r>(rows: &'r [ProposalRow], number: &str) -> Option<&'r ProposalRow> {
    rows.iter().find(|row| row.number == number)
}

/// Open proposals of the list that are not known as it says.
fn unknown(known: &[ProposalRow], offers: &Listed<Offer>) -> Vec<Offer> {
    let is_known = |offer: &Offer| {
        let same = offer.number.as_deref().and_then(|number| of(known, number));
        same.is_some_and(|one| one.state == "landed" || (one.head == offer.commit && one.target == offer.target && one.state == "open"))
    };
    offers.items.iter().filter(|offer| offer.open && offer.number.is_some() && !is_known(offer)).cloned().collect()
}

/// What the forge lists as offered. Of a list without end, as of none, nothing is taken for closed.
async fn offers(app: &App, project: &Project) -> Result<Listed<Offer>, LookError> {
    let none = Listed { items: Vec::new(), whole: false };
    let Some(forge) = Forge::of(app, project) else { return Ok(none) };
    let forge = forge?;
    if !forge.can(Kind::Proposals) {
        return Ok(none);
    }
    Ok(listed(&forge, Kind::Proposals, BTreeMap::new(), Request::offers).await?)
}

/// Words on proposals may have been lost: of those that stand in a queue, and where no hook tells of any of a few others each
/// time. No forge likes to be asked about all of many every minute.
async fn ask_for_words(app: &App, project: &Project, has_hooks: bool) -> Result<(), LookError> {
    if !Forge::of(app, project).is_some_and(|forge| forge.is_ok_and(|forge| forge.can(Kind::Reviews))) {
        return Ok(());
    }
    let queued: HashSet<String> = app.records.landings(project.id).await?.iter().flat_map(|(_, queue)| in_queue(queue)).collect();
    let open = app.records.proposals(project.id, true, i64::MAX).await?;
    let (mut asked, mut others): (Vec<ProposalRow>, Vec<ProposalRow>) = open.into_iter().partition(|row| queued.contains(&row.number));
    asked.truncate(MOST_QUEUED);
    if !has_hooks && !others.is_empty() {
        let turn = usize::try_from(clock::now() / 60_000).unwrap_or_default();
        let first = turn.wrapping_mul(MOST_OTHERS) % others.len();
        others.rotate_left(first);
        asked.extend(others.into_iter().take(MOST_OTHERS));
    }
    for row in asked {
        match listen(app, project, &row).await {
            // It may have gone since the list was read: the next look says so.
            Ok(()) | Err(LookError::Forge(CallError::Gone(_))) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

fn in_queue(queue: &Queue) -> Vec<String> {
    queue.entries().iter().map(|entry| entry.offered.proposal.clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn refs() -> impl Strategy<Value = BTreeMap<String, String>> {
        prop::collection::btree_map("refs/(heads|tags)/[ab]", "[cd]", 0..4)
    }

    proptest! {
        /// Following what moved leads from what was seen to what is there, and nothing moves that did not.
        #[test]
        fn what_moved_leads_from_what_was_seen_to_what_is_there(seen in refs(), there in refs()) {
            let mut followed = seen.clone();
            for one in moved(&seen, &there) {
                prop_assert_eq!(one.from.as_ref(), seen.get(&one.name));
                prop_assert_ne!(&one.from, &one.to);
                match one.to {
                    Some(to) => followed.insert(one.name, to),
                    None => followed.remove(&one.name),
                };
            }
            prop_assert_eq!(followed, there);
        }
    }

    #[test]
    fn a_look_that_panics_ends_too() {
        let polls = Polls::default();
        polls.with(|polls| polls.entry(1).or_default().going = true);
        let look = std::panic::AssertUnwindSafe(|| {
            let _going = Going(&polls, 1);
            panic!("a look that panics");
        });
        assert!(std::panic::catch_unwind(look).is_err());
        assert!(polls.with(|polls| !polls[&1].going), "the project is looked at again");
    }

    #[test]
    fn what_was_found_is_said_in_words() {
        let words = |pushes, tags, proposals| Found { pushes, tags, proposals }.words();
        assert_eq!(words(0, 0, 0), None);
        assert_eq!(words(3, 0, 0).as_deref(), Some("3 pushes were found by looking; their hooks never came"));
        assert_eq!(words(0, 1, 0).as_deref(), Some("1 tag was found by looking; its hook never came"));
        assert_eq!(words(1, 0, 2).as_deref(), Some("1 push and 2 proposals were found by looking; their hooks never came"));
    }

    #[test]
    fn a_project_without_hooks_is_looked_at_more_often() {
        let row = |poll_ms| PolledRow { id: 1, poll_ms, looked_at: None, found: None };
        assert_eq!((every(&row(None), false), every(&row(None), true)), (Some(UNTOLD), Some(TOLD)));
        assert_eq!((every(&row(Some(0)), false), every(&row(Some(5_000)), true)), (None, Some(Duration::from_secs(5))));
    }
}
