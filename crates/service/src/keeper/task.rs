//! The keeper's loop: take what is there, apply it, write it, answer. When a step cannot be written, everything in
//! memory is thrown away and read back, so that memory never says more than the disk.

use super::Keeper;
use super::artifact::{Given, of_row};
use super::command::{Carried, Command, RunCommand};
use super::holders::Holders;
use super::info::RunInfo;
use super::live::{LiveRun, Times};
use super::pools_seen::PoolsSeen;
use super::ready::{Looked, ready};
use super::room::{Room, Terms};
use crate::causes::causes;
use crate::clock;
use crate::counters::Counters;
use crate::events::{self, Of};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::engine::{Run, State};
use ordotaxis_core::plan::Plan;
use ordotaxis_store::{AttemptRow, Logs, NewEvent, Records, StoreError, StoredRun};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use tracing::Instrument;

/// How many commands one transaction may hold.
const BATCH: usize = 256;
/// How often leases are looked at.
const TICK: Duration = Duration::from_millis(500);

/// Starts the keeper with every run that had not ended. It works until the token is cancelled.
pub(crate) async fn start(
    records: Records,
    logs: Logs,
    terms: Terms,
    counters: Counters,
    stop: CancellationToken,
) -> Result<(Keeper, JoinHandle<()>), StoreError> {
    let (sender, commands) = mpsc::channel(1024);
    let holders = Holders::default();
    let (pools, stirred) = (PoolsSeen::default(), watch::Sender::new(()));
    let keeper = Keeper { sender, holders: holders.clone(), pools: pools.clone(), stirred: stirred.clone() };
    let mut task = Task { records, logs, terms, holders, pools, stirred, counters, room: None };
    task.restore().await?;
    let handle = tokio::spawn(task.work(commands, stop));
    Ok((keeper, handle))
}

struct Task {
    records: Records,
    logs: Logs,
    terms: Terms,
    holders: Holders,
    pools: PoolsSeen,
    stirred: watch::Sender<()>,
    counters: Counters,
    room: Option<Room>,
}

impl Task {
    /// Reads back all runs that go on and who works on them, as after a crash.
    async fn restore(&mut self) -> Result<(), StoreError> {
        let mut room = Room::new(self.holders.clone(), self.pools.clone(), self.terms.clone());
        for runner in self.records.runners().await? {
            room.restore_session(runner);
        }
        for stored in self.records.open_runs().await? {
            let id = stored.id;
            match self.load(&mut room, stored).await {
                Err(StoreError::Value(what)) => self.set_aside(id, what).await?,
                other => other?,
            }
        }
        room.restored();
        self.room = Some(room);
        Ok(())
    }

    /// Reads a run back as it was stored.
    async fn load(&self, room: &mut Room, stored: StoredRun) -> Result<(), StoreError> {
        let plan: Plan = serde_json::from_str(&stored.plan).map_err(|_| StoreError::Value("runs.plan"))?;
        let state = State::from_word(&stored.state).ok_or(StoreError::Value("runs.state"))?;
        let Some(project) = self.records.project_by_id(stored.project_id).await? else { return Ok(()) };
        let jobs = self.records.jobs(stored.id).await?;
        let looked: Vec<(usize, Looked)> = jobs.iter().enumerate().filter_map(|(at, row)| Some((at, Looked::of(row)?))).collect();
        let jobs = jobs.into_iter().map(ordotaxis_store::JobRow::restore).collect::<Result<Vec<_>, _>>()?;
        if jobs.len() != plan.jobs.len() {
            return Err(StoreError::Value("jobs"));
        }
        let artifacts = self.records.artifacts(stored.id).await?.into_iter();
        let given: Given = artifacts.filter_map(|row| Some(((usize::try_from(row.job).ok()?, row.name.clone()), of_row(row)?))).collect();
        let usual = self.records.usual(project.id, &plan.pipeline).await?;
        let info = RunInfo::of(&project, &stored, jobs.iter().all(|job| job.fresh));
        let ready = ready(&self.records, &info, &plan).await?;
        // What it takes over from an earlier run has ended before it begins.
        let unbegun = state == State::Waiting && jobs.iter().all(|job| matches!(job.state(), State::Waiting | State::Reused));
        if unbegun {
            // Written down, but the service went away before it began.
            let carries = jobs.iter().any(|job| job.state().is_end());
            let carried = carries.then(|| Box::new(Carried { jobs, given }));
            room.handle(RunCommand::Begin { info: Box::new(info), plan: Arc::new(plan), usual, ready, carried }.into(), clock::now());
        } else {
            room.learn(ready);
            let run = Run::restore(Arc::new(plan), jobs, state);
            let times = Times { started: stored.started_at, ended: stored.ended_at, rest_ms: stored.rest_ms };
            let mut live = LiveRun::new(info, run, given, times, &usual);
            live.looked.extend(looked);
            room.restore(live, self.records.attempts(stored.id).await?, clock::now());
        }
        Ok(())
    }

    /// The stored state of one run cannot be read: it ends as failed, that is reported to its commit, and all other runs go on.
    async fn set_aside(&self, id: i64, what: &str) -> Result<(), StoreError> {
        let why = format!("what was kept of this run cannot be read ({what}); start another for the same commit");
        tracing::error!(run = id, what, "a run cannot be read back; it is set aside");
        let now = clock::now();
        let words = sentence(State::Failed, &Summary::default(), None, Some(&why));
        let mut tx = self.records.tx_by_rule("set-aside", now).await?;
        let Some(aside) = tx.set_aside(id, &why).await? else { return Ok(()) };
        let of = Of {
            id,
            project_id: aside.project_id,
            project: &aside.project,
            number: aside.number,
            pipeline: &aside.pipeline,
            branch: aside.branch.as_deref(),
            told_on: &aside.told_on,
        };
        tx.add_events(&[events::of_run(&of, State::Failed, &words, aside.started_at, Some(now))]).await?;
        tx.commit().await
    }

