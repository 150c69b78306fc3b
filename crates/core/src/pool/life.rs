//! What happens to one machine: what its provider answers, what its runner does, what the clock says.

use super::event::{Effect, Event};
use super::machine::{Machine, Stage};
use super::pools::Pools;
use super::rules::{Pool, Rules};
use super::seen::{Left, Seen};
use crate::engine::Millis;
use std::collections::HashMap;

/// The first pause before a removal is asked for again, and the longest.
const FIRST_PAUSE: Millis = 1_000;
const LONGEST_PAUSE: Millis = 30_000;
/// In the last tenth of its life a machine takes no new job.
const LAST: Millis = 10;

/// Why a machine whose runner went away leaves.
const NOT_HEARD: &str = "its runner is not heard any more";
const LEFT: &str = "its runner has left";
const DONE: &str = "it has done what it was made for";

impl Pools {
    /// Something happened. What changed is in [`Pools::changed`]; what is to be done comes with the next look.
    pub fn apply(&mut self, event: Event, now: Millis) {
        match event {
            Event::Listed { pool, asked_at, machines } => self.listed(&pool, asked_at, &machines, now),
            Event::NotListed { pool, why } => {
                if let Some(pool) = self.pool_mut(&pool) {
                    (pool.listing, pool.unlisted) = (false, Some(why));
                    pool.listed_at = Some(now); // it is asked again after the same pause
                }
            }
            Event::Removed { pool, name } => self.removed(&pool, &name, Ok(()), now),
            Event::NotRemoved { pool, name, why } => self.removed(&pool, &name, Err(why), now),
            Event::Made { id, words } => {
                let Some(machine) = self.machine_mut(&id) else { return };
                machine.memory.asked = false;
                machine.made_at.get_or_insert(now);
                machine.words = words;
                if machine.stage == Stage::Wanted {
                    machine.go(Stage::Made, "the provider has made it; its runner is yet to come", now);
                    let pool = machine.pool.clone();
                    self.pool_mut(&pool).into_iter().for_each(Pool::made);
                }
            }
            Event::Refused { id, why } => {
                let Some(machine) = self.machine_mut(&id) else { return };
                machine.memory.asked = false;
                let pool = machine.pool.clone();
                if machine.stage == Stage::Wanted {
                    machine.gone(&format!("the provider refused it: {why}"), now);
                }
                if let Some(pool) = self.pool_mut(&pool) {
                    pool.went_wrong(&why, false, now);
                }
            }
            Event::Unclear { id, why } => {
                let Some(machine) = self.machine_mut(&id) else { return };
                machine.memory.asked = false;
                machine.words = why.clone();
                let pool = machine.pool.clone();
                if let Some(pool) = self.pool_mut(&pool) {
                    pool.went_wrong(&why, false, now);
                }
            }
            Event::Drained { id } => {
                if let Some(machine) = self.machine_mut(&id) {
                    machine.memory.drained = true;
                }
            }
            Event::TakenAway { id, why } => {
                if let Some(machine) = self.machine_mut(&id) {
                    machine.leave(&why, false, now);
                }
            }
            Event::Remove { id, by } => {
                if let Some(machine) = self.machine_mut(&id) {
                    machine.kept_until = None;
                    machine.leave(&format!("removed by {by}"), true, now);
                }
            }
            Event::Keep { id, until, by } => {
                if let Some(machine) = self.machine_mut(&id).filter(|machine| !matches!(machine.stage, Stage::Leaving | Stage::Gone)) {
                    machine.kept_until = until;
                    machine.why = until.map_or_else(|| format!("let go by {by}"), |_| format!("kept for a look by {by}"));
                }
            }
        }
    }

    /// The provider's answer to a removal.
    fn removed(&mut self, pool: &str, name: &str, answer: Result<(), String>, now: Millis) {
        if let Some(orphan) = self.orphans.get_mut(&(pool.to_owned(), name.to_owned())) {
            orphan.removing = false;
            return;
        }
        let Some(machine) = self.machine_mut(name).filter(|machine| machine.pool == pool) else { return };
        machine.memory.removing = false;
        match answer {
            Ok(()) => machine.memory.removed_at = Some(now),
            Err(why) => machine.words = why,
        }
    }

    /// What runners and the clock say of each machine.
    pub(super) fn live(&mut self, runners: &[Seen], left: &[Left], now: Millis, effects: &mut Vec<Effect>) {
        let seen: HashMap<&str, &Seen> = runners.iter().map(|seen| (seen.offer.name.as_str(), seen)).collect();
        let left: HashMap<&str, u32> = left.iter().map(|left| (left.name.as_str(), left.begun)).collect();
        let ids: Vec<String> = self.machines.keys().cloned().collect();
        for id in ids {
            let Some(machine) = self.machines.get(&id) else { continue };
            let (before, mut machine) = (machine.clone(), machine.clone());
            let (rules, seen) = (self.rules_of(&machine.pool), seen.get(id.as_str()).copied());
            let left = left.get(machine.id.as_str()).copied();
            machine.seen(seen, left, rules.as_ref(), now);
            if let Some(rules) = &rules {
                machine.grow_old(rules, now);
            }
            machine.effects(seen, now, effects);
            self.note(&before, &machine, now);
            self.machines.insert(id, machine);
        }
    }

