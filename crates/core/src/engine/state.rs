//! What a run remembers: a [`JobState`] for each job (these are stored), and counters made from them (these are not).

use super::numbers::Numbers;
use super::progress::{Back, Progress};
use super::{Millis, State};
use crate::language::Upon;
use crate::plan::{Plan, WaitOn};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// One job of a run. Everything here is stored; [`Run::restore`] needs nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JobState {
    pub progress: Progress,
    /// The number of the newest attempt, 0 before the first. It is also the fencing number: a word about an attempt
    /// with a smaller number comes from a runner that was given up.
    pub attempt: u32,
    /// How many of its attempts were made because `retry` says so, since it was last asked for.
    pub retries: u32,
    /// The runner of the newest attempt.
    pub runner: Option<String>,
    /// When it came into its present state.
    pub since: Millis,
    /// When its newest attempt began.
    pub started: Option<Millis>,
    /// Who started it, where it starts by hand only, or who asked for it again.
    pub started_by: Option<String>,
    /// What was given when it was started by hand.
    pub inputs: BTreeMap<String, String>,
    /// Asked for again with nothing kept from before.
    pub fresh: bool,
    /// Whether what was in its environment before is put there again when it fails.
    pub back: Back,
    /// What it left for later jobs.
    pub facts: BTreeMap<String, String>,
    /// What its reports and facts come to.
    pub numbers: Numbers,
}

impl JobState {
    /// A job of which nothing has happened yet.
    pub fn new(now: Millis) -> Self {
        JobState {
            progress: Progress::Waiting,
            attempt: 0,
            retries: 0,
            runner: None,
            since: now,
            started: None,
            started_by: None,
            inputs: BTreeMap::new(),
            fresh: false,
            back: Back::No,
            facts: BTreeMap::new(),
            numbers: Numbers::new(),
        }
    }

    /// What it is at, without the data of that.
    pub fn state(&self) -> State {
        self.progress.state()
    }

    /// What happened, in one sentence; see [`Progress::why`].
    pub fn why(&self) -> Option<Cow<'_, str>> {
        self.progress.why()
    }

    /// When it ended, if it has.
    pub fn ended(&self) -> Option<Millis> {
        self.state().is_end().then_some(self.since)
    }
}

/// A run in memory: the stored state of each job, and counters made from it so that an event costs no walk over all jobs.
#[derive(Debug, Clone)]
pub struct Run {
    pub(super) plan: Arc<Plan>,
    pub(super) jobs: Vec<JobState>,
    pub(super) state: State,
    /// Jobs that ever left facts, in their order: few, and read for every lease.
    pub(super) with_facts: BTreeSet<usize>,
    /// How many jobs have not ended, those that nobody started by hand and what waits for them left out.
    pub(super) open: usize,
    /// Jobs that wait, over however many others, for one that starts by hand and was not started; and these.
    pub(super) by_hand: Vec<bool>,
    /// For each job, how many of its waits have not ended; the gate of its stage counts as one.
    pub(super) unmet: Vec<usize>,
    /// For each job those that wait for it alone, each with the wait's place in the follower's list.
    pub(super) followers: Vec<Vec<(usize, usize)>>,
    /// Stages, by number.
    pub(super) stages: Vec<Stage>,
    /// Cells of one job that something waits for together.
    pub(super) groups: Vec<Bundle>,
    /// For each job the groups it is in.
    pub(super) group_of: Vec<Vec<usize>>,
    /// Matrices of which only so many cells run at once, and for each job which of these it is in.
    pub(super) limits: Vec<Limit>,
    pub(super) limit_of: Vec<Option<usize>>,
}

/// Cells of one job of which only `most` may be queued or running.
#[derive(Debug, Clone)]
pub(super) struct Limit {
    pub(super) cells: std::ops::Range<usize>,
    pub(super) most: usize,
    pub(super) active: usize,
}

