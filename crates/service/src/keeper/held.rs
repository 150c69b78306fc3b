//! Attempts that runners hold: by attempt, by runner, by slot, and how many of each project. Each is asked for at every
//! claim and at every beat, so none may be found by walking through all.

use ordotaxis_core::language::Capacity;
use ordotaxis_store::AttemptRow;
use ordotaxis_wire::runner::AttemptId;
use std::collections::{BTreeSet, HashMap};
use std::time::{Duration, Instant};

/// An attempt that a runner works on, and until when its lease lasts.
pub(super) struct Held {
    pub(super) row: AttemptRow,
    /// When its lease runs out.
    pub(super) until: Instant,
    pub(super) project: i64,
    /// What its job has of the machine for itself.
    pub(super) capacity: Capacity,
    /// Since when the job had been queued, if it was leased ahead of time and, as far as is known, nobody has begun with it.
    pub(super) ahead: Option<i64>,
}

/// All leased attempts, found by attempt, by runner, by slot, and counted by project. The four always agree.
#[derive(Default)]
pub(super) struct HeldAttempts {
    all: HashMap<AttemptId, Held>,
    of_runner: HashMap<String, BTreeSet<AttemptId>>,
    /// In the order in which they were leased: the first is worked on, the second is in hand.
    of_slot: HashMap<(String, u32), Vec<AttemptId>>,
    of_project: HashMap<i64, usize>,
}

impl HeldAttempts {
    /// Adds an attempt; one that was there is replaced.
    pub(super) fn insert(&mut self, attempt: AttemptId, held: Held) {
        self.remove(attempt);
        self.of_runner.entry(held.row.runner.clone()).or_default().insert(attempt);
        self.of_slot.entry((held.row.runner.clone(), held.row.slot)).or_default().push(attempt);
        *self.of_project.entry(held.project).or_default() += 1;
        self.all.insert(attempt, held);
    }

    /// Takes an attempt out; none when it is not leased.
    pub(super) fn remove(&mut self, attempt: AttemptId) -> Option<Held> {
        let held = self.all.remove(&attempt)?;
        if let Some(attempts) = self.of_runner.get_mut(&held.row.runner) {
            attempts.remove(&attempt);
            if attempts.is_empty() {
                self.of_runner.remove(&held.row.runner);
            }
        }
        let slot = (held.row.runner.clone(), held.row.slot);
        if let Some(attempts) = self.of_slot.get_mut(&slot) {
            attempts.retain(|other| *other != attempt);
            if attempts.is_empty() {
                self.of_slot.remove(&slot);
            }
        }
        if let Some(count) = self.of_project.get_mut(&held.project) {
            *count -= 1;
            if *count == 0 {
                self.of_project.remove(&held.project);
            }
        }
        Some(held)
    }

    /// The lease of an attempt, whoever has it.
    pub(super) fn get(&self, attempt: AttemptId) -> Option<&Held> {
        self.all.get(&attempt)
    }

    /// One that this runner holds.
    pub(super) fn get_of(&mut self, runner: &str, attempt: AttemptId) -> Option<&mut Held> {
        self.all.get_mut(&attempt).filter(|held| held.row.runner == runner)
    }

    /// Notes that its runner has begun with it. False when that is known, or when it is not leased.
    pub(super) fn begin(&mut self, attempt: AttemptId, now: i64) -> bool {
        let Some(held) = self.all.get_mut(&attempt).filter(|held| held.ahead.is_some()) else { return false };
        held.ahead = None;
        held.row.started_at = now;
        true
    }

    /// Of attempts that were read back: each slot works on the one that it was leased first, and has the others in hand.
    pub(super) fn tell_ahead(&mut self) {
        for attempts in self.of_slot.values_mut() {
            attempts.sort_by_key(|attempt| (self.all.get(attempt).map(|held| held.row.started_at), *attempt));
            for attempt in attempts.iter().skip(1) {
                if let Some(held) = self.all.get_mut(attempt) {
                    held.ahead = Some(held.row.started_at);
                }
            }
        }
    }

    /// All of them, in no particular order.
    pub(super) fn iter(&self) -> impl Iterator<Item = (AttemptId, &Held)> {
        self.all.iter().map(|(attempt, held)| (*attempt, held))
    }

