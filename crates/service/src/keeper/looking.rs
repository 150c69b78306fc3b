//! What people look at: why jobs wait, what runners do, what queues.

use super::room::{Going, Room, Session};
use super::{QueuedNow, RunnerNow, Whys};
use crate::clock::words as clock;
use ordotaxis_core::dispatch::{Key, Offer, Waited, why_queued};
use ordotaxis_core::engine::{Millis, State, why_job};
use ordotaxis_wire::fleet::DoingView;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::AttemptId;
use ordotaxis_wire::{moment, words};
use std::collections::HashMap;

/// Below this a number would claim more than past durations can tell.
const SOON_MS: i64 = 10_000;

/// What is known when the places in the queue are asked for.
struct Seen {
    offers: Vec<Offer>,
    places: HashMap<Key, (usize, Millis)>,
    now: i64,
}

impl Room {
    pub(super) fn offer(&self, name: &str) -> Option<Offer> {
        let busy = self.held.values().filter(|held| held.row.runner == name).count();
        Some(self.offer_of(name, self.sessions.get(name)?, busy))
    }

    fn offer_of(&self, name: &str, session: &Session, busy: usize) -> Offer {
        let slots = usize::try_from(session.slots).unwrap_or(0);
        Offer {
            name: name.to_owned(),
            labels: session.labels.clone(),
            tools: session.tools.iter().map(|tool| (tool.name.clone(), tool.version.clone())).collect(),
            container: session.isolation == "container",
            fenced: session.isolation == "sandbox",
            draining: self.draining.contains_key(name),
            projects: session.granted.projects.clone(),
            outside: session.granted.outside,
            free: slots.saturating_sub(busy),
            slots,
        }
    }

    fn offers(&self) -> Vec<Offer> {
        let mut busy: HashMap<&str, usize> = HashMap::new();
        self.held.values().for_each(|held| *busy.entry(&held.row.runner).or_default() += 1);
        let offer = |(name, session): (&String, &Session)| self.offer_of(name, session, busy.get(name.as_str()).copied().unwrap_or(0));
        self.sessions.iter().map(offer).collect()
    }

    fn seen(&self, keys: &[Key], now: i64) -> Seen {
        let offers = self.offers();
        Seen { places: self.queue.places(keys, &offers), offers, now }
    }

    /// When a queued job is likely to start: what runs on runners that fit must end, and what is ahead be done.
    fn guess(&self, going: &Going, seen: &Seen, key: Key) -> Option<String> {
        let queued = self.queue.get(key).filter(|_| going.usual_known)?;
        let fitting: Vec<&Offer> = seen.offers.iter().filter(|offer| !offer.draining && offer.fits(&queued.needs)).collect();
        let slots = i64::try_from(fitting.iter().map(|offer| offer.slots).sum::<usize>()).ok().filter(|slots| *slots > 0)?;
        let running = self.held.iter().filter(|(_, held)| fitting.iter().any(|offer| offer.name == held.row.runner));
        let left = running.filter_map(|(attempt, held)| {
            let usual = *self.runs.get(&attempt.run)?.usual.get(attempt.job)?;
            Some((usual - (seen.now - held.row.started_at)).max(0))
        });
        let ahead = seen.places.get(&key).map_or(0, |(_, ms)| *ms);
        let ms = (left.sum::<i64>().saturating_add(ahead)) / slots;
        Some(if ms < SOON_MS { "a few seconds".to_owned() } else { format!("about {}", words::duration(ms / 1_000 * 1_000)) })
    }

