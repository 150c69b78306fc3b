//! Every run that goes on, who holds what, who waits for work. Nothing here waits: changes are noted in
//! [`Room::touched`] and written by the task. What runners ask is in `claims`, what people do in `asked`, what they look
//! at in `looking`.

use super::lease::Given;
use super::reuse::{Looked, Ready};
use super::{Command, Holders, RunInfo, Stale};
use crate::events::{self, Of};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::dispatch::{Needs, Queue, Queued};
use ordotaxis_core::engine::{Event, Millis, Paths, Refused, Run, State, Usual};
use ordotaxis_core::plan::Plan;
use ordotaxis_store::{AttemptRow, Entry, Granted, JobRow, NewEvent, NewNumber, RunChange, RunnerRow, StepRows};
use ordotaxis_wire::run::LiveEvent;
use ordotaxis_wire::runner::{AttemptId, Lease, Tool};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Notify, oneshot};

/// What is taken for the time of a job when nothing is known of any.
const UNKNOWN_MS: Millis = 1_000;
/// The longest that a clock which was set back can make a pause.
const LONGEST_PAUSE_MS: Millis = 60_000;

pub(super) struct Going {
    pub(super) info: RunInfo,
    pub(super) run: Run,
    pub(super) given: Given,
    pub(super) times: Times,
    /// How long each job usually takes; those unknown count as the median of the known.
    pub(super) usual: Vec<Millis>,
    /// Whether anything is known of that.
    pub(super) usual_known: bool,
    /// The longest way from each job's start to the end of the run.
    ahead: Vec<Millis>,
    needs: Vec<Arc<Needs>>,
    /// What came of looking for results to take over, by job.
    pub(super) looked: HashMap<usize, Looked>,
}

/// When a run goes on, in milliseconds since 1970.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Times {
    /// Its first start.
    pub(super) started: Option<i64>,
    /// Its newest end; none while it goes on.
    pub(super) ended: Option<i64>,
    /// How long, in between, it had ended already.
    pub(super) rest_ms: i64,
}

impl Times {
    /// The run changed to a state that is an end or not.
    fn change(&mut self, is_end: bool, now: i64) {
        self.started.get_or_insert(now);
        if let Some(ended) = self.ended.take() {
            self.rest_ms += (now - ended).max(0);
        }
        self.ended = is_end.then_some(now);
    }

    /// How long it went on by then.
    fn took(&self, now: i64) -> Option<i64> {
        Some(self.ended.unwrap_or(now) - self.started? - self.rest_ms)
    }
}

impl Going {
    pub(super) fn new(info: RunInfo, run: Run, given: Given, times: Times, usual: &Usual) -> Going {
        let jobs = &run.plan().jobs;
        let known: Vec<Option<Millis>> = jobs.iter().map(|job| usual.get(job.id.as_str()).copied()).collect();
        let mut sorted: Vec<Millis> = known.iter().flatten().copied().collect();
        sorted.sort_unstable();
        let median = sorted.get(sorted.len() / 2).copied().unwrap_or(UNKNOWN_MS);
        let takes: Vec<Millis> = known.iter().map(|ms| ms.unwrap_or(median)).collect();
        let ahead = Paths::new(run.plan()).ahead(|job| takes[job]);
        let mut same: HashSet<Arc<Needs>> = HashSet::new();
        let needs = jobs.iter().map(|job| {
            let needs = Needs::of(job, &info.project, &run.plan().occasion);
            same.get(&needs).cloned().unwrap_or_else(|| {
                let needs = Arc::new(needs);
                same.insert(needs.clone());
                needs
            })
        });
        Going {
            needs: needs.collect(),
            usual_known: !sorted.is_empty(),
            usual: takes,
            ahead,
            info,
            run,
            given,
            times,
            looked: HashMap::new(),
        }
    }

    /// The turn that a job wants: the project's own, so that two projects never wait for each other by chance.
    pub(super) fn turn(&self, job: usize) -> Option<Arc<str>> {
        let turn = self.run.plan().jobs[job].extras.as_ref()?.turn.as_ref()?;
        Some(format!("{}/{}", self.info.project, super::lease::filled(&self.info, turn)).into())
    }

