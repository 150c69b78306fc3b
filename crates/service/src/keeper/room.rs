//! Every run that goes on, who holds what, who waits for work; and where each command goes. Nothing here waits: changes
//! are noted in [`Room::touched`] and written by the task.

use super::claims::Turns;
use super::command::{Command, FleetCommand, Reply, RunCommand};
use super::held::{Held, HeldAttempts};
use super::holders::Holders;
use super::live::LiveRun;
use super::pools_seen::{PoolsSeen, Worked};
use super::ready::Ready;
use super::refused::Stale;
use super::snapshot::{HeldNow, Snapshot};
use super::waits::Counted;
use crate::clock;
use crate::traced::TraceMark;
use ordotaxis_core::access::Action;
use ordotaxis_core::dispatch::Queue;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::Capacity;
use ordotaxis_core::pool::Left;
use ordotaxis_store::{AttemptRow, Granted, JobRow, StepRows};
use ordotaxis_wire::runner::{AttemptId, Claimed, Tool};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Notify, oneshot};

/// A runner that is signed on.
pub(super) struct Session {
    pub(super) id: String,
    pub(super) labels: Vec<String>,
    /// What the runner said of itself, and what it may have: `labels` follows from these.
    pub(super) system: Vec<String>,
    pub(super) offered: Option<Vec<String>>,
    pub(super) granted: Granted,
    pub(super) isolation: String,
    pub(super) slots: u32,
    /// What its machine has.
    pub(super) capacity: Capacity,
    /// How many jobs it has begun, and when it last began or ended one.
    pub(super) worked: Worked,
    pub(super) tools: Vec<Tool>,
    pub(super) seen: Instant,
    pub(super) news: Arc<Notify>,
}

/// A free slot whose call is held open until there is work.
pub(super) struct Waiting {
    pub(super) runner: String,
    pub(super) slot: u32,
    pub(super) reply: oneshot::Sender<Result<Claimed, Stale>>,
}

/// A slot whose result was taken. Its answer may carry a lease ahead of time, once all who wait have theirs.
pub(super) struct Finished {
    pub(super) runner: String,
    pub(super) slot: u32,
    /// What the slot is leased now.
    pub(super) claimed: Claimed,
    /// Whether it wants one more.
    pub(super) wants: bool,
    pub(super) reply: oneshot::Sender<Result<Claimed, Stale>>,
}

/// An answer that is given once the batch is on disk.
pub(super) type Answer = Box<dyn FnOnce() + Send + Sync>;

/// What every run goes by.
#[derive(Debug, Clone)]
pub(crate) struct Terms {
    /// How long a runner may be silent before its jobs are given to others.
    pub(crate) lease: Duration,
    pub(crate) public_url: String,
    /// How long artifacts are kept that do not say it themselves, in milliseconds.
    pub(crate) keep: i64,
    /// Runners take jobs that they are not fit for.
    pub(crate) anyway: bool,
    /// Where traces are wanted: what tells them from another service's.
    pub(crate) traces: Option<TraceMark>,
}

/// All that the keeper keeps. Its parts change it in files of their own: runs, fleet, dispatch, results, reuse.
pub(super) struct Room {
    pub(super) runs: HashMap<i64, Arc<LiveRun>>,
    pub(super) held: HeldAttempts,
    pub(super) queue: Arc<Queue>,
    /// Queued jobs that pause before another try, by when that is over.
    pub(super) pauses: BTreeSet<(Instant, i64, usize)>,
    pub(super) turns: Turns,
    pub(super) sessions: BTreeMap<String, Session>,
    /// Runners that have left by themselves lately, and how many jobs each had begun.
    pub(super) left: HashMap<String, (u32, Instant)>,
    /// Runners that take nothing more, and who asked for that.
    pub(super) draining: HashMap<String, String>,
    pub(super) waiting: Vec<Waiting>,
    /// Results of this batch that are yet to be answered.
    pub(super) finished: Vec<Finished>,
    /// Who asked to look in this batch.
    pub(super) lookers: Vec<Reply<Arc<Snapshot>>>,
    holders: Holders,
    pools: PoolsSeen,
    pub(super) terms: Terms,
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
    pub(super) ended: Vec<i64>,
    pub(super) counted: Counted,
}

impl Room {
    /// Nothing goes on and nobody is signed on.
    pub(super) fn new(holders: Holders, pools: PoolsSeen, terms: Terms) -> Room {
        Room {
            runs: HashMap::new(),
            held: HeldAttempts::default(),
            queue: Arc::default(),
            pauses: BTreeSet::new(),
            turns: Turns::default(),
            sessions: BTreeMap::new(),
            left: HashMap::new(),
            draining: HashMap::new(),
            waiting: Vec::new(),
            finished: Vec::new(),
            lookers: Vec::new(),
            holders,
            pools,
            terms,
            reusable: HashMap::new(),
            just_queued: Vec::new(),
            touched: Touched::default(),
        }
    }

