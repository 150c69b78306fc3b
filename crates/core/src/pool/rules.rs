//! What a pool may do, and how it goes with it.

use crate::dispatch::{Needs, Offer};
use crate::engine::Millis;
use crate::language::Capacity;
use serde::{Deserialize, Serialize};

/// The first pause after a provider refused, and the longest; each is twice the one before.
const FIRST_PAUSE: Millis = 5_000;
const LONGEST_PAUSE: Millis = 300_000;
/// For what a job does before its first step and after its last.
const AROUND: Millis = 300_000;
/// Of so many machines it is remembered how long they took to come.
const STARTS: usize = 20;

/// What a pool may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rules {
    /// Machines at the same time, those that are leaving among them.
    pub most: usize,
    /// So many stay although there is nothing for them to do.
    pub least: usize,
    /// The longest time from asking for a machine until its runner signs on.
    pub start: Millis,
    /// How long one stays that has nothing to do.
    pub idle: Millis,
    /// How many jobs a machine does before it leaves; none: as many as come.
    pub jobs: Option<u32>,
    /// The longest life of a machine, whatever it does.
    pub lasts: Millis,
    /// What a machine costs in an hour, in millionths; none: nothing is known, and it counts as nothing.
    pub price: Option<u64>,
    /// A machine is made as large as the job asks that it is made for, at most as the pool offers.
    pub fitted: bool,
    /// How often the provider is asked what there is, while there is something.
    pub list_every: Millis,
    /// And how soon after the list before, when a machine was removed since then: until a list lacks it, it counts.
    pub list_again: Millis,
}

/// What keeps a pool from making machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    /// In the provider's words, or ours about it.
    pub why: String,
    /// How often it went wrong without once going well.
    pub times: u32,
    /// It is not tried again before.
    pub until: Millis,
    /// One machine that registers ends it; else one that is made.
    pub until_registered: bool,
}

/// How large a machine is, and how long it lives at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Size {
    pub(super) capacity: Capacity,
    pub(super) lasts: Millis,
}

/// A pool as it is now.
#[derive(Debug, Clone)]
pub struct Pool {
    pub name: String,
    pub rules: Rules,
    /// What a machine of this pool offers, as far as is known: what it was said to, or what the last one was found to have.
    pub offer: Offer,
    /// Tools of which no version was said: they count as any.
    pub any_version: Vec<String>,
    /// It makes no more, and is forgotten when its last machine is gone.
    pub ended: bool,
    pub trouble: Option<Trouble>,
    /// Why the provider's list could not be had, when that failed last.
    pub unlisted: Option<String>,
    pub(super) listing: bool,
    pub(super) listed_at: Option<Millis>,
    /// When a list was asked for last.
    pub(super) list_asked_at: Option<Millis>,
    /// How long the last machines took to come, oldest first.
    pub(super) starts: Vec<Millis>,
    /// When a machine registered last.
    pub(super) came_at: Option<Millis>,
}

impl Pool {
    pub fn new(name: &str, rules: Rules, offer: Offer, any_version: Vec<String>) -> Pool {
        Pool {
            name: name.to_owned(),
            rules,
            offer,
            any_version,
            ended: false,
            trouble: None,
            unlisted: None,
            listing: false,
            listed_at: None,
            list_asked_at: None,
            starts: Vec::new(),
            came_at: None,
        }
    }

    /// Whether a machine of this pool would do such a job.
    pub fn fits(&self, needs: &Needs) -> bool {
        if needs.tools.is_empty() || self.any_version.is_empty() {
            return self.offer.fits(needs);
        }
        let tools = needs.tools.iter().filter(|(tool, _)| !self.any_version.contains(tool)).cloned().collect();
        self.offer.fits(&Needs { tools, ..needs.clone() })
    }

    /// How long a machine takes to come: the median of the last ones, or the longest that it may take.
    pub fn usual_start(&self) -> Millis {
        let mut starts = self.starts.clone();
        starts.sort_unstable();
        starts.get(starts.len() / 2).copied().unwrap_or(self.rules.start)
    }

    /// How large a machine is that is made for this, and how long it lives at most.
    pub(super) fn size_for(&self, needs: Option<&Needs>) -> Size {
        let Rules { fitted, lasts, start, .. } = self.rules;
        match needs.filter(|_| fitted) {
            Some(needs) => {
                let own = i64::try_from(needs.time_ms).ok().filter(|ms| *ms > 0);
                // What comes before and after its steps is no part of a job's time limit.
                let whole = own.map(|ms| ms.saturating_add(start).saturating_add(AROUND));
                let capacity = needs.capacity.over(Capacity { cores: 1, ..Capacity::default() });
                Size { capacity, lasts: whole.map_or(lasts, |whole| whole.min(lasts)) }
            }
            None => Size { capacity: self.offer.capacity, lasts },
        }
    }

    /// A machine registered that took so long to come.
    pub(super) fn came(&mut self, took: Millis, now: Millis) {
        self.starts.push(took);
        if self.starts.len() > STARTS {
            self.starts.remove(0);
        }
        self.came_at = Some(now);
        self.trouble = None;
    }

    /// A machine was made: what a provider only refused it does again.
    pub(super) fn made(&mut self) {
        if self.trouble.as_ref().is_some_and(|trouble| !trouble.until_registered) {
            self.trouble = None;
        }
    }

    /// It went wrong once more: the next try waits, twice as long each time.
    pub(super) fn went_wrong(&mut self, why: &str, until_registered: bool, now: Millis) {
        // Several that were under way fail together, and are one failure.
        if let Some(trouble) = self.trouble.as_mut().filter(|trouble| trouble.until > now) {
            why.clone_into(&mut trouble.why);
            trouble.until_registered |= until_registered;
            return;
        }
        let times = self.trouble.as_ref().map_or(0, |trouble| trouble.times) + 1;
        let pause = FIRST_PAUSE.saturating_mul(1 << (times - 1).min(16)).min(LONGEST_PAUSE);
        self.trouble = Some(Trouble { why: why.to_owned(), times, until: now + pause, until_registered });
    }
}