/// Jobs that are waited for together.
#[derive(Debug, Clone, Default)]
pub(super) struct Bundle {
    pub(super) members: Vec<usize>,
    /// Members that have not ended.
    pub(super) open: usize,
    /// Each job that waits for all of them, with the wait's place in its list.
    pub(super) waiters: Vec<(usize, usize)>,
    /// Kinds of end that members have reached already: those who do not accept one were notified.
    pub(super) seen: Vec<End>,
}

/// A stage's jobs, and what stands before it and after it in the order.
#[derive(Debug, Clone, Default)]
pub(super) struct Stage {
    pub(super) bundle: Bundle,
    /// Stages before this one of which some job has not ended.
    pub(super) before_left: usize,
    /// Stages that come after this one.
    pub(super) after: Vec<usize>,
}

/// How a job ended, as far as those that wait for it care.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    /// Passed, or failed where the file forgives that.
    Well,
    /// Skipped by its own condition: nobody waits for it, but nothing can be taken from it.
    Absent,
    Other(Upon),
}

impl Bundle {
    /// Counts an end. Returns whether it was the last, whether it is the first of its kind, and who must be notified of either.
    pub(super) fn member_ended(&mut self, end: End) -> (bool, bool, Vec<(usize, usize)>) {
        self.open -= 1;
        let (all_ended, news) = (self.open == 0, !self.seen.contains(&end));
        if news {
            self.seen.push(end);
        }
        let waiters = if all_ended || news { self.waiters.clone() } else { Vec::new() };
        (all_ended, news, waiters)
    }
}

impl Run {
    /// A run of which nothing has happened yet. Apply [`super::Event::Begun`] to queue what can start.
    pub fn new(plan: Arc<Plan>, now: Millis) -> Run {
        let jobs = vec![JobState::new(now); plan.jobs.len()];
        Run::counted(plan, jobs, State::Waiting)
    }

    /// Marks all jobs as asked for with nothing kept from before.
    pub fn make_fresh(&mut self) {
        self.jobs.iter_mut().for_each(|job| job.fresh = true);
    }

    /// A run as it was stored.
    pub fn restore(plan: Arc<Plan>, jobs: Vec<JobState>, state: State) -> Run {
        Run::counted(plan, jobs, state)
    }

    /// A run of these states, with everything that follows from them counted once.
    fn counted(plan: Arc<Plan>, jobs: Vec<JobState>, state: State) -> Run {
        let count = jobs.len();
        let mut run = Run {
            with_facts: (0..count).filter(|&job| !jobs[job].facts.is_empty()).collect(),
            open: 0,
            by_hand: vec![false; count],
            limits: Vec::new(),
            limit_of: vec![None; count],
            unmet: vec![0; count],
            followers: vec![Vec::new(); count],
            stages: vec![Stage::default(); plan.stages.len()],
            groups: Vec::new(),
            group_of: vec![Vec::new(); count],
            plan,
            jobs,
            state,
        };
        run.connect();
        run.count();
        run
    }

    /// Turns the plan's waits round: who is to be notified of whose end.
    fn connect(&mut self) {
        let plan = self.plan.clone();
        for (number, stage) in plan.stages.iter().enumerate() {
            for &before in &stage.before {
                self.stages[before].after.push(number);
            }
        }
        let mut groups: HashMap<(usize, usize), usize> = HashMap::new();
        for (number, job) in plan.jobs.iter().enumerate() {
            self.stages[job.stage].bundle.members.push(number);
            for (place, wait) in job.waits.iter().enumerate() {
                match wait.on {
                    // Which cell ends first is not written down: any end makes room for the next in order.
                    WaitOn::Job(on) if wait.at_once => self.limit(number, on),
                    WaitOn::Job(on) => self.followers[on].push((number, place)),
                    WaitOn::Stage(stage) => self.stages[stage].bundle.waiters.push((number, place)),
                    WaitOn::Cells(first, cells) => {
                        let group = *groups.entry((first, cells)).or_insert_with(|| {
                            self.groups.push(Bundle { members: (first..first + cells).collect(), ..Bundle::default() });
                            self.groups.len() - 1
                        });
                        self.groups[group].waiters.push((number, place));
                    }
                }
            }
        }
        for (number, group) in self.groups.iter().enumerate() {
            group.members.iter().for_each(|&member| self.group_of[member].push(number));
        }
    }