    fn queued(&self, job: usize) -> Queued {
        Queued {
            project: self.info.project_id,
            needs: self.needs[job].clone(),
            turn: self.turn(job),
            since: self.run.jobs()[job].since,
            ahead: self.ahead[job],
            usual: self.usual[job],
        }
    }

    pub(super) fn needs(&self, job: usize) -> &Needs {
        &self.needs[job]
    }

    pub(super) fn name(&self) -> String {
        format!("{}/{}", self.info.project, self.info.number)
    }
}

pub(super) struct Held {
    pub(super) row: AttemptRow,
    pub(super) until: Instant,
    pub(super) project: i64,
}

pub(super) struct Session {
    pub(super) id: String,
    pub(super) labels: Vec<String>,
    /// What the runner said of itself, and what it may have: `labels` follows from these.
    pub(super) system: Vec<String>,
    pub(super) offered: Option<Vec<String>>,
    pub(super) granted: Granted,
    pub(super) isolation: String,
    pub(super) slots: u32,
    pub(super) tools: Vec<Tool>,
    pub(super) seen: Instant,
    pub(super) news: Arc<Notify>,
}

pub(super) struct Waiting {
    pub(super) runner: String,
    pub(super) slot: u32,
    pub(super) reply: oneshot::Sender<Result<Lease, Stale>>,
}

/// An answer that is given once the batch is on disk.
pub(super) type Answer = Box<dyn FnOnce() + Send + Sync>;

pub(super) struct Room {
    pub(super) runs: HashMap<i64, Going>,
    pub(super) held: HashMap<AttemptId, Held>,
    pub(super) slots: HashMap<(String, u32), AttemptId>,
    pub(super) queue: Queue,
    /// Queued jobs that pause before another try, by when that is over.
    pub(super) pauses: BTreeSet<(Instant, i64, usize)>,
    /// Who holds each turn.
    pub(super) turns: HashMap<Arc<str>, (i64, usize)>,
    pub(super) sessions: BTreeMap<String, Session>,
    /// Runners that take nothing more, and who asked for that.
    pub(super) draining: HashMap<String, String>,
    pub(super) waiting: Vec<Waiting>,
    holders: Holders,
    pub(super) lease: Duration,
    pub(super) public_url: String,
    /// How long artifacts are kept that do not say it themselves, in milliseconds.
    pub(super) keep: i64,
    /// Results that can be taken over: project, pipeline and job → the newest first.
    pub(super) reusable: HashMap<(i64, String, String), Vec<Ready>>,
    /// Jobs for which such a result has yet to be looked for.
    pub(super) just_queued: Vec<(i64, usize)>,
    pub(super) touched: Touched,
}

/// What a batch changed and has yet to be written.
#[derive(Default)]
pub(super) struct Touched {
    pub(super) jobs: BTreeSet<(i64, usize)>,
    pub(super) rows: StepRows,
    pub(super) attempts: BTreeMap<AttemptId, AttemptRow>,
    pub(super) answers: Vec<Answer>,
    pub(super) signed_on: Vec<RunnerRow>,
    pub(super) ended: Vec<i64>,
}

impl Room {
    pub(super) fn new(holders: Holders, lease: Duration, public_url: String, keep: i64) -> Room {
        Room {
            runs: HashMap::new(),
            held: HashMap::new(),
            slots: HashMap::new(),
            queue: Queue::default(),
            pauses: BTreeSet::new(),
            turns: HashMap::new(),
            sessions: BTreeMap::new(),
            draining: HashMap::new(),
            waiting: Vec::new(),
            holders,
            lease,
            public_url,
            keep,
            reusable: HashMap::new(),
            just_queued: Vec::new(),
            touched: Touched::default(),
        }
    }

    /// Puts back a run and its attempts as they were stored. Leases begin anew: whoever lives will renew them.
    pub(super) fn restore(&mut self, going: Going, attempts: Vec<AttemptRow>, now: i64) {
        let id = going.info.id;
        let project = going.info.project_id;
        for row in attempts.into_iter().filter(|row| row.ended_at.is_none()) {
            let job = usize::try_from(row.job).unwrap_or(usize::MAX);
            let running = going.run.jobs().get(job).is_some_and(|job| job.state == State::Running && job.attempt == row.number);
            if running {
                self.hold(AttemptId { run: id, job, attempt: row.number }, row, project);
            }
        }
        let jobs = going.run.jobs().len();
        self.runs.insert(id, going);
        (0..jobs).for_each(|job| self.place(id, job, now));
    }

