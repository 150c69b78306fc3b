//! How many machines are missing. Queued jobs are handed to places in the order in which they have waited: first to what is there
//! and what is coming, in the order in which it will be free; where a job would wait behind others for longer than a new machine
//! takes to come, one is missing, of the cheapest pool that fits and has room.

use super::outlook::{Outlook, Outlooks};
use super::rules::{Pool, Size};
use super::seen::Seen;
use crate::dispatch::{Needs, Offer, Want};
use crate::engine::Millis;
use crate::language::Capacity;
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::sync::Arc;

/// No job is taken to be shorter: so many tiny ones on one machine are no plan.
const SHORTEST: Millis = 100;

/// A machine or runner as far as it can take jobs.
pub(super) struct Place {
    /// Its name, and its pool's where it is one's.
    pub(super) name: String,
    pub(super) pool: Option<usize>,
    /// It is not there yet, so that it is judged as its pool is: of tools without a version any will do.
    is_coming: bool,
    offer: Offer,
    slots: usize,
    /// It is there from then on.
    ready_at: Millis,
    /// What it will be doing: when each ends, and what it takes.
    doing: Vec<(Millis, Capacity)>,
    /// How many more jobs it takes; none: as many as come.
    left: Option<usize>,
    /// Whether a queued job counts on it.
    pub(super) wanted: bool,
}

impl Place {
    /// A runner that is there. One that takes nothing more is no place.
    pub(super) fn there(seen: &Seen, pool: Option<usize>, left: Option<usize>, now: Millis) -> Option<Place> {
        let doing = seen.doing.iter().map(|doing| (doing.ends_at.unwrap_or(Millis::MAX), doing.capacity)).collect();
        let slots = seen.offer.slots;
        (!seen.offer.draining && slots > 0 && left != Some(0)).then(|| Place {
            name: seen.offer.name.clone(),
            pool,
            is_coming: false,
            offer: seen.offer.clone(),
            slots,
            ready_at: now,
            doing,
            left,
            wanted: false,
        })
    }

    /// A machine that is to be there from then on.
    pub(super) fn coming(name: String, pool: &Pool, at: usize, capacity: Capacity, ready_at: Millis) -> Place {
        let offer = Offer { name: name.clone(), capacity, ..pool.offer.clone() };
        let left = pool.rules.jobs.map(|jobs| jobs as usize);
        let slots = offer.slots.max(1);
        Place { name, pool: Some(at), is_coming: true, offer, slots, ready_at, doing: Vec::new(), left, wanted: false }
    }

    /// When a job that asks for so much could begin here.
    fn begins(&self, asks: Capacity) -> Option<Millis> {
        if self.left == Some(0) || !asks.fits_in(self.offer.capacity) {
            return None;
        }
        let mut ends: Vec<Millis> = self.doing.iter().map(|(end, _)| *end).filter(|end| *end < Millis::MAX).collect();
        ends.push(self.ready_at);
        ends.sort_unstable();
        ends.into_iter().filter(|moment| *moment >= self.ready_at).find(|moment| {
            let on = self.doing.iter().filter(|(end, _)| end > moment);
            let (count, taken) = on.fold((0, Capacity::default()), |(count, sum), (_, takes)| (count + 1, sum.and(*takes)));
            count < self.slots && asks.fits_in(self.offer.capacity.less(taken))
        })
    }

    /// A job begins here then. What ends before that is no more looked at, so jobs are handed out in the order of time.
    fn take(&mut self, asks: Capacity, begins: Millis, usual: Millis) {
        self.doing.retain(|(end, _)| *end > begins);
        self.doing.push((begins.saturating_add(usual.max(SHORTEST)), asks));
        self.left = self.left.map(|left| left.saturating_sub(1));
        self.wanted = true;
    }
}

/// A machine that is missing.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Missing {
    /// The pool's place.
    pub(super) pool: usize,
    pub(super) size: Size,
}

/// What comes of it all.
pub(super) struct Counted {
    pub(super) missing: Vec<Missing>,
    pub(super) outlooks: HashMap<Arc<Needs>, Outlooks>,
}

/// What is looked at.
pub(super) struct Count<'a> {
    pub(super) now: Millis,
    pub(super) pools: &'a [Pool],
    /// How many more machines each pool may ask for now.
    pub(super) room: Vec<usize>,
    pub(super) places: &'a mut Vec<Place>,
    /// Machines that this count has added.
    pub(super) missing: Vec<Missing>,
}