    /// Someone asks for something of a run that has ended: it is read back first.
    async fn bring_back(&mut self, id: i64) -> Result<(), StoreError> {
        if self.room.as_ref().is_none_or(|room| room.runs.contains_key(&id)) {
            return Ok(());
        }
        let Some(stored) = self.records.stored_run(id).await? else { return Ok(()) };
        let Some(mut room) = self.room.take() else { return Ok(()) };
        let loaded = self.load(&mut room, stored).await;
        room.touched.ended.push(id); // unless it goes on from here, it leaves again
        self.room = Some(room);
        loaded
    }

    /// Takes commands in batches: applies them, writes what changed in one transaction, then answers.
    async fn work(mut self, mut commands: mpsc::Receiver<Command>, stop: CancellationToken) {
        let mut ticks = tokio::time::interval(TICK);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut ticked = Instant::now();
        let mut batch = Vec::with_capacity(BATCH);
        loop {
            let pause = self.room.as_ref().and_then(Room::next_pause);
            tokio::select! {
                () = stop.cancelled() => return,
                _ = ticks.tick() => {
                    // What has arrived comes first: a beat that waits here was sent in time.
                    while batch.len() < BATCH && let Ok(command) = commands.try_recv() {
                        batch.push(command);
                    }
                    batch.push(Command::Tick { stall: late_by(&mut ticked) });
                }
                () = over(pause) => batch.push(Command::Pause),
                received = commands.recv_many(&mut batch, BATCH) => {
                    if received == 0 {
                        return;
                    }
                }
            }
            if let Err(error) = self.step(&mut batch).await {
                tracing::error!(error = causes(&error), "a step of runs could not be written; reading everything back");
                while let Err(error) = self.restore().await {
                    tracing::error!(error = causes(&error), "runs could not be read back; trying again");
                    tokio::select! {
                        () = stop.cancelled() => return,
                        () = tokio::time::sleep(TICK) => {}
                    }
                }
            }
        }
    }

    /// One batch, and how long it took. An error means that nothing of it was written.
    async fn step(&mut self, batch: &mut Vec<Command>) -> Result<(), StoreError> {
        let since = Instant::now();
        let own = tracing::info_span!("keeper batch", ordotaxis.commands = i64::try_from(batch.len()).unwrap_or(i64::MAX));
        self.step_of(batch).instrument(own).await?;
        self.counters.batch(since.elapsed());
        Ok(())
    }

    async fn step_of(&mut self, batch: &mut Vec<Command>) -> Result<(), StoreError> {
        let now = clock::now();
        let stirs = batch.iter().any(Command::stirs);
        for command in batch.drain(..) {
            if let Some(run) = command.brings_back() {
                self.bring_back(run).await?;
            }
            if let Some(room) = self.room.as_mut() {
                room.handle(command, now);
            }
        }
        let Some(room) = self.room.as_mut() else { return Ok(()) };
        room.dispatch(now);
        room.show(now);
        let rows = room.take_rows();
        if !rows.is_empty() {
            self.records.write_step(&rows, now).await?;
        }
        self.count(&rows.events);
        self.close_logs(&rows.attempts);
        let Some(room) = self.room.as_mut() else { return Ok(()) };
        for id in std::mem::take(&mut room.touched.ended) {
            // It may have come back within the same batch.
            if room.runs.get(&id).is_some_and(|live| live.run.state().is_end()) {
                room.runs.remove(&id);
            }
        }
        for answer in room.touched.answers.drain(..) {
            answer();
        }
        if stirs {
            self.stirred.send_replace(());
        }
        Ok(())
    }
}

impl Task {
    /// What was written is counted.
    fn count(&mut self, events: &[NewEvent]) {
        if let Some(room) = self.room.as_mut() {
            std::mem::take(&mut room.touched.counted).count(&self.counters);
        }
        let ended = events.iter().filter_map(|event| event.detail.as_ref()).map(|detail| detail.state).filter(|state| state.is_end());
        ended.for_each(|state| self.counters.run_ended(state));
    }

    /// The logs of attempts that ended are complete: they are to be moved into the store.
    fn close_logs(&self, attempts: &[AttemptRow]) {
        let ended: Vec<(i64, usize, u32)> = attempts
            .iter()
            .filter(|row| row.ended_at.is_some())
            .filter_map(|row| Some((row.run_id, usize::try_from(row.job).ok()?, row.number)))
            .filter(|(run, job, attempt)| self.logs.has_any(*run, *job, *attempt))
            .collect();
        if ended.is_empty() {
            return;
        }
        let logs = self.logs.clone();
        tokio::task::spawn_blocking(move || {
            for (run, job, attempt) in ended {
                logs.close(run, job, attempt);
            }
        });
    }
}

async fn over(pause: Option<std::time::Instant>) {
    match pause {
        Some(moment) => tokio::time::sleep_until(moment.into()).await,
        None => std::future::pending().await,
    }
}

/// How much later than it was due a tick comes. While the machine is suspended this clock stands still, and with it all
/// leases: that needs no measuring.
fn late_by(ticked: &mut Instant) -> Duration {
    let late = ticked.elapsed().saturating_sub(TICK);
    *ticked = Instant::now();
    if late > TICK {
        tracing::warn!("the service stood still for {} ms; leases are extended by as much", late.as_millis());
    }
    late
}