    /// Puts a job where its state wants it: in the queue, among those that pause, in possession of its turn, or nowhere.
    fn place(&mut self, id: i64, job: usize, now: i64) {
        let Some(going) = self.runs.get(&id) else { return };
        let known = &going.run.jobs()[job];
        match (known.state, known.not_before) {
            (State::Queued, None) => self.queue.insert((id, job), going.queued(job)),
            (State::Queued, Some(moment)) => {
                let left = u64::try_from((moment - now).clamp(0, LONGEST_PAUSE_MS)).unwrap_or(0);
                self.pauses.insert((Instant::now() + Duration::from_millis(left), id, job));
                self.queue.remove((id, job));
            }
            _ => self.queue.remove((id, job)),
        }
        let Some(turn) = going.turn(job) else { return };
        if going.run.jobs()[job].state == State::Running {
            self.turns.insert(turn, (id, job));
        } else if self.turns.get(&turn) == Some(&(id, job)) {
            self.turns.remove(&turn);
        }
    }

    /// When the next pause is over.
    pub(super) fn next_pause(&self) -> Option<Instant> {
        self.pauses.first().map(|(moment, ..)| *moment)
    }

    pub(super) fn end_pauses(&mut self, now: i64) {
        let late = Instant::now();
        while let Some(&(moment, id, job)) = self.pauses.first().filter(|(moment, ..)| *moment <= late) {
            self.pauses.remove(&(moment, id, job));
            // A run may have gone, or the job have ended: then this changes nothing.
            let _ = self.apply(id, &Event::PauseOver { job }, now);
        }
    }

    /// A runner that was signed on when the service went down; it counts as silent from now on.
    pub(super) fn restore_session(&mut self, row: RunnerRow) {
        if let Some(by) = row.draining_by {
            self.draining.insert(row.name.clone(), by);
        }
        let Some(id) = row.session else { return };
        let tools = row.tools.into_iter().map(|tool| Tool { name: tool.name, version: tool.version }).collect();
        let RunnerRow { labels, isolation, slots, granted, .. } = row;
        // What it had when it was last seen: its next word tells the rest.
        let (system, offered) = (labels.clone(), Some(labels.clone()));
        let session = Session { id, labels, system, offered, granted, isolation, slots, tools, seen: Instant::now(), news: Arc::default() };
        self.sessions.insert(row.name, session);
    }

    pub(super) fn restored(&self) {
        self.holders.set(self.held.iter().map(|(attempt, held)| (*attempt, held.row.runner.clone())).collect());
    }

    pub(super) fn hold(&mut self, attempt: AttemptId, row: AttemptRow, project: i64) {
        self.slots.insert((row.runner.clone(), row.slot), attempt);
        self.holders.insert(attempt, row.runner.clone());
        self.held.insert(attempt, Held { row, until: Instant::now() + self.lease, project });
    }

    pub(super) fn let_go(&mut self, attempt: AttemptId) -> Option<AttemptRow> {
        let held = self.held.remove(&attempt)?;
        self.slots.remove(&(held.row.runner.clone(), held.row.slot));
        self.holders.remove(attempt);
        Some(held.row)
    }