    /// Puts back a run and its attempts as they were stored. Leases start again: runners that are alive will renew them.
    pub(super) fn restore(&mut self, live: LiveRun, attempts: Vec<AttemptRow>, now: i64) {
        let id = live.info.id;
        let (project, live) = (live.info.project_id, Arc::new(live));
        self.runs.insert(id, live.clone());
        for row in attempts.into_iter().filter(|row| row.ended_at.is_none()) {
            let job = usize::try_from(row.job).unwrap_or(usize::MAX);
            let running = live.run.jobs().get(job).is_some_and(|job| job.state() == State::Running && job.attempt == row.number);
            if running {
                self.hold(AttemptId { run: id, job, attempt: row.number }, row, project, None);
            }
        }
        (0..live.run.jobs().len()).for_each(|job| self.place(id, job, now));
    }

    /// Publishes who holds what, after all runs were read back.
    pub(super) fn restored(&mut self) {
        self.held.tell_ahead();
        self.holders.set(self.held.iter().map(|(attempt, held)| (attempt, held.row.runner.clone())).collect());
    }

    /// Leases an attempt to its runner, from now; ahead of time with the moment since when the job had been queued.
    pub(super) fn hold(&mut self, attempt: AttemptId, row: AttemptRow, project: i64, ahead: Option<i64>) {
        self.holders.insert(attempt, row.runner.clone());
        if let Some(session) = self.sessions.get_mut(&row.runner) {
            session.worked.begins(row.started_at);
        }
        let capacity = self.runs.get(&attempt.run).map(|live| live.needs(attempt.job).capacity).unwrap_or_default();
        self.held.insert(attempt, Held { row, until: Instant::now() + self.terms.lease, project, capacity, ahead });
    }

    /// Ends a lease. Gives the attempt's row; none when it was not leased.
    pub(super) fn release(&mut self, attempt: AttemptId) -> Option<AttemptRow> {
        let held = self.held.remove(attempt)?;
        self.holders.remove(attempt);
        if let Some(session) = self.sessions.get_mut(&held.row.runner) {
            session.worked.at = Some(clock::now());
        }
        Some(held.row)
    }

    /// Carries out one command. What changed is in `touched`, to be written with the batch.
    pub(super) fn handle(&mut self, command: Command, now: i64) {
        match command {
            Command::Run(command) => self.handle_run(command, now),
            Command::Fleet(command) => self.handle_fleet(command, now),
            Command::Look { reply } => self.lookers.push(reply),
            Command::Tick { stall } => {
                self.stood_still(stall);
                self.tick(now);
            }
            Command::Pause => self.end_pauses(now),
        }
        self.reuse(now);
    }

    fn handle_run(&mut self, command: RunCommand, now: i64) {
        match command {
            RunCommand::BringIn { .. } => {} // it was read when this command came
            RunCommand::Begin { info, plan, usual, ready, carried } => {
                self.learn(ready);
                self.begin(*info, plan, &usual, carried.map(|carried| *carried), now);
            }
            RunCommand::Said { runner, attempt, facts, numbers, reply } => {
                let answer = self.said(&runner, attempt, facts, numbers, now);
                self.answer(reply, answer);
            }
            RunCommand::Phases { runner, attempt, phases, reply } => {
                let answer = self.phases(&runner, attempt, &phases, now);
                self.answer(reply, answer);
            }
            RunCommand::Finish { runner, attempt, finish, artifacts, reply } => {
                self.finish(&runner, attempt, *finish, artifacts, reply, now);
            }
            RunCommand::GiveBack { runner, attempt, ask, reply } => {
                let answer = self.give_back(&runner, attempt, &ask, now);
                self.answer(reply, answer);
            }
            RunCommand::LetGo { runner, attempt, ask, reply } => {
                let answer = self.let_go(&runner, attempt, &ask, now);
                self.answer(reply, answer);
            }
            RunCommand::Stop { run, job, by, reply } => {
                let answer = self.stop(run, job.as_deref(), by.name(), now);
                if answer.is_ok() {
                    self.journal(&by, Action::StopRun, run, job.as_slice());
                }
                self.answer(reply, answer);
            }
            RunCommand::StartJob { run, job, by, inputs, reply } => {
                let answer = self.start_job(run, &job, by.name(), inputs, now);
                if answer.is_ok() {
                    self.journal(&by, Action::StartJob, run, &[job]);
                }
                self.answer(reply, answer);
            }
            RunCommand::Again { run, jobs, by, fresh, reply } => {
                let answer = self.again(run, &jobs, by.name().to_owned(), fresh, now);
                if answer.is_ok() {
                    self.journal(&by, Action::RunAgain, run, &jobs);
                }
                self.answer(reply, answer);
            }
            RunCommand::Deliver { run, job, asked_at, event, reply } => {
                self.delivered(run, job, asked_at, &event, now);
                self.answer(reply, ());
            }
            RunCommand::Pinned { run, job, name, pinned, reply } => {
                self.pinned(run, job, &name, pinned);
                self.answer(reply, ());
            }
            RunCommand::Forget { project_id, reply } => {
                self.forget(project_id);
                self.answer(reply, ());
            }
            RunCommand::Dropped { runs, reply } => {
                self.dropped(&runs);
                self.answer(reply, ());
            }
        }
    }

