//! Jobs that deploy: each waits, ready, until its environment lets it in. Why it does not yet, and whether it ever will, is
//! decided in [`crate::delivery`]; here is what follows for the run.

use super::event::Refused;
use super::progress::{Back, Hold, Progress};
use super::spread::Step;
use super::state::Run;
use crate::delivery;
use crate::plan::Plan;
use crate::template::Slot;

impl Plan {
    /// Whether a job puts something into an environment, or takes it away from there.
    pub fn deploys(&self, job: usize) -> bool {
        let extras = self.jobs.get(job).and_then(|job| job.extras.as_ref());
        extras.is_some_and(|extras| extras.deploys.is_some() || extras.closes.is_some())
    }

    /// Whether a job takes away what is in its environment.
    pub fn closes(&self, job: usize) -> bool {
        self.jobs.get(job).and_then(|job| job.extras.as_ref()).is_some_and(|extras| extras.closes.is_some())
    }

    /// The environment that a job deploys to, where no fact of another job is part of its name.
    pub fn environment(&self, job: usize) -> Option<String> {
        named(self, job, |_, _| None)?.ok()
    }
}

/// The name that a job's `deploys` makes with these facts; an error says why it makes none.
fn named(plan: &Plan, job: usize, fact: impl Fn(&str, &str) -> Option<String>) -> Option<Result<String, String>> {
    let extras = plan.jobs.get(job)?.extras.as_ref()?;
    let text = &extras.deploys.as_ref().or(extras.closes.as_ref())?.0.value;
    let filled = text.fill(|slot| match slot {
        Slot::Project => plan.occasion.project.clone(),
        Slot::Commit => plan.occasion.commit.clone(),
        Slot::Fact(of, name) => fact(of, name),
        _ => None,
    });
    Some(match filled.plain() {
        Some(plain) => delivery::environment_name(&plain).map_err(|why| format!("`deploys` makes no name: {why}")),
        None => Err(format!("`deploys` needs what is not known here: `{}`", filled.source())),
    })
}

impl Run {
    /// The environment that a job puts something into, as its name is known by now. None: it deploys nowhere. An error says
    /// why it makes no name.
    pub fn environment(&self, job: usize) -> Option<Result<String, String>> {
        if !self.plan.deploys(job) {
            return None;
        }
        let facts = self.facts_for(job);
        named(&self.plan, job, |of, name| {
            let (stage, job) = of.split_once('.')?;
            facts.get(&(stage.to_owned(), job.to_owned(), name.to_owned())).cloned()
        })
    }

    /// Whether a job was ready, or could be: all that it waits for ended well, and the gate before it is open.
    pub fn was_ready(&self, job: usize) -> bool {
        let plan = self.plan();
        let known = plan.jobs.get(job).is_some_and(|planned| planned.skipped.is_none());
        let skipped = known && matches!(self.jobs[job].progress, Progress::Skipped { .. });
        known && !skipped && self.unmet[job] == 0 && self.gate_before(job).is_none()
    }

    /// Whether a job waits for its environment.
    pub fn wants_in(&self, job: usize) -> bool {
        self.jobs.get(job).is_some_and(|job| matches!(job.progress, Progress::Gated(Hold::Environment { .. })))
    }
}

impl Step<'_> {
    /// It still waits, for these reasons: since when it waits stays.
    pub(super) fn held_back(&mut self, job: usize, now: &[delivery::Hold]) -> Result<(), Refused> {
        let entry = self.run.jobs.get_mut(job).ok_or(Refused::NoSuchJob)?;
        let Progress::Gated(Hold::Environment { holds }) = &mut entry.progress else { return Ok(()) };
        if holds != now {
            *holds = now.to_vec();
            self.effects.changed.push(job);
            self.run.count_open();
        }
        Ok(())
    }

    /// It is queued, and counts as part of the run again.
    pub(super) fn let_in(&mut self, job: usize, back: bool) -> Result<(), Refused> {
        if self.waits_for_environment(job)? {
            // What takes back what it put there goes on with that.
            if !matches!(self.run.jobs[job].back, Back::Goes { .. }) {
                self.run.jobs[job].back = if back { Back::May } else { Back::No };
            }
            self.enter(job, Progress::queued());
            self.run.count_open();
        }
        Ok(())
    }

    pub(super) fn kept_out(&mut self, job: usize, end: Progress) -> Result<(), Refused> {
        if self.waits_for_environment(job)? {
            let end = match (&self.run.jobs[job].back, end.why()) {
                (Back::Goes { why }, Some(kept)) => Progress::Failed { why: format!("{why}; what was there before stays away: {kept}") },
                _ => end,
            };
            self.finish(job, end);
        }
        Ok(())
    }

    fn waits_for_environment(&self, job: usize) -> Result<bool, Refused> {
        if job < self.run.jobs.len() { Ok(self.run.wants_in(job)) } else { Err(Refused::NoSuchJob) }
    }
}