    fn waited(&self, going: &Going, job: usize, seen: &Seen) -> Waited {
        let key = (going.info.id, job);
        let turn = going.turn(job).map(|turn| {
            let holder = self.turns.get(&turn).filter(|holder| **holder != key).and_then(|&(run, job)| {
                let holder = self.runs.get(&run)?;
                let since = clock(holder.run.jobs()[job].since);
                Some(format!("{} {} since {since}", holder.name(), holder.run.plan().jobs[job].id))
            });
            let name = turn.split_once('/').map_or(&*turn, |(_, name)| name).to_owned();
            (name, holder, self.queue.before_in_turn(key))
        });
        Waited {
            ahead: seen.places.get(&key).map_or(0, |(count, _)| *count),
            guess: self.guess(going, seen, key),
            turn,
            pause_until: going.run.jobs()[job].not_before.map(clock),
        }
    }

    pub(super) fn whys(&self, id: i64, now: i64) -> Option<Whys> {
        let going = self.runs.get(&id)?;
        let jobs = going.run.jobs();
        let queued: Vec<Key> = (0..jobs.len()).filter(|&job| jobs[job].state == State::Queued).map(|job| (id, job)).collect();
        let seen = self.seen(&queued, now);
        Some((0..jobs.len()).map(|job| self.why(going, job, &seen)).collect())
    }

    fn why(&self, going: &Going, job: usize, seen: &Seen) -> Option<String> {
        why_job(&going.run, job, &going.name(), &clock, || why_queued(going.needs(job), &seen.offers, &self.waited(going, job, seen)))
    }

    /// What queues, first to go first, at most so many as a page can show.
    pub(super) fn queue_now(&self, now: i64) -> Vec<QueuedNow> {
        const MOST: usize = 200;
        let mut keys: Vec<Key> = self.queue.keys().chain(self.pauses.iter().map(|(_, run, job)| (*run, *job))).collect();
        keys.sort_unstable();
        let seen = self.seen(&keys, now);
        keys.sort_by_key(|key| (seen.places.get(key).map_or(usize::MAX, |(count, _)| *count), *key));
        let view = |key: Key| {
            let going = self.runs.get(&key.0)?;
            let job = going.run.plan().jobs[key.1].id.clone();
            Some(QueuedNow { run: going.name(), job, since: going.run.jobs()[key.1].since, why: self.why(going, key.1, &seen)? })
        };
        keys.into_iter().take(MOST).filter_map(view).collect()
    }

    pub(super) fn runners(&self) -> Vec<RunnerNow> {
        let doing = |name: &str| {
            let held = self.held.iter().filter(|(_, held)| held.row.runner == name);
            let mut doing: Vec<DoingView> = held.filter_map(|(attempt, held)| self.doing(*attempt, &held.row)).collect();
            doing.sort_by(|a, b| (&a.run, a.job.as_str()).cmp(&(&b.run, b.job.as_str())));
            doing
        };
        let now = |(name, session): (&String, &Session)| RunnerNow {
            name: name.clone(),
            labels: session.labels.clone(),
            isolation: session.isolation.clone(),
            slots: session.slots,
            doing: doing(name),
        };
        self.sessions.iter().map(now).collect()
    }

    fn doing(&self, attempt: AttemptId, row: &ordotaxis_store::AttemptRow) -> Option<DoingView> {
        let going = self.runs.get(&attempt.run)?;
        let phases: Vec<PhaseView> = serde_json::from_str(&row.phases).unwrap_or_default();
        Some(DoingView {
            run: going.name(),
            job: going.run.plan().jobs[attempt.job].id.clone(),
            attempt: attempt.attempt,
            phase: phases.last().filter(|phase| phase.duration_ms.is_none()).map(|phase| phase.name.clone()),
            since: moment(row.started_at),
        })
    }

    pub(super) fn counts(&self) -> Vec<(State, u64)> {
        let mut counts: HashMap<State, u64> = HashMap::new();
        for job in self.runs.values().flat_map(|going| going.run.jobs()) {
            *counts.entry(job.state).or_default() += 1;
        }
        [State::Waiting, State::Gated, State::Queued, State::Running]
            .map(|state| (state, counts.get(&state).copied().unwrap_or(0)))
            .to_vec()
    }
}