    /// What a runner holds, in the order of the attempts.
    pub(super) fn of_runner(&self, runner: &str) -> impl Iterator<Item = (AttemptId, &Held)> {
        self.of_runner.get(runner).into_iter().flatten().filter_map(|attempt| Some((*attempt, self.all.get(attempt)?)))
    }

    /// How many slots of a runner are busy.
    pub(super) fn busy(&self, runner: &str) -> usize {
        self.of_runner(runner).filter(|(_, held)| held.ahead.is_none()).count()
    }

    /// What the jobs that a runner works on have of its machine for themselves.
    pub(super) fn taken(&self, runner: &str) -> Capacity {
        let working = self.of_runner(runner).filter(|(_, held)| held.ahead.is_none());
        working.fold(Capacity::default(), |sum, (_, held)| sum.and(held.capacity))
    }

    /// What a slot holds, in the order in which it was leased.
    pub(super) fn of_slot(&self, runner: &str, slot: u32) -> &[AttemptId] {
        self.of_slot.get(&(runner.to_owned(), slot)).map_or(&[], Vec::as_slice)
    }

    /// How many jobs of a project run.
    pub(super) fn running(&self, project: i64) -> usize {
        self.of_project.get(&project).copied().unwrap_or(0)
    }

    /// Lengthens every lease by as much, or to this moment where that is later.
    pub(super) fn lengthen(&mut self, by: Duration, at_least_to: Option<Instant>) {
        for held in self.all.values_mut() {
            held.until = at_least_to.map_or(held.until + by, |moment| held.until.max(moment));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// This job is only ever in hand.
    const AHEAD: usize = 4;

    fn held(runner: usize, job: usize, project: i64) -> Held {
        let row = AttemptRow {
            run_id: 1,
            job: 0,
            number: 1,
            runner: format!("quay-{runner}"),
            session: String::new(),
            slot: u32::from(job % 2 == 1),
            state: String::new(),
            why: None,
            exit_code: None,
            started_at: 0,
            queued_at: None,
            ended_at: None,
            phases: String::new(),
            caches: String::new(),
            job_id: None,
        };
        Held {
            row,
            until: Instant::now(),
            project,
            capacity: Capacity { cores: 1, ..Capacity::default() },
            ahead: (job == AHEAD).then_some(0),
        }
    }

    proptest! {
        /// Whatever comes and goes: all ways of looking agree with a plain list.
        #[test]
        fn every_way_of_looking_agrees(steps in prop::collection::vec((0..6usize, prop::option::of((0..3usize, 0..3i64))), 0..40)) {
            let (mut ours, mut plain) = (HeldAttempts::default(), HashMap::new());
            for (job, put) in steps {
                let attempt = AttemptId { run: 1, job, attempt: 1 };
                match put {
                    Some((runner, project)) => {
                        ours.insert(attempt, held(runner, job, project));
                        plain.insert(attempt, (runner, project));
                    }
                    None => prop_assert_eq!(ours.remove(attempt).is_some(), plain.remove(&attempt).is_some()),
                }
                for at in 0..3 {
                    let name = format!("quay-{at}");
                    let mut mine: Vec<AttemptId> = plain.iter().filter(|(_, (runner, _))| *runner == at).map(|(attempt, _)| *attempt).collect();
                    mine.sort();
                    prop_assert_eq!(ours.of_runner(&name).map(|(attempt, _)| attempt).collect::<Vec<_>>(), mine.clone());
                    prop_assert_eq!(ours.busy(&name), mine.len() - mine.iter().filter(|attempt| attempt.job == AHEAD).count());
                    prop_assert_eq!(ours.taken(&name).cores as usize, ours.busy(&name));
                    let mut of_slots: Vec<AttemptId> = (0..2).flat_map(|slot| ours.of_slot(&name, slot).to_vec()).collect();
                    of_slots.sort();
                    prop_assert_eq!(of_slots, mine.clone());
                    let project = i64::try_from(at).expect("a small number");
                    prop_assert_eq!(ours.running(project), plain.values().filter(|(_, of)| *of == project).count());
                }
                prop_assert_eq!(ours.iter().count(), plain.len());
            }
        }
    }
}
