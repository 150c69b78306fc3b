//! The transitions. One event in, [`Effects`] out; a word about an attempt that was given up is [`Refused`]. What follows
//! from an end is in `spread`, what brings an ended run back in `returns`.

use super::event::{Effects, Event, Outcome, Refused};
use super::numbers::Numbers;
use super::progress::{Back, Cut, Hold, Progress};
use super::retry::{Ended, again_in};
use super::spread::Step;
use super::state::Run;
use super::{Millis, State};
use std::collections::BTreeMap;

impl Run {
    /// Applies one event. Repeating an event that was applied gives empty effects.
    ///
    /// ```
    /// use ordotaxis_core::engine::{Event, Outcome, Run, State};
    /// use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};
    /// let text = "language = 1\n[job.build.gauge]\nsteps = ['make']\n";
    /// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
    /// let mut run = Run::new(plan(source, &Occasion::push("main")).expect("a plan").plan.into(), 0);
    /// run.apply(&Event::Begun, 1).expect("it begins");
    /// run.apply(&Event::Claimed { job: 0, attempt: 1, runner: "quay".into() }, 2).expect("it is queued");
    /// let passed = Event::Ended { job: 0, attempt: 1, outcome: Outcome::Passed, exit_code: Some(0), why: None };
    /// assert_eq!(run.apply(&passed, 3).expect("it runs").changed, [0]);
    /// assert_eq!(run.state(), State::Passed);
    /// assert!(run.apply(&passed, 4).expect("a repeat").is_empty());
    /// ```
    pub fn apply(&mut self, event: &Event, now: Millis) -> Result<Effects, Refused> {
        let mut step = Step::new(self, now);
        match event {
            Event::Begun => step.begun(),
            Event::Claimed { job, attempt, runner } => step.claimed(*job, *attempt, runner)?,
            Event::WorkBegun { job, attempt, at } => step.work_begun(*job, *attempt, *at)?,
            Event::GivenBack { job, attempt, since } => step.given_back(*job, *attempt, *since)?,
            Event::Said { job, attempt, facts, numbers } => step.said(*job, *attempt, facts, numbers)?,
            Event::Reused { job, from, facts, numbers } => step.reused(*job, from, facts, numbers)?,
            Event::Ended { job, attempt, outcome, exit_code, why } => {
                step.ended(*job, *attempt, Ended { outcome: *outcome, exit_code: *exit_code }, why.as_deref())?;
            }
            Event::Lost { job, attempt, why } => step.lost(*job, *attempt, why)?,
            Event::PauseOver { job } => step.pause_over(*job)?,
            Event::StopAsked { job: Some(job), by } => step.stop_job(*job, by)?,
            Event::StopAsked { job: None, by } => step.stop_run(by),
            Event::StartAsked { job, by, inputs } => step.start_by_hand(*job, by, inputs)?,
            Event::Again { jobs, by, fresh } => step.again(jobs, by, *fresh)?,
            Event::Overtaken { by } => step.overtake(by),
            Event::HeldBack { job, holds } => step.held_back(*job, holds)?,
            Event::LetIn { job, back } => step.let_in(*job, *back)?,
            Event::Refused { job, why } => step.kept_out(*job, Progress::Refused { why: why.clone() })?,
            Event::Replaced { job, by } => step.kept_out(*job, Progress::Overtaken { by: by.clone() })?,
        }
        Ok(step.settle())
    }
}

