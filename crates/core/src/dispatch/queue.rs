//! Queued jobs, and which of them a free slot takes next.
//!
//! Among projects: the one with the fewest jobs running, of equals the one that was served longest ago, so that none
//! starves. Within a project: what has the longest way to the end of its run goes first, and waiting counts as way, so
//! that nothing waits forever: what has waited long for room on a runner that is large enough holds that back from taking other
//! jobs. Among jobs that want the same turn only the first that asked may start.

use super::{Needs, Offer};
use crate::engine::Millis;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// A job that has waited so long for room keeps runners that are large enough from taking others.
const PATIENCE: Millis = 30_000;

/// A run and a job's place in its plan.
pub type Key = (i64, usize);

/// A queued job as far as dispatch cares.
#[derive(Debug, Clone)]
pub struct Queued {
    pub project: i64,
    pub needs: Arc<Needs>,
    /// A name that only one running job may hold.
    pub turn: Option<Arc<str>>,
    pub since: Millis,
    /// The longest way from its start to the end of its run.
    pub ahead: Millis,
    /// How long it takes by itself.
    pub usual: Millis,
}

impl Queued {
    /// Smaller goes first. The way ahead and the time waited, added: the moment asked about cancels out.
    fn rank(&self, key: Key) -> Rank {
        (self.since.saturating_sub(self.ahead), key)
    }
}

type Rank = (Millis, Key);
/// Jobs that any runner fits alike.
type Class = (Arc<Needs>, Option<Arc<str>>);

/// All queued jobs of all projects, in the order in which they start. Cloning copies it; the keeper shares it with readers
/// until it changes.
#[derive(Debug, Clone, Default)]
pub struct Queue {
    jobs: HashMap<Key, Queued>,
    projects: BTreeMap<i64, Lane>,
    /// Who asked for each turn, in order.
    turns: HashMap<Arc<str>, BTreeSet<Rank>>,
    clock: u64,
}

#[derive(Debug, Clone, Default)]
struct Lane {
    classes: HashMap<Class, Jobs>,
    served: u64,
}

/// The jobs of a class in the order in which they go, and how long all of them take together.
#[derive(Debug, Clone, Default)]
struct Jobs {
    ranks: BTreeSet<Rank>,
    usual: Millis,
}

/// Queued jobs that any runner fits alike, for who makes runners.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Want {
    pub needs: Arc<Needs>,
    /// How many could run side by side.
    pub count: usize,
    /// How long one of them takes.
    pub usual: Millis,
    /// Since when the first of them has been queued.
    pub since: Millis,
}

impl Queue {
    /// Queues a job; one that was queued already is queued as it is now.
    pub fn insert(&mut self, key: Key, job: Queued) {
        self.remove(key);
        let lane = self.projects.entry(job.project).or_default();
        let jobs = lane.classes.entry((job.needs.clone(), job.turn.clone())).or_default();
        jobs.ranks.insert(job.rank(key));
        jobs.usual = jobs.usual.saturating_add(job.usual);
        if let Some(turn) = &job.turn {
            self.turns.entry(turn.clone()).or_default().insert((job.since, key));
        }
        self.jobs.insert(key, job);
    }

    /// Takes a job out. Does nothing when the job is not queued.
    pub fn remove(&mut self, key: Key) {
        let Some(job) = self.jobs.remove(&key) else { return };
        if let Some(lane) = self.projects.get_mut(&job.project) {
            let class = (job.needs.clone(), job.turn.clone());
            if let Some(jobs) = lane.classes.get_mut(&class) {
                jobs.ranks.remove(&job.rank(key));
                jobs.usual = jobs.usual.saturating_sub(job.usual);
                if jobs.ranks.is_empty() {
                    lane.classes.remove(&class);
                }
            }
        }
        if let Some(turn) = &job.turn
            && let Some(asking) = self.turns.get_mut(turn)
        {
            asking.remove(&(job.since, key));
            if asking.is_empty() {
                self.turns.remove(turn);
            }
        }
    }

    /// What is known of a queued job; none when it is not queued.
    pub fn get(&self, key: Key) -> Option<&Queued> {
        self.jobs.get(&key)
    }