impl Count<'_> {
    pub(super) fn of(mut self, wants: &[Want]) -> Counted {
        let mut outlooks = HashMap::new();
        for want in wants {
            let outlook = self.hand_out(want);
            outlooks.insert(want.needs.clone(), outlook);
        }
        Counted { missing: self.missing, outlooks }
    }

    /// Hands the jobs of one kind to places. Says what the first and the last of them wait for.
    fn hand_out(&mut self, want: &Want) -> Outlooks {
        let (now, asks) = (self.now, want.needs.capacity);
        let pools = self.pools_for(&want.needs);
        // What may be waited for behind other jobs. What has waited so long already waits behind nobody.
        let patience = pools.iter().map(|&at| self.pools[at].usual_start()).min();
        let waited = now.saturating_sub(want.since);
        let patience = patience.map(|patience| if waited >= patience { 0 } else { patience });
        let mut free: BinaryHeap<Reverse<(Millis, usize)>> = BinaryHeap::new();
        for (at, place) in self.places.iter().enumerate() {
            if fits(self.pools, place, &want.needs)
                && let Some(begins) = place.begins(asks)
            {
                free.push(Reverse((begins, at)));
            }
        }
        let mut said: Option<Outlooks> = None;
        for _ in 0..want.count {
            let next = free.peek().map(|Reverse(next)| *next);
            let behind = next.map(|(begins, at)| begins - self.places[at].ready_at);
            let good = match (behind, patience) {
                (Some(_), None) => true, // no pool would help
                (Some(behind), Some(patience)) => behind <= 0 || behind < patience,
                (None, _) => false,
            };
            let taken = match next.filter(|_| good) {
                Some((begins, at)) => {
                    free.pop();
                    Some((begins, at))
                }
                None => self.add(&want.needs, &pools).map(|at| (self.places[at].ready_at, at)),
            };
            let Some((begins, at)) = taken else {
                let last = self.without(&want.needs, &pools, next);
                return Outlooks { first: said.map_or_else(|| last.clone(), |said| said.first), last };
            };
            self.places[at].take(asks, begins, want.usual);
            if let Some(again) = self.places[at].begins(asks) {
                free.push(Reverse((again, at)));
            }
            let outlook = self.with(at, begins);
            said = Some(Outlooks { first: said.map_or_else(|| outlook.clone(), |said| said.first), last: outlook });
        }
        said.unwrap_or(Outlooks { first: Outlook::There, last: Outlook::There })
    }

    /// Pools that would do such jobs, the cheapest first.
    fn pools_for(&self, needs: &Needs) -> Vec<usize> {
        let mut pools: Vec<usize> = (0..self.pools.len()).filter(|&at| !self.pools[at].ended && self.pools[at].fits(needs)).collect();
        pools.sort_by_key(|&at| (self.pools[at].rules.price.unwrap_or(0), at));
        pools
    }

    /// One machine more, of the first of these pools that may.
    fn add(&mut self, needs: &Needs, pools: &[usize]) -> Option<usize> {
        let &at = pools.iter().find(|&&at| self.room[at] > 0)?;
        self.room[at] -= 1;
        let pool = &self.pools[at];
        let size = pool.size_for(Some(needs));
        self.missing.push(Missing { pool: at, size });
        self.places.push(Place::coming(String::new(), pool, at, size.capacity, self.now.saturating_add(pool.usual_start())));
        Some(self.places.len() - 1)
    }

    fn with(&self, at: usize, begins: Millis) -> Outlook {
        let place = &self.places[at];
        match place.pool {
            _ if place.ready_at <= self.now && begins <= self.now => Outlook::There,
            Some(pool) if place.ready_at > self.now => Outlook::Coming {
                pool: self.pools[pool].name.clone(),
                likely_at: Some(begins).filter(|_| !self.pools[pool].starts.is_empty()),
            },
            _ => Outlook::Behind { runner: place.name.clone(), free_at: begins },
        }
    }

    /// No place and no pool: what keeps the first pool that fits from it.
    fn without(&self, needs: &Needs, pools: &[usize], next: Option<(Millis, usize)>) -> Outlook {
        let Some(&at) = pools.first() else { return Outlook::NoPool };
        let pool = &self.pools[at];
        if let Some(why) = &pool.unlisted {
            return Outlook::Trouble { pool: pool.name.clone(), why: why.clone(), again_at: None };
        }
        if let Some(trouble) = &pool.trouble {
            let waits = trouble.until > self.now;
            return Outlook::Trouble { pool: pool.name.clone(), why: trouble.why.clone(), again_at: waits.then_some(trouble.until) };
        }
        let own = self.places.iter().filter(|place| place.pool == Some(at) && fits(self.pools, place, needs));
        let free_at = own.filter_map(|place| place.begins(needs.capacity)).min().or(next.map(|(begins, _)| begins));
        Outlook::Full { pool: pool.name.clone(), most: pool.rules.most, free_at }
    }
}

fn fits(pools: &[Pool], place: &Place, needs: &Needs) -> bool {
    match place.pool.filter(|_| place.is_coming) {
        Some(at) => pools[at].fits(needs),
        None => place.offer.fits(needs),
    }
}
