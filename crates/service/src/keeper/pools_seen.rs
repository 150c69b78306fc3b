//! What pools see of the keeper, and it of them: who works, what is wanted, and what queued jobs wait for there.

use super::snapshot::Snapshot;
use ordotaxis_core::dispatch::{Needs, Want};
use ordotaxis_core::pool::{Doing, Outlooks, Seen, likely_end};
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

/// What a runner has done since it signed on.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Worked {
    /// How many jobs it has begun.
    pub(crate) begun: u32,
    /// When it last began or ended one.
    pub(crate) at: Option<i64>,
}

impl Worked {
    pub(super) fn begins(&mut self, at: i64) {
        (self.begun, self.at) = (self.begun.saturating_add(1), Some(at));
    }
}

/// What queued jobs wait for in pools, by what they need.
pub(crate) type Waits = HashMap<Arc<Needs>, Outlooks>;

/// Where pools put what they think, and readers find it.
#[derive(Clone, Default)]
pub(crate) struct PoolsSeen(Arc<RwLock<Arc<Waits>>>);

impl PoolsSeen {
    pub(crate) fn set(&self, outlooks: Waits) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(outlooks);
    }

    pub(super) fn now(&self) -> Arc<Waits> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Snapshot {
    /// What is wanted of runners.
    pub(crate) fn wants(&self) -> Vec<Want> {
        self.queue.wants(|turn| self.turns.holder(turn).is_some())
    }

    /// Every connected runner, and what it does.
    pub(crate) fn seen_runners(&self) -> Vec<Seen> {
        let mut doing: HashMap<&str, Vec<Doing>> = HashMap::new();
        for held in &self.held {
            let Some(live) = self.runs.get(&held.attempt.run) else { continue };
            let usual = live.usual.get(held.attempt.job).copied().filter(|_| live.usual_known);
            let ends_at = usual.map(|usual| likely_end(held.started_at, usual, self.now));
            doing.entry(&held.runner).or_default().push(Doing { ends_at, capacity: live.needs(held.attempt.job).capacity });
        }
        let seen = |offer: &ordotaxis_core::dispatch::Offer| {
            let worked = self.worked.get(&offer.name).copied().unwrap_or_default();
            let doing = doing.remove(offer.name.as_str()).unwrap_or_default();
            Seen { offer: offer.clone(), doing, begun: worked.begun, worked_at: worked.at }
        };
        self.offers.iter().map(seen).collect()
    }
}
