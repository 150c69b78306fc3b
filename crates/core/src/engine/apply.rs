//! The transitions. One event in, [`Effects`] out; a word about an attempt that was given up is [`Refused`].

use super::state::{Run, Stopper};
use super::{LOSSES_FORGIVEN, Millis, State};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The run was written down.
    Begun,
    /// A runner takes a queued job; `attempt` is one more than the job's newest.
    Claimed { job: usize, attempt: u32, runner: String },
    /// A runner says how an attempt ended. `why` is a sentence for every outcome but passed.
    Ended { job: usize, attempt: u32, outcome: Outcome, why: Option<String> },
    /// An attempt's runner fell silent or came back without it.
    Lost { job: usize, attempt: u32, why: String },
    /// Someone asks to stop one job, or with none the whole run.
    StopAsked { job: Option<usize>, by: Stopper },
}

/// How an attempt can end, as its runner sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    Passed,
    Failed,
    Stopped,
}

/// What an event did.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Effects {
    /// Jobs whose state is another now, in the order it happened.
    pub changed: Vec<usize>,
    /// Attempts that should stop: (job, attempt).
    pub stop: Vec<(usize, u32)>,
    /// Whether the run's own state is another now.
    pub run_changed: bool,
}

impl Effects {
    pub fn is_empty(&self) -> bool {
        self == &Effects::default()
    }
}

/// Why an event was not applied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    #[error("this attempt was given up and is no longer wanted")]
    Stale,
    #[error("this job cannot be taken now")]
    NotQueued,
    #[error("there is no such job in this run")]
    NoSuchJob,
}

impl Run {
    /// Applies one event. Repeating an event that was applied gives empty effects.
    pub fn apply(&mut self, event: &Event, now: Millis) -> Result<Effects, Refused> {
        let mut step = Step { run: self, now, effects: Effects::default(), skips: Vec::new() };
        match event {
            Event::Begun => step.begun(),
            Event::Claimed { job, attempt, runner } => step.claimed(*job, *attempt, runner)?,
            Event::Ended { job, attempt, outcome, why } => step.ended(*job, *attempt, *outcome, why.as_deref())?,
            Event::Lost { job, attempt, why } => step.lost(*job, *attempt, why)?,
            Event::StopAsked { job: Some(job), by } => step.stop_job(*job, by)?,
            Event::StopAsked { job: None, by } => step.stop_run(by),
        }
        step.settle();
        Ok(step.effects)
    }
}

struct Step<'r> {
    run: &'r mut Run,
    now: Millis,
    effects: Effects,
    /// Jobs that can no longer start, each with the job that is to blame.
    skips: Vec<(usize, usize)>,
}