    fn handle_fleet(&mut self, command: FleetCommand, now: i64) {
        match command {
            FleetCommand::SignOn { runner, sign_on, granted, reply } => {
                let labels = self.sign_on(&runner, sign_on, granted, now);
                self.answer(reply, labels);
            }
            FleetCommand::Grant { runner, granted, reply } => {
                self.grant(&runner, granted);
                self.answer(reply, ());
            }
            FleetCommand::RemoveRunner { runner, why, reply } => {
                self.remove_runner(&runner, &why, now);
                self.answer(reply, ());
            }
            FleetCommand::SignOff { runner, session, reply } => {
                self.sign_off(&runner, &session, now);
                self.answer(reply, ());
            }
            FleetCommand::Claim { runner, session, slot, reply } => self.claim(runner, &session, slot, reply, now),
            FleetCommand::Unclaim { runner, slot } => self.waiting.retain(|waiting| waiting.runner != runner || waiting.slot != slot),
            FleetCommand::Beat { runner, beat, reply } => {
                let answer = self.beat(&runner, &beat);
                self.answer(reply, answer);
            }
            FleetCommand::Drain { runner, by, reply } => {
                self.drain(runner, by);
                self.answer(reply, ());
            }
        }
    }

    /// Everything as it is now, for all who asked to look. Called once at the end of each batch.
    pub(super) fn show(&mut self, now: i64) {
        let lookers = std::mem::take(&mut self.lookers);
        if lookers.is_empty() {
            return;
        }
        let snapshot = Arc::new(self.snapshot(now));
        for reply in lookers {
            self.answer(reply, snapshot.clone());
        }
    }

    fn snapshot(&self, now: i64) -> Snapshot {
        let worked_on = self.held.iter().filter(|(_, held)| held.ahead.is_none());
        let held = worked_on.map(|(attempt, held)| HeldNow {
            attempt,
            runner: held.row.runner.clone(),
            started_at: held.row.started_at,
            phases: held.row.phases.clone(),
        });
        Snapshot {
            runs: self.runs.clone(),
            queue: self.queue.clone(),
            paused: self.pauses.iter().map(|(_, run, job)| (*run, *job)).collect(),
            turns: self.turns.clone(),
            held: held.collect(),
            offers: self.offers(),
            worked: self.sessions.iter().map(|(name, session)| (name.clone(), session.worked)).collect(),
            left: self.left.iter().map(|(name, (begun, _))| Left { name: name.clone(), begun: *begun }).collect(),
            pools: self.pools.now(),
            isolation: self.sessions.iter().map(|(name, session)| (name.clone(), session.isolation.clone())).collect(),
            now,
        }
    }

    /// A run to be changed. Whoever looks at it meanwhile keeps what they saw.
    pub(super) fn live(&mut self, id: i64) -> Option<&mut LiveRun> {
        self.runs.get_mut(&id).map(Arc::make_mut)
    }

    /// Answers when the batch is on disk.
    pub(super) fn answer<T: Send + Sync + 'static>(&mut self, reply: oneshot::Sender<T>, value: T) {
        // Whoever asked may have gone; that is theirs to notice.
        self.touched.answers.push(Box::new(move || drop(reply.send(value))));
    }

    /// Everything the batch changed, ready to be written; jobs and attempts in their last state.
    pub(super) fn take_rows(&mut self) -> StepRows {
        let mut rows = std::mem::take(&mut self.touched.rows);
        for (id, job) in std::mem::take(&mut self.touched.jobs) {
            let Some(live) = self.runs.get(&id) else { continue };
            let mut row = JobRow::new(id, job, &live.run.jobs()[job]);
            if let Some(looked) = live.looked.get(&job) {
                (row.work, row.not_reused) = (Some(looked.work.clone()), looked.not_reused.clone());
            }
            rows.jobs.push(row);
        }
        rows.attempts = std::mem::take(&mut self.touched.attempts).into_values().collect();
        rows
    }
}
