//! Everything that goes on, as it was at one moment, for those who only look. What is large in it is shared with the keeper
//! until the keeper changes it; what a page needs is computed by its reader.

use super::claims::Turns;
use super::live::LiveRun;
use super::pools_seen::{Waits, Worked};
use crate::clock::words_seen_at;
use ordotaxis_core::dispatch::{Key, Offer, Queue, Waited, why_queued};
use ordotaxis_core::engine::{Millis, State, why_job};
use ordotaxis_core::language::JobId;
use ordotaxis_core::pool::Left;
use ordotaxis_wire::fleet::DoingView;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::AttemptId;
use ordotaxis_wire::{moment, words};
use std::collections::HashMap;
use std::sync::Arc;

/// Why each job of a run that goes on has not ended, by the job's number.
pub(crate) type Whys = Vec<Option<String>>;

/// A connected runner at the time of the snapshot.
#[derive(Debug, Clone)]
pub(crate) struct RunnerNow {
    pub(crate) name: String,
    pub(crate) labels: Vec<String>,
    pub(crate) isolation: String,
    pub(crate) slots: u32,
    pub(crate) doing: Vec<DoingView>,
}

/// A queued job at the time of the snapshot, and why no runner has it yet.
#[derive(Debug, Clone)]
pub(crate) struct QueuedNow {
    pub(crate) run: String,
    pub(crate) job: JobId,
    pub(crate) since: i64,
    pub(crate) why: String,
}

/// An attempt that a runner works on.
pub(super) struct HeldNow {
    pub(super) attempt: AttemptId,
    pub(super) runner: String,
    pub(super) started_at: i64,
    /// JSON list
    pub(super) phases: String,
}

/// What goes on at one moment. It never changes, so readers hold up nobody.
pub(crate) struct Snapshot {
    pub(super) runs: HashMap<i64, Arc<LiveRun>>,
    pub(super) queue: Arc<Queue>,
    /// Queued jobs that pause before another try.
    pub(super) paused: Vec<Key>,
    pub(super) turns: Turns,
    pub(super) held: Vec<HeldNow>,
    pub(super) offers: Vec<Offer>,
    /// What each runner has done.
    pub(super) worked: HashMap<String, Worked>,
    /// Runners that have left by themselves lately.
    pub(crate) left: Vec<Left>,
    /// What queued jobs wait for in pools.
    pub(super) pools: Arc<Waits>,
    /// How each runner fences its jobs in.
    pub(super) isolation: HashMap<String, String>,
    pub(super) now: i64,
}

/// Below this a number would claim more precision than past durations give.
const SOON_MS: i64 = 10_000;

/// A length of time that is guessed.
fn likely(ms: Millis) -> String {
    if ms < SOON_MS { "a few seconds".to_owned() } else { format!("about {}", words::duration(ms / 1_000 * 1_000)) }
}

/// What is known when the places in the queue are asked for.
struct Seen<'a> {
    offers: &'a [Offer],
    places: HashMap<Key, (usize, Millis)>,
    now: i64,
}

