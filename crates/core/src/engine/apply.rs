//! The transitions. One event in, [`Effects`] out; a word about an attempt that was given up is [`Refused`].

use super::state::{End, Run, Stopper};
use super::{LOSSES_FORGIVEN, Millis, State};
use crate::language::Upon;
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
    /// Jobs that can no longer start, each with what is to blame.
    skips: Vec<(usize, Cause)>,
}

/// Why a job cannot start any more; each names a job.
#[derive(Debug, Clone, Copy)]
enum Cause {
    /// It waits for this one.
    Ended(usize),
    /// The file says that nothing more is started after a failure.
    FileStops(usize),
    /// The job says that no cell is started after one failed.
    CellFailed(usize),
}

impl Step<'_> {
    fn begun(&mut self) {
        let plan = self.run.plan.clone();
        for (job, planned) in plan.jobs.iter().enumerate() {
            if planned.skipped.is_some() && !self.run.jobs[job].state.is_end() {
                self.finish(job, State::Skipped, planned.skipped.clone());
            }
        }
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
        self.finish_because(job, state, why, Cause::Ended(job));
    }

    fn finish_because(&mut self, job: usize, state: State, why: Option<String>, cause: Cause) {
        self.run.jobs[job].ended = Some(self.now);
        self.run.open -= 1;
        self.enter(job, state, why);
        let Some(end) = self.run.end_of(job) else { return };
        // Of a chain of skips the first cause is named; those told of a failure's halt name what halted.
        let cause = match (end, cause) {
            (End::Other(Upon::Skipped), Cause::Ended(root)) => Cause::Ended(root),
            _ => Cause::Ended(job),
        };
        self.tell_followers(job, end, cause);
        self.tell_stage(job, end, cause);
        for group in self.run.group_of[job].clone() {
            self.tell_group(group, end, cause);
        }
        if end == End::Other(Upon::Failed) || end == End::Other(Upon::Lost) {
            self.halt(job);
        }
    }

    fn enter(&mut self, job: usize, state: State, why: Option<String>) {
        let entry = &mut self.run.jobs[job];
        entry.state = state;
        entry.since = self.now;
        entry.why = why;
        self.effects.changed.push(job);
    }

    fn tell_followers(&mut self, job: usize, end: End, cause: Cause) {
        for (follower, wait) in self.run.followers[job].clone() {
            match self.run.accepts(follower, Some(wait), end) {
                true => self.meet(follower),
                false => self.skips.push((follower, cause)),
            }
        }
    }

    fn tell_group(&mut self, group: usize, end: End, cause: Cause) {
        let (all_ended, news, waiters) = self.run.groups[group].member_ended(end);
        self.tell_waiters(&waiters, end, cause, all_ended, news);
    }

    fn tell_stage(&mut self, job: usize, end: End, cause: Cause) {
        let stage = self.run.plan.jobs[job].stage;
        let (all_ended, news, waiters) = self.run.stages[stage].bundle.member_ended(end);
        self.tell_waiters(&waiters, end, cause, all_ended, news);
        for later in self.run.stages[stage].after.clone() {
            if news {
                let members = self.run.stages[later].bundle.members.iter();
                let refusing = members.filter(|&&member| self.run.plan.jobs[member].ordered && !self.run.accepts(member, None, end));
                self.skips.extend(refusing.map(|&member| (member, cause)));
            }
            if all_ended {
                self.run.stages[later].before_left -= 1;
                if self.run.stages[later].before_left == 0 {
                    self.open_gate(later);
                }
            }
        }
    }

    fn tell_waiters(&mut self, waiters: &[(usize, usize)], end: End, cause: Cause, all_ended: bool, news: bool) {
        for &(waiter, wait) in waiters {
            if news && !self.run.accepts(waiter, Some(wait), end) {
                self.skips.push((waiter, cause));
            } else if all_ended {
                self.meet(waiter);
            }
        }
    }

    /// After a failure: what the file or the job's matrix no longer wants started.
    fn halt(&mut self, job: usize) {
        let plan = self.run.plan.clone();
        let unstarted = |run: &Run, other: usize| matches!(run.jobs[other].state, State::Waiting | State::Queued);
        if plan.stops_at_failure {
            // What is there for failures is still wanted.
            let unwanted =
                (0..plan.jobs.len()).filter(|&other| unstarted(self.run, other) && !plan.jobs[other].upon.contains(&Upon::Failed));
            self.skips.extend(unwanted.map(|other| (other, Cause::FileStops(job))));
        }
        if plan.jobs[job].halts_cells {
            let cells = self.run.cells_of(job).filter(|&other| unstarted(self.run, other));
            self.skips.extend(cells.map(|other| (other, Cause::CellFailed(job))));
        }
    }

    fn open_gate(&mut self, stage: usize) {
        for job in self.run.stages[stage].bundle.members.clone() {
            if self.run.plan.jobs[job].ordered {
                self.meet(job);
            }
        }
    }

    fn meet(&mut self, job: usize) {
        self.run.unmet[job] = self.run.unmet[job].saturating_sub(1);
        self.queue_if_ready(job);
    }

    fn queue_if_ready(&mut self, job: usize) {
        if self.run.unmet[job] == 0 && self.run.jobs[job].state == State::Waiting {
            self.enter(job, State::Queued, None);
        }
    }

    /// Carries out the skips, which may cause further ones, then looks at the run as a whole.
    fn settle(&mut self) {
        while let Some((job, cause)) = self.skips.pop() {
            if matches!(self.run.jobs[job].state, State::Waiting | State::Queued) {
                let sentence = self.because_of(cause);
                self.finish_because(job, State::Skipped, Some(sentence), cause.root());
            }
        }
        let state = self.run_state();
        if state != self.run.state {
            self.run.state = state;
            self.effects.run_changed = true;
        }
    }

    fn because_of(&self, cause: Cause) -> String {
        let (Cause::Ended(root) | Cause::FileStops(root) | Cause::CellFailed(root)) = cause;
        let id = &self.run.plan.jobs[root].id;
        let what = match self.run.jobs[root].state {
            State::Stopped => "was stopped",
            State::Lost => "was lost with its runner",
            State::Skipped => "was skipped, and something is taken from it",
            State::Passed | State::Reused => "passed",
            _ => "failed",
        };
        match cause {
            Cause::Ended(_) => format!("skipped because {id} {what}"),
            Cause::FileStops(_) => format!("skipped because {id} {what}, and the file says keep_going = false"),
            Cause::CellFailed(_) => format!("skipped because {id} {what}, and its other cells do not go on"),
        }
    }

    fn run_state(&self) -> State {
        let jobs = &self.run.jobs;
        if self.run.open > 0 {
            let begun = (0..jobs.len()).any(|job| jobs[job].attempt > 0 || self.run.end_of(job).is_some_and(|end| end != End::Absent));
            return if begun { State::Running } else { State::Waiting };
        }
        let counts = |job: usize| self.run.end_of(job) != Some(End::Well);
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

impl Cause {
    /// The same job, as the cause for those that wait for what was skipped.
    fn root(self) -> Cause {
        let (Cause::Ended(root) | Cause::FileStops(root) | Cause::CellFailed(root)) = self;
        Cause::Ended(root)
    }
}

fn stopped_by(by: &str) -> String {
    format!("stopped by {by}")
}