    pub(super) fn handle(&mut self, command: Command, now: i64) {
        match command {
            Command::Begin { info, plan, usual, ready } => {
                self.learn(ready);
                self.begin(info, plan, &usual, now);
            }
            Command::Said { runner, attempt, facts, numbers, reply } => {
                let answer = self.said(&runner, attempt, facts, numbers, now);
                self.answer(reply, answer);
            }
            Command::SignOn { runner, sign_on, granted, reply } => {
                let labels = self.sign_on(&runner, sign_on, granted, now);
                self.answer(reply, labels);
            }
            Command::Grant { runner, granted, reply } => {
                self.grant(&runner, granted);
                self.answer(reply, ());
            }
            Command::RemoveRunner { runner, by, reply } => {
                self.remove_runner(&runner, &by, now);
                self.answer(reply, ());
            }
            Command::SignOff { runner, session, reply } => {
                self.sign_off(&runner, &session, now);
                self.answer(reply, ());
            }
            Command::Claim { runner, session, slot, reply } => self.claim(runner, &session, slot, reply),
            Command::Unclaim { runner, slot } => self.waiting.retain(|waiting| waiting.runner != runner || waiting.slot != slot),
            Command::Beat { runner, beat, reply } => {
                let answer = self.beat(&runner, &beat);
                self.answer(reply, answer);
            }
            Command::Phases { runner, attempt, phases, reply } => {
                let answer = self.phases(&runner, attempt, &phases);
                self.answer(reply, answer);
            }
            Command::Finish { runner, attempt, finish, gifts, reply } => self.finish(&runner, attempt, *finish, gifts, reply, now),
            Command::Stop { run, job, by, reply } => {
                let answer = self.stop(run, job.as_deref(), by.name(), now);
                if answer.is_ok() {
                    self.journal(&by, Action::StopRun, run, job.as_slice());
                }
                self.answer(reply, answer);
            }
            Command::StartJob { run, job, by, inputs, reply } => {
                let answer = self.start_job(run, &job, by.name(), inputs, now);
                if answer.is_ok() {
                    self.journal(&by, Action::StartJob, run, &[job]);
                }
                self.answer(reply, answer);
            }
            Command::Again { run, jobs, by, fresh, reply } => {
                let answer = self.again(run, &jobs, by.name().to_owned(), fresh, now);
                if answer.is_ok() {
                    self.journal(&by, Action::RunAgain, run, &jobs);
                }
                self.answer(reply, answer);
            }
            Command::Drain { runner, by, reply } => {
                self.drain(runner, by);
                self.answer(reply, ());
            }
            Command::Queue { reply } => {
                let queue = self.queue_now(now);
                self.answer(reply, queue);
            }
            Command::Why { run, reply } => {
                let whys = self.whys(run, now);
                self.answer(reply, whys);
            }
            Command::Runners { reply } => {
                let runners = self.runners();
                self.answer(reply, runners);
            }
            Command::Counts { reply } => {
                let counts = self.counts();
                self.answer(reply, counts);
            }
            Command::Pinned { run, job, name, pinned, reply } => {
                self.pinned(run, job, &name, pinned);
                self.answer(reply, ());
            }
            Command::Forget { project_id, reply } => {
                self.forget(project_id);
                self.answer(reply, ());
            }
            Command::Tick { stall } => {
                self.stood_still(stall);
                self.tick(now);
            }
            Command::Pause => self.end_pauses(now),
        }
        self.reuse(now);
    }