    /// How many jobs are queued.
    pub fn len(&self) -> usize {
        self.jobs.len()
    }

    /// Whether no job is queued.
    pub fn is_empty(&self) -> bool {
        self.jobs.is_empty()
    }

    /// All queued jobs, in no particular order.
    pub fn keys(&self) -> impl Iterator<Item = Key> {
        self.jobs.keys().copied()
    }

    /// The job that a free slot of this runner takes. `running` counts a project's running jobs; `held` says whether a
    /// turn is; `now` is on the clock that jobs were queued by. Nothing changes by asking: see [`Queue::serve`].
    ///
    /// ```
    /// use ordotaxis_core::dispatch::{Offer, Queue, Queued};
    /// let job = |project, ahead| Queued { project, needs: Default::default(), turn: None, since: 0, ahead, usual: 10 };
    /// let mut queue = Queue::default();
    /// queue.insert((7, 0), job(1, 10));
    /// queue.insert((7, 1), job(1, 500));
    /// queue.insert((8, 0), job(2, 10));
    /// let (runner, nobody) = (Offer::default(), |_: &str| false);
    /// assert_eq!(queue.first_for(&runner, 0, |_| 0, nobody), Some((7, 1)), "of its project the one with the longest way to go");
    /// let running = |project| if project == 1 { 3 } else { 0 };
    /// assert_eq!(queue.first_for(&runner, 0, running, nobody), Some((8, 0)), "the project with the least running");
    /// ```
    pub fn first_for(&self, offer: &Offer, now: Millis, running: impl Fn(i64) -> usize, held: impl Fn(&str) -> bool) -> Option<Key> {
        if self.holds_back(offer, now, &held) {
            return None;
        }
        let mut projects: Vec<(usize, u64, i64)> =
            self.projects.iter().filter(|(_, lane)| !lane.classes.is_empty()).map(|(&id, lane)| (running(id), lane.served, id)).collect();
        projects.sort_unstable();
        let (_, key) = projects.iter().find_map(|&(_, _, project)| {
            let classes = self.projects[&project].classes.iter();
            let free = classes.filter(|((needs, turn), _)| offer.has_room(needs) && turn.as_ref().is_none_or(|turn| !held(turn)));
            free.filter_map(|((_, turn), jobs)| self.first_of(turn.as_ref(), jobs)).min()
        })?;
        Some(key)
    }

    /// Whether a job that fits this runner has waited long for room there.
    fn holds_back(&self, offer: &Offer, now: Millis, held: &impl Fn(&str) -> bool) -> bool {
        let all = self.projects.values().flat_map(|lane| &lane.classes);
        let mut without_room = all.filter(|((needs, turn), _)| {
            !needs.capacity.is_none() && offer.fits(needs) && !offer.has_room(needs) && turn.as_ref().is_none_or(|turn| !held(turn))
        });
        without_room.any(|((_, turn), jobs)| {
            let first = self.first_of(turn.as_ref(), jobs).and_then(|(_, key)| self.jobs.get(&key));
            first.is_some_and(|job| now.saturating_sub(job.since) >= PATIENCE)
        })
    }

    /// What is wanted of runners, in the order in which it was queued first. Of jobs that want the same turn one counts, and none
    /// while the turn is held.
    pub fn wants(&self, held: impl Fn(&str) -> bool) -> Vec<Want> {
        let mut wants: HashMap<&Arc<Needs>, (usize, Millis, Millis)> = HashMap::new();
        for ((needs, turn), jobs) in self.projects.values().flat_map(|lane| &lane.classes) {
            let Some((_, key)) = self.first_of(turn.as_ref(), jobs).filter(|_| turn.as_ref().is_none_or(|turn| !held(turn))) else {
                continue;
            };
            let Some(first) = self.jobs.get(&key) else { continue };
            let (count, usual) = if turn.is_some() { (1, first.usual) } else { (jobs.ranks.len(), jobs.usual) };
            let want = wants.entry(needs).or_insert((0, 0, Millis::MAX));
            *want = (want.0 + count, want.1.saturating_add(usual), want.2.min(first.since));
        }
        let want = |(needs, (count, usual, since)): (&Arc<Needs>, (usize, Millis, Millis))| {
            let each = usual / Millis::try_from(count).unwrap_or(Millis::MAX).max(1);
            Want { needs: needs.clone(), count, usual: each, since }
        };
        let mut wants: Vec<Want> = wants.into_iter().map(want).collect();
        wants.sort_by(|a, b| (a.since, &a.needs).cmp(&(b.since, &b.needs)));
        wants
    }