    /// What became of a machine: it is to be written down if that is otherwise now, and says something of its pool.
    pub(super) fn note(&mut self, before: &Machine, after: &Machine, now: Millis) {
        if !after.reads_as(before) {
            self.changed.insert(after.id.clone());
        }
        let never_came = before.is_coming() && after.stage == Stage::Leaving && after.registered_at.is_none();
        let Some(pool) = self.pools.iter_mut().find(|pool| pool.name == after.pool) else { return };
        if after.registered_at.is_some() && before.registered_at.is_none() {
            pool.came(now - after.wanted_at, now);
        } else if never_came && pool.came_at.is_none_or(|came| came < after.wanted_at) {
            // Where others came meanwhile it is this machine's own fault.
            pool.went_wrong(&after.why, true, now);
        }
    }

    pub(super) fn rules_of(&self, pool: &str) -> Option<Rules> {
        self.pools.iter().find(|known| known.name == pool).map(|pool| pool.rules.clone())
    }
}

impl Machine {
    pub(super) fn gone(&mut self, why: &str, now: Millis) {
        self.go(Stage::Gone, why, now);
        self.gone_at.get_or_insert(now);
    }

    /// Whether its runner is there, and works.
    fn seen(&mut self, seen: Option<&Seen>, left: Option<u32>, rules: Option<&Rules>, now: Millis) {
        let done = |jobs: u32| rules.and_then(|rules| rules.jobs).is_some_and(|most| jobs >= most);
        match (seen, left) {
            (Some(seen), _) if self.stage != Stage::Gone => {
                self.jobs = self.jobs.max(seen.begun);
                if self.stage == Stage::Leaving {
                    return;
                }
                self.made_at.get_or_insert(now);
                self.registered_at.get_or_insert(now);
                let busy = !seen.doing.is_empty();
                let (stage, why) = if busy { (Stage::Busy, "its runner works") } else { (Stage::Registered, "its runner waits for work") };
                self.go(stage, why, now);
            }
            // It may have come, done its job and left since the last look.
            (None, Some(begun)) if self.is_coming() || self.has_come() => {
                self.jobs = self.jobs.max(begun);
                self.made_at.get_or_insert(now);
                self.registered_at.get_or_insert(now);
                if self.kept_until.is_none() {
                    self.leave(if done(self.jobs) { DONE } else { LEFT }, true, now);
                }
            }
            (None, None) if self.has_come() && self.kept_until.is_none() => {
                self.leave(if done(self.jobs) { DONE } else { NOT_HEARD }, true, now);
            }
            (None, _) if self.stage == Stage::Leaving && self.registered_at.is_some() => self.at_once = true,
            _ => {}
        }
        if self.is_coming() && self.memory.listed_ended {
            self.leave("the provider says that it has ended", true, now);
        }
    }

    /// What the clock says.
    fn grow_old(&mut self, rules: &Rules, now: Millis) {
        if self.kept_until.is_some_and(|until| until <= now) {
            self.kept_until = None;
            self.leave("the time it was kept for is over", true, now);
        }
        if self.kept_until.is_some() || self.stage == Stage::Gone {
            return;
        }
        let age = now - self.wanted_at;
        if self.is_coming() && age >= rules.start {
            return self.leave("its runner did not come in time", true, now);
        }
        if age >= self.lasts && !self.at_once {
            return self.leave("its longest life is over", true, now);
        }
        if self.has_come() && age >= self.lasts - self.lasts / LAST {
            self.leave("its life ends soon", false, now);
        }
    }

    /// What is to be done about it.
    fn effects(&mut self, seen: Option<&Seen>, now: Millis, effects: &mut Vec<Effect>) {
        let wants_nothing = self.stage == Stage::Leaving || self.kept_until.is_some() && self.has_come();
        if wants_nothing && !self.memory.drained && seen.is_some_and(|seen| !seen.offer.draining) {
            effects.push(Effect::Drain { id: self.id.clone(), why: self.why.clone() });
        } else if !wants_nothing && self.memory.drained && self.has_come() {
            self.memory.drained = false;
            effects.push(Effect::Undrain { id: self.id.clone() });
        }
        if seen.is_some_and(|seen| seen.offer.draining) && wants_nothing {
            self.memory.drained = true;
        }
        if self.stage != Stage::Leaving {
            return;
        }
        // Only what is drained can be known to have nothing to do.
        self.at_once |= self.memory.drained && seen.is_none_or(|seen| seen.doing.is_empty());
        if !self.at_once {
            return;
        }
        if !self.memory.ended {
            self.memory.ended = true;
            effects.push(Effect::EndRunner { id: self.id.clone(), why: self.why.clone() });
        }
        let pause = FIRST_PAUSE.saturating_mul(1 << self.memory.removals.min(16)).min(LONGEST_PAUSE);
        let due = self.memory.remove_asked_at.is_none_or(|asked| now - asked >= pause);
        if !self.memory.removing && due {
            let memory = &mut self.memory;
            (memory.removing, memory.remove_asked_at, memory.removals) = (true, Some(now), memory.removals + 1);
            effects.push(Effect::Remove { pool: self.pool.clone(), name: self.id.clone() });
        }
    }
}