    pub(super) fn answer<T: Send + Sync + 'static>(&mut self, reply: oneshot::Sender<T>, value: T) {
        // Whoever asked may have gone; that is theirs to notice.
        self.touched.answers.push(Box::new(move || drop(reply.send(value))));
    }

    fn begin(&mut self, info: RunInfo, plan: Arc<Plan>, usual: &Usual, now: i64) {
        let id = info.id;
        if self.runs.contains_key(&id) {
            return; // read back from storage before this word of it arrived
        }
        let mut run = Run::new(plan, now);
        if info.fresh {
            run.make_fresh();
        }
        self.runs.insert(id, Going::new(info, run, Given::new(), Times::default(), usual));
        let _ = self.apply(id, &Event::Begun, now);
        self.overtake(id, now);
    }

    /// Lets the engine apply an event and notes what changed.
    pub(super) fn apply(&mut self, id: i64, event: &Event, now: i64) -> Result<(), Refused> {
        let going = self.runs.get_mut(&id).ok_or(Refused::Stale)?;
        let effects = going.run.apply(event, now)?;
        for &job in &effects.changed {
            self.place(id, job, now);
            self.note_job(id, job);
            let queued = self.runs.get(&id).is_some_and(|going| going.run.jobs()[job].state == State::Queued);
            if queued {
                self.just_queued.push((id, job));
            }
        }
        for &(job, attempt) in &effects.stop {
            let attempt = AttemptId { run: id, job, attempt };
            let session = self.held.get(&attempt).and_then(|held| self.sessions.get(&held.row.runner));
            if let Some(session) = session {
                session.news.notify_one();
            }
        }
        if effects.run_changed {
            self.run_changed(id, now);
        }
        Ok(())
    }

    fn run_changed(&mut self, id: i64, now: i64) {
        let Some(going) = self.runs.get_mut(&id) else { return };
        let state = going.run.state();
        going.times.change(state.is_end(), now);
        let Times { started, ended, rest_ms } = going.times;
        let summary = Summary::of(&going.run);
        let took = going.times.took(now);
        let sentence = sentence(state, &summary, took, None);
        let of = Of::info(&going.info, &going.run.plan().pipeline);
        self.touched.rows.events.push(events::of_run(&of, state, &sentence, started, ended));
        let why = ended.map(|_| sentence);
        self.touched.rows.runs.push(RunChange { id, state, why, started, ended, rest_ms });
        if ended.is_some() {
            self.touched.ended.push(id);
            let (project_id, pipeline) = (going.info.project_id, going.run.plan().pipeline.clone());
            let numbers = going.run.numbers().into_iter().filter_map(|(name, number)| {
                Some(NewNumber { project_id, pipeline: pipeline.clone(), name, run_id: id, value: number.value()? })
            });
            self.touched.rows.numbers.extend(numbers);
        }
    }

    /// A job is to be written, and told: events stand in the order in which they happened.
    pub(super) fn note_job(&mut self, id: i64, job: usize) {
        let Some(going) = self.runs.get(&id) else { return };
        let state = &going.run.jobs()[job];
        let id_of_job = going.run.plan().jobs[job].id.clone();
        let event = LiveEvent { run: going.name(), state: state.state, job: Some(id_of_job), why: state.why.clone() };
        let body = serde_json::to_string(&event).unwrap_or_default();
        self.touched.rows.events.push(NewEvent { run_id: id, body, detail: None });
        self.touched.jobs.insert((id, job));
    }

    /// Notes for the journal what someone did to a run.
    fn journal(&mut self, by: &Actor, action: Action, id: i64, jobs: &[String]) {
        let Some(going) = self.runs.get(&id) else { return };
        let object = if jobs.is_empty() { going.name() } else { format!("{} {}", going.name(), jobs.join(", ")) };
        self.touched.rows.entries.push((by.clone(), Entry::new(action, object).of(&going.info.project)));
    }

    /// Lets go of all runs of a project that is removed; their runners are told that the attempts are unknown.
    fn forget(&mut self, project_id: i64) {
        let gone: Vec<i64> = self.runs.values().filter(|going| going.info.project_id == project_id).map(|going| going.info.id).collect();
        let queued: Vec<(i64, usize)> = self.queue.keys().filter(|(run, _)| gone.contains(run)).collect();
        queued.into_iter().for_each(|key| self.queue.remove(key));
        self.pauses.retain(|(_, run, _)| !gone.contains(run));
        self.turns.retain(|_, (run, _)| !gone.contains(run));
        let held: Vec<AttemptId> = self.held.keys().filter(|attempt| gone.contains(&attempt.run)).copied().collect();
        for attempt in held {
            self.let_go(attempt);
        }
        for id in gone {
            self.runs.remove(&id);
        }
    }

    /// Everything the batch changed, ready to be written; jobs and attempts in their last state.
    pub(super) fn take_rows(&mut self) -> StepRows {
        let mut rows = std::mem::take(&mut self.touched.rows);
        for (id, job) in std::mem::take(&mut self.touched.jobs) {
            let Some(going) = self.runs.get(&id) else { continue };
            let mut row = JobRow::new(id, job, &going.run.jobs()[job]);
            if let Some(looked) = going.looked.get(&job) {
                (row.work, row.not_reused) = (Some(looked.work.clone()), looked.not_reused.clone());
            }
            rows.jobs.push(row);
        }
        rows.attempts = std::mem::take(&mut self.touched.attempts).into_values().collect();
        rows
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However often a run comes back: it took as long as it went on, from its first start on.
        #[test]
        fn a_run_that_comes_back_took_what_all_its_stretches_took(stretches in prop::collection::vec((0..900i64, 1..900i64), 1..6)) {
            let (mut times, mut now, mut went) = (Times::default(), 1_000, 0);
            for (rest, work) in stretches {
                now += rest;
                times.change(false, now);
                times.change(false, now + work / 2);
                prop_assert_eq!(times.took(now + work / 2), Some(went + work / 2));
                now += work;
                times.change(true, now);
                went += work;
                prop_assert_eq!(times.took(now + 10_000), Some(went), "it stands when it has ended");
            }
            prop_assert!(times.started >= Some(1_000) && times.ended == Some(now));
        }
    }
}
