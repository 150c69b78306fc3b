//! What brings a run back: a job started by hand, jobs asked for again.

use super::event::Refused;
use super::progress::{Back, Hold, Progress};
use super::spread::Step;
use super::state::{End, Run};
use crate::plan::WaitOn;
use std::collections::BTreeMap;

impl Step<'_> {
    /// Someone starts a job that starts by hand only. A repeat by the same person with the same inputs changes nothing.
    pub(super) fn start_by_hand(&mut self, job: usize, by: &str, inputs: &BTreeMap<String, String>) -> Result<(), Refused> {
        let entry = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        if entry.started_by.as_deref() == Some(by) && entry.inputs == *inputs {
            return Ok(()); // said twice
        }
        if entry.state().is_end() || !self.run.waits_for_hand(job) {
            return Err(Refused::NotByHand);
        }
        if self.run.gate_before(job).is_some() {
            return Err(Refused::Shut);
        }
        let entry = &mut self.run.jobs[job];
        entry.started_by = Some(by.to_owned());
        entry.inputs = inputs.clone();
        self.effects.changed.push(job);
        if matches!(entry.progress, Progress::Gated(_)) {
            self.enter(job, Progress::Waiting);
        }
        self.run.count_open();
        self.queue_if_ready(job);
        Ok(())
    }

    /// Puts jobs back to the beginning, and what follows them, and what was skipped because something failed. Their
    /// attempts stay: new ones are counted on.
    pub(super) fn again(&mut self, jobs: &[usize], by: &str, fresh: bool) -> Result<(), Refused> {
        let count = self.run.jobs.len();
        let asked: Vec<usize> = match jobs {
            [] => (0..count).filter(|&job| matches!(self.run.end_of(job), Some(End::Other(_)))).collect(),
            some => some.to_vec(),
        };
        if asked.iter().any(|&job| job >= count) {
            return Err(Refused::NoSuchJob);
        }
        if jobs.iter().any(|&job| !self.run.jobs[job].state().is_end()) {
            let repeated = jobs.iter().all(|&job| self.run.jobs[job].started_by.as_deref() == Some(by));
            return if repeated { Ok(()) } else { Err(Refused::NotEnded) };
        }
        if asked.is_empty() {
            let going = self.run.jobs.iter().any(|job| !job.state().is_end());
            return if going { Ok(()) } else { Err(Refused::NothingFailed) };
        }
        let mut back = self.run.with_followers(&asked);
        for job in (0..count).filter(|&job| back[job]) {
            self.put_back(job, fresh);
        }
        asked.iter().for_each(|&job| self.run.jobs[job].started_by = Some(by.to_owned()));
        // Gates are asked again: their numbers will be others.
        let shut = |job: &usize| matches!(self.run.jobs[*job].progress, Progress::Gated(Hold::Shut { .. }));
        for job in (0..count).filter(shut).collect::<Vec<_>>() {
            back[job] = true;
            self.enter(job, Progress::Waiting);
        }
        self.run.count();
        let waiting = || (0..count).filter(|&job| back[job]);
        for job in waiting() {
            self.skip_if_refused(job);
        }
        for job in waiting() {
            self.queue_if_ready(job);
        }
        Ok(())
    }

    /// As if the job had never run, but for the number of its attempts.
    fn put_back(&mut self, job: usize, fresh: bool) {
        let entry = &mut self.run.jobs[job];
        entry.retries = 0;
        entry.started_by = None;
        entry.fresh = fresh;
        entry.back = Back::No;
        entry.facts.clear();
        entry.numbers.clear();
        self.enter(job, Progress::Waiting);
    }
}

impl Run {
    /// The jobs a wait is for.
    pub(super) fn targets(&self, on: WaitOn) -> impl Iterator<Item = usize> {
        let (some, members) = match on {
            WaitOn::Job(on) => (on..on + 1, &[][..]),
            WaitOn::Cells(first, count) => (first..first + count, &[][..]),
            WaitOn::Stage(stage) => (0..0, &self.stages[stage].bundle.members[..]),
        };
        some.chain(members.iter().copied())
    }

    /// These jobs, all ended ones that wait for them over however many others, and what only their failure skipped.
    fn with_followers(&self, jobs: &[usize]) -> Vec<bool> {
        let count = self.jobs.len();
        let mut back = vec![false; count];
        jobs.iter().for_each(|&job| back[job] = true);
        for (job, back) in back.iter_mut().enumerate() {
            // Whether it is to be skipped again is asked when all is put back.
            *back |= self.end_of(job) == Some(End::Other(crate::language::Upon::Skipped));
        }
        let mut found: Vec<usize> = (0..count).filter(|&job| back[job]).collect();
        while let Some(job) = found.pop() {
            for follower in self.followers_of(job) {
                if !back[follower] && self.jobs[follower].state().is_end() && self.end_of(follower) != Some(End::Absent) {
                    back[follower] = true;
                    found.push(follower);
                }
            }
        }
        back
    }

    /// The jobs that wait for this one themselves, by whatever kind of wait.
    fn followers_of(&self, job: usize) -> Vec<usize> {
        let stage = self.plan.jobs[job].stage;
        let direct = self.followers[job].iter().map(|&(follower, _)| follower);
        let groups = self.group_of[job].iter().flat_map(|&group| self.groups[group].waiters.iter().map(|&(waiter, _)| waiter));
        let waiters = self.stages[stage].bundle.waiters.iter().map(|&(waiter, _)| waiter);
        let later = self.stages[stage].after.iter().flat_map(|&later| self.stages[later].bundle.members.iter().copied());
        direct.chain(groups).chain(waiters).chain(later.filter(|&member| self.plan.jobs[member].ordered)).collect()
    }
}