    /// Cell `number` waits for cell `on`: so many run at once.
    fn limit(&mut self, number: usize, on: usize) {
        if self.limit_of[number].is_some() {
            return;
        }
        let cells = self.cells_of(number);
        cells.clone().for_each(|cell| self.limit_of[cell] = Some(self.limits.len()));
        self.limits.push(Limit { cells, most: number - on, active: 0 });
    }

    /// Counts everything again from the states of the jobs.
    pub(super) fn count(&mut self) {
        let plan = self.plan.clone();
        for stage in 0..self.stages.len() {
            let bundle = self.counted_bundle(&self.stages[stage].bundle);
            self.stages[stage].bundle = bundle;
        }
        for group in 0..self.groups.len() {
            let bundle = self.counted_bundle(&self.groups[group]);
            self.groups[group] = bundle;
        }
        for (number, stage) in plan.stages.iter().enumerate() {
            self.stages[number].before_left = stage.before.iter().filter(|&&before| self.stages[before].bundle.open > 0).count();
        }
        let open_groups: HashMap<(usize, usize), bool> =
            self.groups.iter().map(|group| ((group.members[0], group.members.len()), group.open > 0)).collect();
        for (number, job) in plan.jobs.iter().enumerate() {
            let waits = job.waits.iter().filter(|wait| match wait.on {
                WaitOn::Job(_) if wait.at_once => false,
                WaitOn::Job(on) => !self.jobs[on].state().is_end(),
                WaitOn::Stage(stage) => self.stages[stage].bundle.open > 0,
                WaitOn::Cells(first, cells) => open_groups[&(first, cells)],
            });
            let gate = job.ordered && self.stages[job.stage].before_left > 0;
            self.unmet[number] = waits.count() + usize::from(gate);
        }
        for limit in &mut self.limits {
            let active = |&cell: &usize| self.jobs[cell].progress.takes_place();
            limit.active = limit.cells.clone().filter(active).count();
        }
        self.count_open();
    }

    /// Which jobs wait for someone to start one by hand, and how many of the others have not ended.
    pub(super) fn count_open(&mut self) {
        let plan = self.plan.clone();
        let unstarted = |job: usize| {
            let progress = &self.jobs[job].progress;
            progress.is_held_long() || self.waits_for_hand(job) && !progress.state().is_end()
        };
        let full = |&job: &usize| self.limit_of[job].is_some_and(|limit| self.is_full_of_held(&self.limits[limit]));
        let behind = (0..plan.jobs.len()).filter(|job| self.jobs[*job].progress == Progress::Waiting && full(job));
        let mut found: Vec<usize> = (0..plan.jobs.len()).filter(|&job| unstarted(job)).chain(behind).collect();
        let mut by_hand = vec![false; plan.jobs.len()];
        found.iter().for_each(|&job| by_hand[job] = true);
        let mut stages = vec![false; plan.stages.len()];
        while let Some(job) = found.pop() {
            let mut add = |follower: usize| {
                if !std::mem::replace(&mut by_hand[follower], true) {
                    found.push(follower);
                }
            };
            self.followers[job].iter().for_each(|&(follower, _)| add(follower));
            self.group_of[job].iter().flat_map(|&group| &self.groups[group].waiters).for_each(|&(waiter, _)| add(waiter));
            let stage = plan.jobs[job].stage;
            if std::mem::replace(&mut stages[stage], true) {
                continue;
            }
            self.stages[stage].bundle.waiters.iter().for_each(|&(waiter, _)| add(waiter));
            let later = self.stages[stage].after.iter().flat_map(|&later| &self.stages[later].bundle.members);
            later.filter(|&&member| plan.jobs[member].ordered).for_each(|&member| add(member));
        }
        self.open = (0..plan.jobs.len()).filter(|&job| !by_hand[job] && !self.jobs[job].state().is_end()).count();
        self.by_hand = by_hand;
    }