impl Step<'_> {
    fn begun(&mut self) {
        for job in 0..self.run.jobs.len() {
            self.queue_if_ready(job);
        }
    }

    fn claimed(&mut self, job: usize, attempt: u32, runner: &str) -> Result<(), Refused> {
        let known = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        let repeated = known.attempt == attempt && known.runner.as_deref() == Some(runner);
        if repeated && attempt > 0 {
            return Ok(());
        }
        if known.state != State::Queued || attempt != known.attempt + 1 {
            return Err(Refused::NotQueued);
        }
        let entry = &mut self.run.jobs[job];
        entry.attempt = attempt;
        entry.runner = Some(runner.to_owned());
        entry.started = Some(self.now);
        self.enter(job, State::Running, None);
        Ok(())
    }

    /// The attempt that an event speaks of, if the event still counts: running gives true, a repeat false.
    fn current(&self, job: usize, attempt: u32) -> Result<bool, Refused> {
        let known = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        match known.state {
            State::Running if known.attempt == attempt => Ok(true),
            _ if known.attempt == attempt && attempt > 0 => Ok(false),
            _ => Err(Refused::Stale),
        }
    }

    fn ended(&mut self, job: usize, attempt: u32, outcome: Outcome, why: Option<&str>) -> Result<(), Refused> {
        if !self.current(job, attempt)? {
            // The same result again is fine; a result for an attempt that was counted as lost comes too late.
            let lost = matches!(self.run.jobs[job].state, State::Queued | State::Lost);
            return if lost { Err(Refused::Stale) } else { Ok(()) };
        }
        match outcome {
            Outcome::Passed => self.finish(job, State::Passed, None),
            Outcome::Failed => self.finish(job, State::Failed, why.map(str::to_owned)),
            Outcome::Stopped => {
                let by = self.run.jobs[job].stop_asked.clone();
                let sentence = by.map(|by| stopped_by(&by)).or_else(|| why.map(str::to_owned));
                self.finish(job, State::Stopped, sentence);
            }
        }
        Ok(())
    }

    fn lost(&mut self, job: usize, attempt: u32, why: &str) -> Result<(), Refused> {
        if !self.current(job, attempt)? {
            return Ok(());
        }
        let entry = &mut self.run.jobs[job];
        entry.losses += 1;
        if let Some(by) = entry.stop_asked.clone() {
            self.finish(job, State::Stopped, Some(stopped_by(&by)));
        } else if entry.losses > LOSSES_FORGIVEN {
            let sentence = format!("{why}; that was attempt {attempt}, and no more are made");
            self.finish(job, State::Lost, Some(sentence));
        } else {
            self.enter(job, State::Queued, Some(why.to_owned()));
        }
        Ok(())
    }

    fn stop_job(&mut self, job: usize, by: &str) -> Result<(), Refused> {
        let entry = self.run.jobs.get_mut(job).ok_or(Refused::NoSuchJob)?;
        if entry.state.is_end() || entry.stop_asked.is_some() {
            return Ok(());
        }
        entry.stop_asked = Some(by.to_owned());
        if entry.state == State::Running {
            let attempt = entry.attempt;
            self.effects.stop.push((job, attempt));
            self.effects.changed.push(job);
        } else {
            self.finish(job, State::Stopped, Some(stopped_by(by)));
        }
        Ok(())
    }

    fn stop_run(&mut self, by: &str) {
        for job in 0..self.run.jobs.len() {
            let _ = self.stop_job(job, by);
        }
    }

    /// Enters a state that is an end and tells all that follow.
    fn finish(&mut self, job: usize, state: State, why: Option<String>) {
        self.run.jobs[job].ended = Some(self.now);
        self.run.open -= 1;
        self.enter(job, state, why);
        if self.run.ended_well(job) {
            self.fulfil(job);
        } else {
            self.blame(job, job);
        }
    }

    fn enter(&mut self, job: usize, state: State, why: Option<String>) {
        let entry = &mut self.run.jobs[job];
        entry.state = state;
        entry.since = self.now;
        entry.why = why;
        self.effects.changed.push(job);
    }

    fn fulfil(&mut self, job: usize) {
        for follower in self.run.followers[job].clone() {
            self.meet(follower);
        }
        let stage = self.run.plan.jobs[job].stage;
        self.run.stages[stage].left -= 1;
        if self.run.stages[stage].left > 0 {
            return;
        }
        for waiter in self.run.stages[stage].waiters.clone() {
            self.meet(waiter);
        }
        for later in self.run.stages[stage].after.clone() {
            self.run.stages[later].before_left -= 1;
            if self.run.stages[later].before_left == 0 {
                self.open_gate(later);
            }
        }
    }

    fn open_gate(&mut self, stage: usize) {
        for job in self.run.stages[stage].members.clone() {
            if self.run.plan.jobs[job].ordered {
                self.meet(job);
            }
        }
    }

    fn meet(&mut self, job: usize) {
        self.run.unmet[job] -= 1;
        self.queue_if_ready(job);
    }

    fn queue_if_ready(&mut self, job: usize) {
        if self.run.unmet[job] == 0 && self.run.jobs[job].state == State::Waiting {
            self.enter(job, State::Queued, None);
        }
    }

    /// Notes all that can no longer start because `job` did not end well; `root` is the job to name as the reason.
    fn blame(&mut self, job: usize, root: usize) {
        let stage = self.run.plan.jobs[job].stage;
        self.skips.extend(self.run.followers[job].iter().map(|&follower| (follower, root)));
        if std::mem::replace(&mut self.run.stages[stage].broken, true) {
            return;
        }
        self.skips.extend(self.run.stages[stage].waiters.iter().map(|&waiter| (waiter, root)));
        for &later in &self.run.stages[stage].after {
            let ordered = self.run.stages[later].members.iter().filter(|&&member| self.run.plan.jobs[member].ordered);
            self.skips.extend(ordered.map(|&member| (member, root)));
        }
    }

    /// Carries out the skips, which may cause further ones, then looks at the run as a whole.
    fn settle(&mut self) {
        while let Some((job, root)) = self.skips.pop() {
            if self.run.jobs[job].state.is_end() {
                continue;
            }
            self.run.jobs[job].ended = Some(self.now);
            self.run.open -= 1;
            let sentence = self.because_of(root);
            self.enter(job, State::Skipped, Some(sentence));
            self.blame(job, root);
        }
        let state = self.run_state();
        if state != self.run.state {
            self.run.state = state;
            self.effects.run_changed = true;
        }
    }

    fn because_of(&self, root: usize) -> String {
        let id = &self.run.plan.jobs[root].id;
        let what = match self.run.jobs[root].state {
            State::Stopped => "was stopped",
            State::Lost => "was lost with its runner",
            _ => "failed",
        };
        format!("skipped because {id} {what}")
    }

    fn run_state(&self) -> State {
        let jobs = &self.run.jobs;
        if self.run.open > 0 {
            let begun = jobs.iter().any(|job| job.attempt > 0 || job.state.is_end());
            return if begun { State::Running } else { State::Waiting };
        }
        let counts = |job: usize| !self.run.ended_well(job);
        let any = |states: &[State]| (0..jobs.len()).any(|job| counts(job) && states.contains(&jobs[job].state));
        if any(&[State::Failed, State::Lost]) {
            State::Failed
        } else if any(&[State::Stopped]) {
            State::Stopped
        } else {
            State::Passed
        }
    }
}

fn stopped_by(by: &str) -> String {
    format!("stopped by {by}")
}
