//! All pools and their machines, as they are known.

use super::machine::{Machine, Stage};
use super::outlook::Outlooks;
use super::rules::Pool;
use crate::dispatch::{Needs, Offer};
use crate::engine::Millis;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// What is listed under a name of ours that nobody knows.
#[derive(Debug, Clone)]
pub(super) struct Orphan {
    pub(super) since: Millis,
    /// It costs nothing any more, and does not count.
    pub(super) ended: bool,
    pub(super) removing: bool,
    pub(super) asked_at: Option<Millis>,
}

/// All pools, their machines, and what providers list that nobody knows.
#[derive(Debug, Clone, Default)]
pub struct Pools {
    /// What the names of this service's machines begin with, after their pool's.
    pub(super) mark: String,
    pub(super) pools: Vec<Pool>,
    pub(super) machines: BTreeMap<String, Machine>,
    pub(super) orphans: BTreeMap<(String, String), Orphan>,
    /// Machines that are otherwise than they were written down.
    pub(super) changed: BTreeSet<String>,
    /// What queued jobs wait for, by what they need.
    pub(super) outlooks: HashMap<Arc<Needs>, Outlooks>,
}

impl Pools {
    /// With the machines that were written down and are not gone. `mark` tells this service's machines from others'.
    pub fn new(mark: &str, machines: Vec<Machine>) -> Pools {
        let machines = machines.into_iter().map(|machine| (machine.id.clone(), machine)).collect();
        Pools { mark: mark.to_owned(), machines, ..Pools::default() }
    }

    /// Sets what pools there are. What was learnt of one stays with its name; one that is not named any more ends.
    pub fn set_pools(&mut self, pools: Vec<Pool>) {
        let mut old: HashMap<String, Pool> = std::mem::take(&mut self.pools).into_iter().map(|pool| (pool.name.clone(), pool)).collect();
        let mut new: Vec<Pool> = pools
            .into_iter()
            .map(|pool| match old.remove(&pool.name) {
                Some(known) => Pool { rules: pool.rules, offer: pool.offer, any_version: pool.any_version, ended: pool.ended, ..known },
                None => pool,
            })
            .collect();
        let used = |pool: &Pool| self.machines.values().any(|machine| machine.pool == pool.name && machine.stage != Stage::Gone);
        new.extend(old.into_values().filter(used).map(|pool| Pool { ended: true, ..pool }));
        self.pools = new;
    }

    /// What a machine of this pool was found to have: that counts from now on, whatever it was said to.
    pub fn found(&mut self, pool: &str, offer: &Offer) {
        if let Some(pool) = self.pool_mut(pool) {
            let capacity = if pool.rules.fitted { pool.offer.capacity } else { offer.capacity };
            pool.offer = Offer { name: String::new(), capacity, taken: Default::default(), draining: false, ..offer.clone() };
            pool.any_version.clear();
        }
    }

    pub fn pools(&self) -> &[Pool] {
        &self.pools
    }

    /// Machines that are not gone, and those that went since [`Pools::forget_gone`], by name.
    pub fn machines(&self) -> impl Iterator<Item = &Machine> {
        self.machines.values()
    }

    pub fn machine(&self, id: &str) -> Option<&Machine> {
        self.machines.get(id)
    }

    /// What queued jobs wait for, by what they need, as of the last look.
    pub fn outlooks(&self) -> &HashMap<Arc<Needs>, Outlooks> {
        &self.outlooks
    }

    /// Machines that are otherwise than when this was asked last: they are to be written down before anything else is done.
    pub fn take_changed(&mut self) -> Vec<Machine> {
        std::mem::take(&mut self.changed).iter().filter_map(|id| self.machines.get(id).cloned()).collect()
    }

    /// Those are gone and written down.
    pub fn forget_gone(&mut self) {
        self.machines.retain(|_, machine| machine.stage != Stage::Gone);
        let used: BTreeSet<&str> = self.machines.values().map(|machine| machine.pool.as_str()).collect();
        self.pools.retain(|pool| !pool.ended || used.contains(pool.name.as_str()));
    }

    pub(super) fn pool_mut(&mut self, name: &str) -> Option<&mut Pool> {
        self.pools.iter_mut().find(|pool| pool.name == name)
    }

    /// A machine to be changed.
    pub(super) fn machine_mut(&mut self, id: &str) -> Option<&mut Machine> {
        let machine = self.machines.get_mut(id)?;
        self.changed.insert(id.to_owned());
        Some(machine)
    }
}
