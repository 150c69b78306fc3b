//! What is wanted of runners, and who is there: what pools look at.

use super::snapshot::Snapshot;
use ordotaxis_core::dispatch::{Offer, Want};
use ordotaxis_core::pool::{Doing, Seen, likely_end};
use std::collections::HashMap;

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
        let seen = |offer: &Offer| {
            let worked = self.worked.get(&offer.name).copied().unwrap_or_default();
            let doing = doing.remove(offer.name.as_str()).unwrap_or_default();
            Seen { offer: offer.clone(), doing, begun: worked.begun, worked_at: worked.at }
        };
        self.offers.iter().map(seen).collect()
    }
}