impl Step<'_> {
    /// Skips what the plan says will not run, and queues what waits for nothing.
    fn begun(&mut self) {
        let plan = self.run.plan.clone();
        for (job, planned) in plan.jobs.iter().enumerate() {
            if let Some(why) = planned.skipped.clone().filter(|_| !self.run.jobs[job].state().is_end()) {
                self.finish(job, Progress::Skipped { why, unwanted: false });
            }
        }
        for job in 0..self.run.jobs.len() {
            self.queue_if_ready(job);
        }
    }

    /// A runner takes a job. A repeat by the same runner changes nothing; anyone else comes too late.
    fn claimed(&mut self, job: usize, attempt: u32, runner: &str) -> Result<(), Refused> {
        let known = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        let repeated = known.attempt == attempt && known.runner.as_deref() == Some(runner);
        if repeated && attempt > 0 {
            return Ok(());
        }
        let free = matches!(known.progress, Progress::Queued { not_before: None, .. });
        if !free || attempt != known.attempt + 1 {
            return Err(Refused::NotQueued);
        }
        let entry = &mut self.run.jobs[job];
        entry.attempt = attempt;
        entry.runner = Some(runner.to_owned());
        entry.started = Some(self.now);
        self.enter(job, Progress::Running { cut: None });
        Ok(())
    }

    /// The time of a running attempt counts from then on. Nothing else changes, so nobody is notified.
    fn work_begun(&mut self, job: usize, attempt: u32, at: Millis) -> Result<(), Refused> {
        if self.current(job, attempt)? {
            let entry = &mut self.run.jobs[job];
            entry.since = entry.since.max(at);
            entry.started = Some(entry.since);
        }
        Ok(())
    }

    /// A job's first attempt, with which nobody has begun, is as if it had not been taken: the job is queued, or ends if
    /// it was to end meanwhile.
    fn given_back(&mut self, job: usize, attempt: u32, since: Millis) -> Result<(), Refused> {
        let known = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        if known.attempt == 0 && attempt == 1 {
            return Ok(());
        }
        if known.state() != State::Running || known.attempt != 1 || attempt != 1 {
            return Err(Refused::Stale);
        }
        let entry = &mut self.run.jobs[job];
        entry.attempt = 0;
        entry.runner = None;
        entry.started = None;
        match entry.progress.cut() {
            Some(_) => self.cut_off(job, None),
            None => {
                self.enter(job, Progress::queued());
                self.run.jobs[job].since = since.min(self.now);
            }
        }
        Ok(())
    }

    /// Facts and numbers are added; one that is said twice has its last value.
    fn said(&mut self, job: usize, attempt: u32, facts: &BTreeMap<String, String>, numbers: &Numbers) -> Result<(), Refused> {
        if self.current(job, attempt)? {
            let entry = &mut self.run.jobs[job];
            entry.facts.extend(facts.clone());
            entry.numbers.extend(numbers.clone());
            self.run.with_facts.insert(job);
            self.effects.changed.push(job);
        }
        Ok(())
    }

    /// A queued job ends with an earlier result, unless it was asked for with nothing kept.
    fn reused(&mut self, job: usize, from: &str, facts: &BTreeMap<String, String>, numbers: &Numbers) -> Result<(), Refused> {
        let entry = self.run.jobs.get_mut(job).ok_or(Refused::NoSuchJob)?;
        if matches!(&entry.progress, Progress::Reused { from: known } if known == from) {
            return Ok(());
        }
        if entry.state() != State::Queued || entry.fresh {
            return Err(Refused::NotQueued);
        }
        entry.facts = facts.clone();
        entry.numbers = numbers.clone();
        self.run.with_facts.insert(job);
        self.finish(job, Progress::Reused { from: from.to_owned() });
        Ok(())
    }

    /// A job that paused may go on.
    fn pause_over(&mut self, job: usize) -> Result<(), Refused> {
        let entry = self.run.jobs.get_mut(job).ok_or(Refused::NoSuchJob)?;
        match &mut entry.progress {
            Progress::Queued { not_before: pause @ Some(_), .. } => {
                *pause = None;
                self.effects.changed.push(job);
            }
            Progress::Gated(Hold::Rests { .. }) => self.rested(job),
            _ => {}
        }
        Ok(())
    }

    /// The attempt that an event speaks of, if the event still counts: running gives true, a repeat false.
    fn current(&self, job: usize, attempt: u32) -> Result<bool, Refused> {
        let known = self.run.jobs.get(job).ok_or(Refused::NoSuchJob)?;
        match known.state() {
            State::Running if known.attempt == attempt => Ok(true),
            _ if known.attempt == attempt && attempt > 0 => Ok(false),
            _ => Err(Refused::Stale),
        }
    }

    /// The newest attempt has ended: the job ends with it, or is tried again.
    fn ended(&mut self, job: usize, attempt: u32, end: Ended, why: Option<&str>) -> Result<(), Refused> {
        if !self.current(job, attempt)? {
            // The same result again is fine; a result for an attempt that was counted as lost comes too late.
            let lost = matches!(self.run.jobs[job].state(), State::Waiting | State::Queued | State::Lost);
            return if lost { Err(Refused::Stale) } else { Ok(()) };
        }
        match end.outcome {
            Outcome::Passed => {
                if !self.too_late(job) {
                    let end = self.end_with_back(job, None);
                    self.finish(job, end);
                }
            }
            Outcome::Stopped => self.cut_off(job, why),
            Outcome::Failed | Outcome::TimedOut => {
                let why = why.unwrap_or("it failed").to_owned();
                if !self.try_again(job, end.words(), &why) && !self.go_back(job, &why) {
                    let end = self.end_with_back(job, Some(why));
                    self.finish(job, end);
                }
            }
        }
        Ok(())
    }

    /// An attempt ended because someone, or a newer commit, wanted that.
    fn cut_off(&mut self, job: usize, why: Option<&str>) {
        let end = match self.run.jobs[job].progress.cut() {
            Some(Cut::Stopped { by }) => Progress::stopped_by(by),
            Some(Cut::Overtaken { by }) => Progress::Overtaken { by: by.clone() },
            None => Progress::Stopped { why: why.unwrap_or("its runner stopped it").to_owned() },
        };
        self.finish(job, end);
    }

    /// The newest attempt's runner is gone: the job is tried elsewhere, or is lost.
    fn lost(&mut self, job: usize, attempt: u32, why: &str) -> Result<(), Refused> {
        if !self.current(job, attempt)? {
            return Ok(());
        }
        if self.run.jobs[job].progress.cut().is_some() {
            self.cut_off(job, None);
        } else if !self.try_again(job, vec!["lost".to_owned()], why) {
            self.finish(job, Progress::Lost { why: why.to_owned() });
        }
        Ok(())
    }

    /// Queues a job once more if its `retry` names one of these outcomes and tries are left.
    fn try_again(&mut self, job: usize, outcomes: Vec<String>, why: &str) -> bool {
        let entry = &self.run.jobs[job];
        let unwanted = entry.progress.cut().is_some();
        let plan = self.run.plan.clone();
        let retry = plan.jobs[job].extras.as_ref().and_then(|extras| extras.retry.as_ref());
        let Some(pause) = retry.filter(|_| !unwanted).and_then(|retry| again_in(retry, &outcomes, entry.retries)) else { return false };
        let entry = &mut self.run.jobs[job];
        entry.retries += 1;
        let not_before = (pause > 0).then_some(self.now + pause);
        self.enter(job, Progress::Queued { not_before, after: Some(why.to_owned()) });
        true
    }

    /// What runs is asked to stop, and ends when its runner says so; what has not started is stopped at once.
    fn stop_job(&mut self, job: usize, by: &str) -> Result<(), Refused> {
        let entry = self.run.jobs.get_mut(job).ok_or(Refused::NoSuchJob)?;
        let end = Progress::stopped_by(by);
        match &mut entry.progress {
            Progress::Running { cut: Some(Cut::Stopped { .. }) } => {}
            Progress::Running { cut } => {
                *cut = Some(Cut::Stopped { by: by.to_owned() });
                self.cut(job);
            }
            progress if progress.state().is_end() => {}
            _ => self.finish(job, end),
        }
        Ok(())
    }

    fn stop_run(&mut self, by: &str) {
        for job in 0..self.run.jobs.len() {
            let _ = self.stop_job(job, by);
        }
    }

    /// What has not started never will; what runs is cut off, unless it changes an environment.
    fn overtake(&mut self, by: &str) {
        let plan = self.run.plan.clone();
        for job in 0..plan.jobs.len() {
            let goes_back = matches!(self.run.jobs[job].back, Back::Goes { .. });
            match &mut self.run.jobs[job].progress {
                Progress::Running { cut: Some(_) } => {}
                Progress::Running { .. } if plan.deploys(job) => {}
                Progress::Running { cut } => {
                    *cut = Some(Cut::Overtaken { by: by.to_owned() });
                    self.cut(job);
                }
                progress if progress.state().is_end() => {}
                // What it has changed is to be as before.
                _ if goes_back => {}
                _ => self.finish(job, Progress::Overtaken { by: by.to_owned() }),
            }
        }
    }

    /// Asks the runner of a job to stop its newest attempt.
    fn cut(&mut self, job: usize) {
        self.effects.stop.push((job, self.run.jobs[job].attempt));
        self.effects.changed.push(job);
    }
}