impl Snapshot {
    fn seen(&self, keys: &[Key]) -> Seen<'_> {
        Seen { places: self.queue.places(keys, &self.offers), offers: &self.offers, now: self.now }
    }

    /// When a queued job is likely to start: what runs on runners that fit must end, and what is ahead be done.
    fn guess(&self, live: &LiveRun, seen: &Seen<'_>, key: Key) -> Option<String> {
        let queued = self.queue.get(key).filter(|_| live.usual_known)?;
        let fitting: Vec<&Offer> = seen.offers.iter().filter(|offer| !offer.draining && offer.fits(&queued.needs)).collect();
        let slots = i64::try_from(fitting.iter().map(|offer| offer.slots).sum::<usize>()).ok().filter(|slots| *slots > 0)?;
        let running = self.held.iter().filter(|held| fitting.iter().any(|offer| offer.name == held.runner));
        let left = running.filter_map(|held| {
            let usual = *self.runs.get(&held.attempt.run)?.usual.get(held.attempt.job)?;
            Some((usual - (seen.now - held.started_at)).max(0))
        });
        let ahead = seen.places.get(&key).map_or(0, |(_, ms)| *ms);
        let ms = (left.sum::<i64>().saturating_add(ahead)) / slots;
        Some(likely(ms))
    }

    /// What dispatch knows of a queued job: how many are before it, who has its turn, until when it pauses.
    fn waited(&self, live: &LiveRun, job: usize, seen: &Seen<'_>) -> Waited {
        let key = (live.info.id, job);
        let turn = live.turn(job).map(|turn| {
            let holder = self.turns.holder(&turn).filter(|holder| *holder != key).and_then(|(run, job)| {
                let holder = self.runs.get(&run)?;
                let since = words_seen_at(self.now, holder.run.jobs()[job].since);
                Some(format!("{} {} since {since}", holder.name(), holder.run.plan().jobs[job].id))
            });
            let name = turn.split_once('/').map_or(&*turn, |(_, name)| name).to_owned();
            (name, holder, self.queue.before_in_turn(key))
        });
        Waited {
            ahead: seen.places.get(&key).map_or(0, |(count, _)| *count),
            guess: self.guess(live, seen, key),
            turn,
            pause_until: live.run.jobs()[job].progress.pause().map(|at| words_seen_at(self.now, at)),
            pool: self.pool_wait(live, job, seen.places.get(&key).map_or(0, |(count, _)| *count)),
        }
    }

    /// What a queued job waits for in pools: the next one, and those behind it, not the same.
    fn pool_wait(&self, live: &LiveRun, job: usize, ahead: usize) -> Option<String> {
        let said = self.pools.get(live.needs(job))?;
        let outlook = if ahead == 0 { &said.first } else { &said.last };
        outlook.sentence(self.now, |at| words_seen_at(self.now, at), likely)
    }

    /// For each job of a run why it has not ended; none for a run that does not go on.
    pub(crate) fn whys(&self, id: i64) -> Option<Whys> {
        let live = self.runs.get(&id)?;
        let jobs = live.run.jobs();
        let queued: Vec<Key> = (0..jobs.len()).filter(|&job| jobs[job].state() == State::Queued).map(|job| (id, job)).collect();
        let seen = self.seen(&queued);
        Some((0..jobs.len()).map(|job| self.why(live, job, &seen)).collect())
    }

    fn why(&self, live: &LiveRun, job: usize, seen: &Seen<'_>) -> Option<String> {
        let clock = |at| words_seen_at(self.now, at);
        why_job(&live.run, job, &live.name(), &clock, || why_queued(live.needs(job), seen.offers, &self.waited(live, job, seen)))
    }

    /// What queues, first to go first, at most so many as a page can show.
    pub(crate) fn queue(&self) -> Vec<QueuedNow> {
        const MOST: usize = 200;
        let mut keys: Vec<Key> = self.queue.keys().chain(self.paused.iter().copied()).collect();
        keys.sort_unstable();
        let seen = self.seen(&keys);
        keys.sort_by_key(|key| (seen.places.get(key).map_or(usize::MAX, |(count, _)| *count), *key));
        let view = |key: Key| {
            let live = self.runs.get(&key.0)?;
            let job = live.run.plan().jobs[key.1].id.clone();
            Some(QueuedNow { run: live.name(), job, since: live.run.jobs()[key.1].since, why: self.why(live, key.1, &seen)? })
        };
        keys.into_iter().take(MOST).filter_map(view).collect()
    }

    /// Connected runners by name, and what each does.
    pub(crate) fn runners(&self) -> Vec<RunnerNow> {
        let mut doing: HashMap<&str, Vec<DoingView>> = HashMap::new();
        for held in &self.held {
            doing.entry(&held.runner).or_default().extend(self.doing(held));
        }
        let now = |offer: &Offer| {
            let mut doing = doing.get(offer.name.as_str()).cloned().unwrap_or_default();
            doing.sort_by(|a, b| (&a.run, a.job.as_str()).cmp(&(&b.run, b.job.as_str())));
            RunnerNow {
                name: offer.name.clone(),
                labels: offer.labels.clone(),
                isolation: self.isolation.get(&offer.name).cloned().unwrap_or_default(),
                slots: u32::try_from(offer.slots).unwrap_or(u32::MAX),
                doing,
            }
        };
        self.offers.iter().map(now).collect()
    }

    /// How many slots are busy, and how many there are.
    pub(crate) fn slots(&self) -> (u32, u32) {
        let slots: usize = self.offers.iter().map(|offer| offer.slots).sum();
        (u32::try_from(self.held.len()).unwrap_or(u32::MAX), u32::try_from(slots).unwrap_or(u32::MAX))
    }

    /// What a runner does in one of its slots.
    fn doing(&self, held: &HeldNow) -> Option<DoingView> {
        let attempt = held.attempt;
        let live = self.runs.get(&attempt.run)?;
        let phases: Vec<PhaseView> = serde_json::from_str(&held.phases).unwrap_or_default();
        Some(DoingView {
            run: live.name(),
            job: live.run.plan().jobs[attempt.job].id.clone(),
            attempt: attempt.attempt,
            phase: phases.last().filter(|phase| phase.duration_ms.is_none()).map(|phase| phase.name.clone()),
            since: moment(held.started_at),
        })
    }

    /// How many runs go on.
    pub(crate) fn runs_count(&self) -> usize {
        self.runs.len()
    }

    /// How many runners are connected.
    pub(crate) fn runner_count(&self) -> usize {
        self.offers.len()
    }

    /// How long ago a moment was when this was so.
    pub(crate) fn age(&self, since: i64) -> i64 {
        self.now - since
    }

    /// Of each queued job the labels that it wants, and since when it queues.
    pub(crate) fn queued_by_labels(&self) -> impl Iterator<Item = (&[String], i64)> {
        let queued = self.queue.keys().filter_map(|key| self.queue.get(key));
        queued.map(|queued| (queued.needs.labels.as_slice(), queued.since))
    }

    /// How many jobs are in each state that is no end.
    pub(crate) fn counts(&self) -> Vec<(State, u64)> {
        let mut counts: HashMap<State, u64> = HashMap::new();
        for job in self.runs.values().flat_map(|live| live.run.jobs()) {
            *counts.entry(job.state()).or_default() += 1;
        }
        [State::Waiting, State::Gated, State::Queued, State::Running]
            .map(|state| (state, counts.get(&state).copied().unwrap_or(0)))
            .to_vec()
    }
}
