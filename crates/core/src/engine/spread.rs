//! What an end leads to: those that waited are queued or skipped, skips lead to further skips, and in the end the run
//! itself has a verdict.

use super::event::Effects;
use super::late::Late;
use super::progress::{Hold, Progress};
use super::state::{End, Run};
use super::{Millis, State};
use crate::language::Upon;

/// One event being applied.
pub(super) struct Step<'r> {
    pub(super) run: &'r mut Run,
    pub(super) now: Millis,
    pub(super) effects: Effects,
    /// Jobs that can no longer start, each with what is to blame.
    skips: Vec<(usize, Cause)>,
    /// Jobs whose own condition, decided late, keeps them from starting: how they end.
    unwanted: Vec<(usize, Progress)>,
    /// Cells of roll-outs that have ended.
    pub(super) ended_cells: Vec<usize>,
    /// The cell whose rest is over.
    pub(super) rested: Option<usize>,
}

/// Why a job cannot start any more; each names a job.
#[derive(Debug, Clone, Copy)]
pub(super) enum Cause {
    /// It waits for this one.
    Ended(usize),
    /// The file says that nothing more is started after a failure.
    FileStops(usize),
    /// The job says that no cell is started after one failed.
    CellFailed(usize),
}

impl<'r> Step<'r> {
    pub(super) fn new(run: &'r mut Run, now: Millis) -> Step<'r> {
        Step { run, now, effects: Effects::default(), skips: Vec::new(), unwanted: Vec::new(), ended_cells: Vec::new(), rested: None }
    }

    /// Enters a final state and notifies all jobs that wait for this one.
    pub(super) fn finish(&mut self, job: usize, end: Progress) {
        self.finish_because(job, end, Cause::Ended(job));
    }

    /// The same; `cause` is what jobs that can no longer start name as the reason.
    fn finish_because(&mut self, job: usize, end: Progress, cause: Cause) {
        let before = self.run.jobs[job].state();
        if self.run.plan.deploys(job) && matches!(end, Progress::Skipped { .. }) && self.run.jobs[job].progress.has_asked() {
            self.effects.withdrawn.push(job);
        }
        if self.run.jobs[job].progress.takes_place()
            && let Some(limit) = self.run.limit_of[job]
        {
            self.run.limits[limit].active -= 1;
        }
        let by_hand = self.run.waits_for_hand(job) || before == State::Gated;
        if !self.run.by_hand[job] {
            self.run.open -= 1;
        }
        self.enter(job, end);
        if by_hand {
            self.run.count_open();
        }
        if self.run.plan.jobs[job].rollout().is_some() {
            self.ended_cells.push(job);
        }
        let Some(end) = self.run.end_of(job) else { return };
        // In a chain of skips the first cause is named; jobs that were halted by a failure name that failure.
        let cause = match (end, cause) {
            (End::Other(Upon::Skipped), Cause::Ended(root)) => Cause::Ended(root),
            _ => Cause::Ended(job),
        };
        self.tell_followers(job, end, cause);
        self.tell_stage(job, end, cause);
        for group in self.run.group_of[job].clone() {
            self.tell_group(group, end, cause);
        }
        match end {
            End::Other(Upon::Failed | Upon::Lost) => self.halt(job, self.run.plan.stops_at_failure),
            End::Other(Upon::Stopped) => self.halt(job, false),
            _ => {}
        }
    }

    /// Enters a state that is no end.
    pub(super) fn enter(&mut self, job: usize, progress: Progress) {
        let entry = &mut self.run.jobs[job];
        entry.progress = progress;
        entry.since = self.now;
        self.effects.changed.push(job);
    }

    /// Those that wait for this job alone.
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

    /// Those that wait for the job's stage, by name or by the order.
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

    /// Each is skipped when it does not accept a new kind of end, and has one wait less when all have ended.
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
    pub(super) fn halt(&mut self, job: usize, all: bool) {
        let plan = self.run.plan.clone();
        let unstarted = |run: &Run, other: usize| run.jobs[other].state().is_unstarted();
        if all {
            // What is there for failures is still wanted.
            let unwanted =
                (0..plan.jobs.len()).filter(|&other| unstarted(self.run, other) && !plan.jobs[other].upon.contains(&Upon::Failed));
            self.skips.extend(unwanted.map(|other| (other, Cause::FileStops(job))));
        }
        if plan.jobs[job].halts_cells {
            let cells = self.run.cells_of(job).filter(|&other| unstarted(self.run, other) && !self.run.has_touched(other));
            self.skips.extend(cells.map(|other| (other, Cause::CellFailed(job))));
        }
    }

    /// All stages before this one have ended: its jobs have one wait less.
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

    /// Queues a job that waits for nothing any more: unless it starts by hand, its own condition, its stage's gate or a limit
    /// of its matrix is against it.
    pub(super) fn queue_if_ready(&mut self, job: usize) {
        if self.run.unmet[job] > 0 || self.run.jobs[job].progress != Progress::Waiting {
            return;
        }
        if self.run.waits_for_hand(job) {
            return self.enter(job, Progress::Gated(Hold::ByHand));
        }
        match self.run.late(job) {
            Late::Run => {}
            Late::Skip(why) => return self.unwanted.push((job, Progress::Skipped { why, unwanted: true })),
            Late::Undecided(why) => return self.unwanted.push((job, Progress::Failed { why })),
        }
        if let Some(why) = self.run.shut(job) {
            self.enter(job, Progress::Gated(Hold::Shut { why }));
            return self.run.count_open();
        }
        if let Some(until) = self.run.rests_until(job).filter(|until| *until > self.now && self.rested != Some(job)) {
            return self.enter(job, Progress::Gated(Hold::Rests { until }));
        }
        if let Some(limit) = self.run.limit_of[job] {
            let limit = &mut self.run.limits[limit];
            if limit.active >= limit.most {
                return;
            }
            limit.active += 1;
        }
        if self.run.plan.deploys(job) {
            self.effects.wants.push(job);
            return self.enter(job, Progress::Gated(Hold::Environment { holds: Vec::new() }));
        }
        self.enter(job, Progress::queued());
    }

    /// Queues further cells where one has made room.
    fn admit(&mut self) {
        for limit in 0..self.run.limits.len() {
            for cell in self.run.limits[limit].cells.clone() {
                if self.run.limits[limit].active >= self.run.limits[limit].most {
                    break;
                }
                self.queue_if_ready(cell);
            }
        }
    }

    /// Carries out the skips, which may cause further ones, then looks at the run as a whole.
    pub(super) fn settle(mut self) -> Effects {
        loop {
            while let Some((job, cause)) = self.skips.pop() {
                if self.run.jobs[job].state().is_unstarted() {
                    let why = self.because_of(cause);
                    self.finish_because(job, Progress::Skipped { why, unwanted: false }, cause.root());
                }
            }
            if let Some((job, end)) = self.unwanted.pop() {
                if self.run.jobs[job].state().is_unstarted() {
                    self.finish(job, end);
                }
                continue;
            }
            if !self.effects.changed.is_empty() {
                self.admit();
            }
            if self.skips.is_empty() && self.unwanted.is_empty() && !self.take_back() {
                break;
            }
        }
        let state = self.run_state();
        if state != self.run.state {
            self.run.state = state;
            self.effects.run_changed = true;
        }
        self.effects
    }

    /// Skips a job that waits for something which has ended otherwise than it accepts.
    pub(super) fn skip_if_refused(&mut self, job: usize) {
        let plan = self.run.plan.clone();
        let planned = &plan.jobs[job];
        let refused = |on: usize, wait: Option<usize>| self.run.end_of(on).is_some_and(|end| !self.run.accepts(job, wait, end));
        let waits = planned.waits.iter().enumerate().filter(|(_, wait)| !wait.at_once);
        let mut waited = waits.flat_map(|(place, wait)| self.run.targets(wait.on).map(move |on| (on, Some(place))));
        let earlier = || {
            let before = plan.stages[planned.stage].before.iter().filter(|_| planned.ordered);
            before.flat_map(|&stage| &self.run.stages[stage].bundle.members).map(|&on| (on, None))
        };
        let to_blame = waited.find(|&(on, wait)| refused(on, wait)).or_else(|| earlier().find(|&(on, wait)| refused(on, wait)));
        if let Some((on, _)) = to_blame {
            self.skips.push((job, Cause::Ended(on)));
        }
    }

    /// The sentence of a job that can no longer start.
    fn because_of(&self, cause: Cause) -> String {
        let (Cause::Ended(root) | Cause::FileStops(root) | Cause::CellFailed(root)) = cause;
        let id = &self.run.plan.jobs[root].id;
        let what = match self.run.jobs[root].state() {
            State::Stopped => "was stopped",
            State::Overtaken => "was overtaken by a newer commit",
            State::Refused => "was refused",
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

    /// A run has its verdict when all has ended but what waits for someone to start it.
    fn run_state(&self) -> State {
        let jobs = &self.run.jobs;
        if self.run.open > 0 {
            let begun = (0..jobs.len()).any(|job| jobs[job].attempt > 0 || self.run.end_of(job).is_some_and(|end| end != End::Absent));
            return if begun { State::Running } else { State::Waiting };
        }
        let counts = |job: usize| self.run.end_of(job) != Some(End::Well);
        let any = |states: &[State]| (0..jobs.len()).any(|job| counts(job) && states.contains(&jobs[job].state()));
        // Whose place before an environment was taken by a newer run takes nothing from the verdict on its commit.
        let cut = |job: usize| jobs[job].state() == State::Overtaken && (jobs[job].attempt > 0 || !self.run.plan.deploys(job));
        let shut = jobs.iter().any(|job| matches!(job.progress, Progress::Gated(Hold::Shut { .. })));
        if any(&[State::Failed, State::Lost]) || shut {
            State::Failed
        } else if any(&[State::Stopped]) {
            State::Stopped
        } else if (0..jobs.len()).any(|job| counts(job) && cut(job)) {
            State::Overtaken
        } else if any(&[State::Refused]) {
            State::Refused
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
