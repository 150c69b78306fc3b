//! One look at everything: what to do now.

use super::count::{Count, Counted, Place};
use super::event::Effect;
use super::machine::{Machine, Stage};
use super::pools::Pools;
use super::rules::{Pool, Size};
use super::seen::{Left, Seen};
use crate::dispatch::Want;
use crate::engine::Millis;
use std::collections::{BTreeSet, HashMap};

impl Pools {
    /// One look at everything. `name` gives an ending that no machine has had. What comes back is to be done in this order, once
    /// what changed is written down.
    pub fn look(&mut self, wants: &[Want], runners: &[Seen], left: &[Left], now: Millis, mut name: impl FnMut() -> String) -> Vec<Effect> {
        let mut effects = Vec::new();
        self.live(runners, left, now, &mut effects);
        let mut places = self.places(runners, now);
        let room = self.room(now);
        let count = Count { now, pools: &self.pools, room: room.clone(), places: &mut places, missing: Vec::new() };
        let Counted { missing, outlooks } = count.of(wants);
        self.outlooks = outlooks;
        let mut left = room;
        for one in missing {
            left[one.pool] -= 1;
            self.want(one.pool, one.size, "a queued job needs it", now, &mut name, &mut effects);
        }
        for (at, left) in left.into_iter().enumerate() {
            let lacks = self.pools[at].rules.least.saturating_sub(self.serving(&self.pools[at].name)).min(left);
            for _ in 0..if self.pools[at].ended { 0 } else { lacks } {
                let size = self.pools[at].size_for(None);
                self.want(at, size, "the pool keeps as many ready", now, &mut name, &mut effects);
            }
        }
        self.end_idle(&places, runners, now);
        self.look_around(now, &mut effects);
        effects
    }

    /// Runners that are there, and machines whose runners are coming.
    fn places(&self, runners: &[Seen], now: Millis) -> Vec<Place> {
        let at = |pool: &str| self.pools.iter().position(|known| known.name == pool);
        let there = runners.iter().filter_map(|seen| match self.machines.get(&seen.offer.name) {
            Some(machine) if !machine.serves() => None,
            Some(machine) => {
                let at = at(&machine.pool)?;
                let left = self.pools[at].rules.jobs.map(|jobs| jobs.saturating_sub(machine.jobs) as usize);
                Place::there(seen, Some(at), left, now)
            }
            None => Place::there(seen, None, None, now),
        });
        let coming = self.machines.values().filter(|machine| machine.is_coming()).filter_map(|machine| {
            let at = at(&machine.pool)?;
            let pool = &self.pools[at];
            let ready_at = (machine.wanted_at.saturating_add(pool.usual_start())).max(now + 1);
            Some(Place::coming(machine.id.clone(), pool, at, machine.capacity, ready_at))
        });
        there.chain(coming).collect()
    }

    /// How many machines each pool may ask for now.
    fn room(&self, now: Millis) -> Vec<usize> {
        let room = |pool: &Pool| {
            let there = self.machines.values().filter(|machine| machine.pool == pool.name && machine.stage != Stage::Gone).count();
            let strays = self.orphans.iter().filter(|((of, _), orphan)| *of == pool.name && !orphan.ended).count();
            let room = pool.rules.most.saturating_sub(there + strays);
            match &pool.trouble {
                // Who does not say what there is makes nothing: it is asked for the list soon again.
                _ if pool.ended || pool.unlisted.is_some() => 0,
                None => room,
                Some(trouble) if trouble.until > now => 0,
                // One is tried; with it the others are.
                Some(_) => room.min(1_usize.saturating_sub(self.coming(&pool.name))),
            }
        };
        self.pools.iter().map(room).collect()
    }

    fn coming(&self, pool: &str) -> usize {
        self.machines.values().filter(|machine| machine.pool == pool && machine.is_coming()).count()
    }

    fn serving(&self, pool: &str) -> usize {
        self.machines.values().filter(|machine| machine.pool == pool && machine.serves()).count()
    }

    fn want(&mut self, at: usize, size: Size, why: &str, now: Millis, name: &mut impl FnMut() -> String, effects: &mut Vec<Effect>) {
        let pool = &self.pools[at];
        let id = format!("{}-{}{}", pool.name, self.mark, name());
        if self.machines.contains_key(&id) {
            return;
        }
        let mut machine = Machine::wanted(id.clone(), pool, why.to_owned(), size, now);
        machine.memory.asked = true;
        effects.push(Effect::Make { pool: pool.name.clone(), id: id.clone(), capacity: size.capacity, lasts: size.lasts });
        self.machines.insert(id.clone(), machine);
        self.changed.insert(id);
    }

    /// Machines for which there has been nothing for so long, the longest first; so many as are to stay do.
    fn end_idle(&mut self, places: &[Place], runners: &[Seen], now: Millis) {
        let wanted: BTreeSet<&str> = places.iter().filter(|place| place.wanted).map(|place| place.name.as_str()).collect();
        let worked: HashMap<&str, Option<Millis>> = runners.iter().map(|seen| (seen.offer.name.as_str(), seen.worked_at)).collect();
        for at in 0..self.pools.len() {
            let pool = &self.pools[at];
            if pool.ended {
                self.end_all(&pool.name.clone(), now);
                continue;
            }
            let idle = |machine: &&Machine| machine.pool == pool.name && machine.stage == Stage::Registered && machine.serves();
            let since = |machine: &Machine| {
                let worked = worked.get(machine.id.as_str()).copied().flatten();
                machine.registered_at.max(worked).unwrap_or(now)
            };
            let late = |machine: &&Machine| now - since(machine) >= pool.rules.idle && !wanted.contains(machine.id.as_str());
            let mut late: Vec<(Millis, String)> =
                self.machines.values().filter(idle).filter(late).map(|machine| (since(machine), machine.id.clone())).collect();
            late.sort();
            let spare = self.serving(&pool.name).saturating_sub(pool.rules.least);
            for (_, id) in late.into_iter().take(spare) {
                if let Some(machine) = self.machine_mut(&id) {
                    machine.leave("there was nothing for it to do", false, now);
                }
            }
        }
    }

    /// The machines of a pool that has ended go: those that work when they have.
    fn end_all(&mut self, pool: &str, now: Millis) {
        let own = |machine: &&Machine| machine.pool == pool && machine.serves();
        let ids: Vec<String> = self.machines.values().filter(own).map(|machine| machine.id.clone()).collect();
        for id in ids {
            if let Some(machine) = self.machine_mut(&id) {
                machine.leave("its pool has ended", machine.is_coming(), now);
            }
        }
    }
}
