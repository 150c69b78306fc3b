//! What a provider says there is, held against what is known. Lists may be old, or wrong: one of them proves little.

use super::event::{Effect, Listed};
use super::machine::{Machine, Stage};
use super::pools::{Orphan, Pools};
use crate::engine::Millis;
use std::collections::BTreeSet;

/// So many lists in a row that do not name a machine that was made, and whose runner has not come, say that it is not there.
const MISSED: u32 = 3;
/// How often a list is asked for while machines that were removed are still in it, and orphans are removed.
const SOON: Millis = 1_000;
/// And how often while there is nothing: for machines that nobody knows of.
const SELDOM: Millis = 60_000;

impl Pools {
    pub(super) fn listed(&mut self, pool: &str, asked_at: Millis, machines: &[Listed], now: Millis) {
        let Some(known) = self.pool_mut(pool) else { return };
        (known.listing, known.listed_at, known.unlisted) = (false, Some(now), None);
        let names: BTreeSet<&str> = machines.iter().map(|listed| listed.name.as_str()).collect();
        let ours: Vec<&Listed> = machines.iter().filter(|listed| self.is_ours(pool, &listed.name)).collect();
        for listed in ours {
            let key = (pool.to_owned(), listed.name.clone());
            match self.machines.get_mut(&listed.name).filter(|machine| machine.pool == pool) {
                Some(machine) if machine.stage != Stage::Gone => {
                    self.orphans.remove(&key);
                    let before = machine.clone();
                    machine.is_listed(listed, asked_at, now);
                    let after = machine.clone();
                    self.note(&before, &after, now);
                }
                _ => {
                    let known = self.orphans.entry(key).or_insert(Orphan { since: now, ended: false, removing: false, asked_at: None });
                    known.ended = listed.ended;
                }
            }
        }
        self.orphans.retain(|(of, name), _| of != pool || names.contains(name.as_str()));
        let missing = self.machines.values().filter(|machine| machine.pool == pool && !names.contains(machine.id.as_str()));
        for before in missing.cloned().collect::<Vec<_>>() {
            let mut after = before.clone();
            after.is_not_listed(asked_at, now);
            self.note(&before, &after, now);
            self.machines.insert(after.id.clone(), after);
        }
    }

    /// Lists that are due, and machines that nobody knows of.
    pub(super) fn look_around(&mut self, now: Millis, effects: &mut Vec<Effect>) {
        for at in 0..self.pools.len() {
            let name = self.pools[at].name.clone();
            let own = || self.machines.values().filter(|machine| machine.pool == name && machine.stage != Stage::Gone);
            let removed = own().filter(|machine| machine.stage == Stage::Leaving).filter_map(|machine| machine.memory.removed_at).max();
            let orphans = self.orphans.keys().any(|(pool, _)| *pool == name);
            let pool = &self.pools[at];
            let every = match (removed, orphans || own().next().is_some() || pool.unlisted.is_some()) {
                // The last list cannot know of it.
                (Some(removed), _) if pool.list_asked_at.is_none_or(|asked| asked < removed) => pool.rules.list_again,
                (Some(_), _) => pool.rules.list_every.min(SOON),
                (None, true) => pool.rules.list_every,
                (None, false) => SELDOM.max(pool.rules.list_every),
            };
            let due = pool.listed_at.is_none_or(|listed| now - listed >= every);
            if due && !pool.listing {
                (self.pools[at].listing, self.pools[at].list_asked_at) = (true, Some(now));
                effects.push(Effect::List { pool: name.clone() });
            }
            let start = self.pools[at].rules.start;
            for ((_, name), orphan) in self.orphans.iter_mut().filter(|((pool, _), _)| *pool == self.pools[at].name) {
                let again = orphan.asked_at.is_none_or(|asked| now - asked >= start.max(SOON));
                if now - orphan.since >= start && !orphan.removing && again {
                    (orphan.removing, orphan.asked_at) = (true, Some(now));
                    effects.push(Effect::Remove { pool: self.pools[at].name.clone(), name: name.clone() });
                }
            }
        }
    }

    /// A name that this service gives to machines of this pool.
    pub(super) fn is_ours(&self, pool: &str, name: &str) -> bool {
        name.strip_prefix(pool).and_then(|rest| rest.strip_prefix('-')).is_some_and(|rest| rest.starts_with(&self.mark))
    }
}

impl Machine {
    fn is_listed(&mut self, listed: &Listed, asked_at: Millis, now: Millis) {
        self.memory.missed = 0;
        self.words.clone_from(&listed.words);
        match self.stage {
            Stage::Wanted if !listed.ended => {
                self.made_at.get_or_insert(now);
                self.go(Stage::Made, "the provider has it; its runner is yet to come", now);
            }
            // One whose runner is heard is there, whatever is said of it.
            Stage::Wanted | Stage::Made if listed.ended => self.memory.listed_ended = true,
            // It was removed, and is there: it is asked for again.
            Stage::Leaving if self.memory.removed_at.is_some_and(|removed| removed <= asked_at) && !listed.ended => {
                self.memory.removed_at = None;
            }
            _ => {}
        }
        if listed.ended {
            self.is_not_there(now);
        }
    }

    /// Not in a list that was asked for at that time.
    fn is_not_listed(&mut self, asked_at: Millis, now: Millis) {
        match self.stage {
            // What was asked for, and nobody knows with what outcome, may be made yet: that is waited for.
            Stage::Made => {
                self.memory.missed += 1;
                if self.memory.missed >= MISSED {
                    self.leave("the provider does not have it", true, now);
                }
            }
            Stage::Leaving if self.memory.removed_at.is_some_and(|removed| removed <= asked_at) => self.is_not_there(now),
            _ => {}
        }
    }

    /// What is leaving, was removed, and is not there any more is gone.
    fn is_not_there(&mut self, now: Millis) {
        if self.stage == Stage::Leaving && self.memory.removed_at.is_some() {
            let why = std::mem::take(&mut self.why);
            self.gone(&why, now);
        }
    }
}