    /// Whether all places of a matrix are taken by cells that are held: those behind them wait for the same.
    fn is_full_of_held(&self, limit: &Limit) -> bool {
        let held = limit.cells.clone().filter(|&cell| self.jobs[cell].progress.is_held_long() && self.jobs[cell].progress.takes_place());
        held.count() >= limit.most
    }

    /// Whether a job starts by hand only and nobody has started it.
    pub(super) fn waits_for_hand(&self, job: usize) -> bool {
        self.plan.jobs[job].extras.as_ref().is_some_and(|extras| extras.by_hand) && self.jobs[job].started_by.is_none()
    }

    /// A bundle with its counts taken from the states of its members.
    fn counted_bundle(&self, bundle: &Bundle) -> Bundle {
        let mut bundle = bundle.clone();
        bundle.open = bundle.members.iter().filter(|&&job| !self.jobs[job].state().is_end()).count();
        bundle.seen.clear();
        for end in bundle.members.iter().filter_map(|&job| self.end_of(job)) {
            if !bundle.seen.contains(&end) {
                bundle.seen.push(end);
            }
        }
        bundle
    }

    /// How a job ended; None while it has not.
    pub(super) fn end_of(&self, job: usize) -> Option<End> {
        match self.jobs[job].progress {
            Progress::Passed | Progress::Reused { .. } => Some(End::Well),
            Progress::Failed { .. } if self.plan.jobs[job].may_fail => Some(End::Well),
            Progress::Failed { .. } => Some(End::Other(Upon::Failed)),
            Progress::Skipped { unwanted, .. } if unwanted || self.plan.jobs[job].skipped.is_some() => Some(End::Absent),
            Progress::Skipped { .. } => Some(End::Other(Upon::Skipped)),
            Progress::Stopped { .. } | Progress::Overtaken { .. } | Progress::Refused { .. } => Some(End::Other(Upon::Stopped)),
            Progress::Lost { .. } => Some(End::Other(Upon::Lost)),
            Progress::Waiting | Progress::Gated(_) | Progress::Queued { .. } | Progress::Running { .. } => None,
        }
    }

    /// Whether a job that waits may still start after such an end. `wait` is its place in the job's list; None is the
    /// gate of its stage.
    pub(super) fn accepts(&self, job: usize, wait: Option<usize>, end: End) -> bool {
        let planned = &self.plan.jobs[job];
        let wait = wait.map(|place| planned.waits[place]);
        match end {
            End::Well => true,
            End::Absent => !wait.is_some_and(|wait| wait.takes),
            End::Other(outcome) => planned.upon.contains(&outcome),
        }
    }

    /// All cells of a job's matrix, by number; the job alone without one.
    pub(super) fn cells_of(&self, job: usize) -> std::ops::Range<usize> {
        let jobs = &self.plan.jobs;
        let same = |other: usize| jobs[other].stage == jobs[job].stage && jobs[other].name == jobs[job].name;
        let first = (0..job).rev().take_while(|&other| same(other)).last().unwrap_or(job);
        let end = (job..jobs.len()).take_while(|&other| same(other)).last().unwrap_or(job) + 1;
        first..end
    }

    /// The plan that the run follows; it never changes.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// The run's own state.
    pub fn state(&self) -> State {
        self.state
    }

    /// The state of each job, in the order of the plan.
    pub fn jobs(&self) -> &[JobState] {
        &self.jobs
    }
}