    /// A queued job is given to a runner, so other projects are served before its own. It stays queued until it is removed.
    pub fn serve(&mut self, key: Key) {
        let Some(project) = self.jobs.get(&key).map(|job| job.project) else { return };
        self.clock += 1;
        self.projects.entry(project).or_default().served = self.clock;
    }

    /// The first of a class that may start: where a turn is wanted, only the job that asked for it first.
    fn first_of(&self, turn: Option<&Arc<str>>, jobs: &Jobs) -> Option<Rank> {
        let Some(turn) = turn else { return jobs.ranks.first().copied() };
        let &(_, key) = self.turns.get(turn)?.first()?;
        jobs.ranks.iter().find(|(_, job)| *job == key).copied()
    }

    /// How many jobs asked for the same turn before this one.
    pub fn before_in_turn(&self, key: Key) -> usize {
        let asking = self.jobs.get(&key).and_then(|job| Some((self.turns.get(job.turn.as_ref()?)?, job.since)));
        asking.map_or(0, |(asking, since)| asking.range(..(since, key)).count())
    }

    /// For each of these jobs how many others its runners will take first if nothing changes, and how long those take
    /// together: those of its project that rank higher, and as many of every other project, since they take turns.
    pub fn places(&self, keys: &[Key], offers: &[Offer]) -> HashMap<Key, (usize, Millis)> {
        let mut lines: HashMap<(i64, &Needs), Lines> = HashMap::new();
        let mut places = HashMap::with_capacity(keys.len());
        for &key in keys {
            let Some(job) = self.jobs.get(&key) else { continue };
            let lines = lines.entry((job.project, &*job.needs)).or_insert_with(|| self.lines(job, offers));
            let own = lines.own.ranks.partition_point(|other| *other < job.rank(key));
            let others = lines.others.iter().map(|line| line.first(own + 1));
            let (count, ms) = others.fold(lines.own.first(own), |sum, one| (sum.0 + one.0, sum.1.saturating_add(one.1)));
            places.insert(key, (count, ms));
        }
        places
    }

    fn lines(&self, job: &Queued, offers: &[Offer]) -> Lines {
        let fitting: Vec<&Offer> = offers.iter().filter(|offer| offer.fits(&job.needs)).collect();
        let shares = |needs: &Needs| fitting.iter().any(|offer| offer.fits(needs));
        let line = |lane: &Lane| {
            let classes = lane.classes.iter().filter(|((needs, _), _)| shares(needs));
            let mut ranks: Vec<Rank> = classes.flat_map(|(_, jobs)| jobs.ranks.iter().copied()).collect();
            ranks.sort_unstable();
            let usual = ranks.iter().map(|(_, key)| self.jobs.get(key).map_or(0, |job| job.usual));
            let sums = usual.scan(0, |sum: &mut Millis, ms| {
                *sum = sum.saturating_add(ms);
                Some(*sum)
            });
            Line { sums: sums.collect(), ranks }
        };
        let own = self.projects.get(&job.project).map(line).unwrap_or_default();
        Lines { own, others: self.projects.iter().filter(|(id, _)| **id != job.project).map(|(_, lane)| line(lane)).collect() }
    }
}

/// A project's queued jobs in the order they go, with how long the first so many take together.
#[derive(Default)]
struct Line {
    ranks: Vec<Rank>,
    sums: Vec<Millis>,
}

struct Lines {
    own: Line,
    others: Vec<Line>,
}

impl Line {
    fn first(&self, count: usize) -> (usize, Millis) {
        let count = count.min(self.ranks.len());
        (count, count.checked_sub(1).and_then(|last| self.sums.get(last)).copied().unwrap_or(0))
    }
}
