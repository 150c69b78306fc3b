//! What a run remembers: a [`JobState`] for each job (these are stored), and counters made from them (these are not).

use super::{Millis, State};
use crate::plan::{Plan, WaitOn};
use std::sync::Arc;

/// Who asked for a stop.
pub type Stopper = String;

/// One job of a run. Everything here is stored; [`Run::restore`] needs nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JobState {
    pub state: State,
    /// The number of the newest attempt, 0 before the first. It is also the fencing number: a word about an attempt
    /// with a smaller number comes from a runner that was given up.
    pub attempt: u32,
    pub losses: u32,
    /// The runner of the newest attempt.
    pub runner: Option<String>,
    /// For an end other than passed: what happened, in one sentence.
    pub why: Option<String>,
    /// When it came into its present state.
    pub since: Millis,
    /// When its newest attempt began.
    pub started: Option<Millis>,
    pub ended: Option<Millis>,
    pub stop_asked: Option<Stopper>,
}

impl JobState {
    fn new(now: Millis) -> Self {
        JobState {
            state: State::Waiting,
            attempt: 0,
            losses: 0,
            runner: None,
            why: None,
            since: now,
            started: None,
            ended: None,
            stop_asked: None,
        }
    }
}

#[derive(Debug, Clone)]
pub struct Run {
    pub(super) plan: Arc<Plan>,
    pub(super) jobs: Vec<JobState>,
    pub(super) state: State,
    /// How many jobs have not ended.
    pub(super) open: usize,
    /// For each job, how many of its waits are not yet fulfilled; the gate of its stage counts as one.
    pub(super) unmet: Vec<usize>,
    pub(super) followers: Vec<Vec<usize>>,
    pub(super) stages: Vec<Stage>,
}

#[derive(Debug, Clone, Default)]
pub(super) struct Stage {
    pub(super) members: Vec<usize>,
    /// Members that have not yet ended well.
    pub(super) left: usize,
    /// Stages before this one that have not yet ended well.
    pub(super) before_left: usize,
    /// Stages that come after this one.
    pub(super) after: Vec<usize>,
    /// Jobs that wait for this whole stage by `after`.
    pub(super) waiters: Vec<usize>,
    /// A member ended otherwise: what comes after was told.
    pub(super) broken: bool,
}

impl Run {
    /// A run of which nothing has happened yet. Apply [`super::Event::Begun`] to queue what can start.
    pub fn new(plan: Arc<Plan>, now: Millis) -> Run {
        let jobs = vec![JobState::new(now); plan.jobs.len()];
        Run::counted(plan, jobs, State::Waiting)
    }

    /// A run as it was stored.
    pub fn restore(plan: Arc<Plan>, jobs: Vec<JobState>, state: State) -> Run {
        Run::counted(plan, jobs, state)
    }

    fn counted(plan: Arc<Plan>, jobs: Vec<JobState>, state: State) -> Run {
        let mut run = Run {
            open: jobs.iter().filter(|job| !job.state.is_end()).count(),
            unmet: vec![0; jobs.len()],
            followers: vec![Vec::new(); jobs.len()],
            stages: vec![Stage::default(); plan.stages.len()],
            plan,
            jobs,
            state,
        };
        run.connect();
        run.count();
        run
    }

    fn connect(&mut self) {
        let plan = self.plan.clone();
        for (number, stage) in plan.stages.iter().enumerate() {
            for &before in &stage.before {
                self.stages[before].after.push(number);
            }
        }
        for (number, job) in plan.jobs.iter().enumerate() {
            self.stages[job.stage].members.push(number);
            for wait in &job.waits {
                match wait.on {
                    WaitOn::Job(on) => self.followers[on].push(number),
                    WaitOn::Stage(stage) => self.stages[stage].waiters.push(number),
                }
            }
        }
    }

    fn count(&mut self) {
        let plan = self.plan.clone();
        for stage in 0..self.stages.len() {
            let members = &self.stages[stage].members;
            let left = members.iter().filter(|&&job| !self.ended_well(job)).count();
            let broken = members.iter().any(|&job| self.jobs[job].state.is_end() && !self.ended_well(job));
            self.stages[stage].left = left;
            self.stages[stage].broken = broken;
        }
        for (number, stage) in plan.stages.iter().enumerate() {
            self.stages[number].before_left = stage.before.iter().filter(|&&before| self.stages[before].left > 0).count();
        }
        for (number, job) in plan.jobs.iter().enumerate() {
            let waits = job.waits.iter().filter(|wait| match wait.on {
                WaitOn::Job(on) => !self.ended_well(on),
                WaitOn::Stage(stage) => self.stages[stage].left > 0,
            });
            let gate = job.ordered && self.stages[job.stage].before_left > 0;
            self.unmet[number] = waits.count() + usize::from(gate);
        }
    }

    /// Whether a job has ended in a way that lets those that wait for it start.
    pub(super) fn ended_well(&self, job: usize) -> bool {
        match self.jobs[job].state {
            State::Passed | State::Reused => true,
            State::Failed => self.plan.jobs[job].may_fail,
            _ => false,
        }
    }

    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    pub fn state(&self) -> State {
        self.state
    }

    pub fn jobs(&self) -> &[JobState] {
        &self.jobs
    }
}
