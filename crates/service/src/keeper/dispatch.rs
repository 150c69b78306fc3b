//! Which job waits in the queue, pauses, or goes to a slot that waits for one.

use super::lease::lease;
use super::refused::Stale;
use super::room::{Room, Waiting};
use ordotaxis_core::engine::{Event, Millis, Progress, State};
use ordotaxis_store::AttemptRow;
use ordotaxis_wire::runner::{AttemptId, Lease};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::oneshot;

/// The longest that a clock which was set back can make a pause.
const LONGEST_PAUSE_MS: Millis = 60_000;

impl Room {
    /// Puts a job where its state wants it: in the queue, among those that pause, in possession of its turn, or nowhere.
    pub(super) fn place(&mut self, id: i64, job: usize, now: i64) {
        let Some(live) = self.runs.get(&id) else { return };
        let known = &live.run.jobs()[job];
        match known.progress {
            Progress::Queued { not_before: None, .. } => Arc::make_mut(&mut self.queue).insert((id, job), live.queued(job)),
            Progress::Queued { not_before: Some(moment), .. } => {
                let left = u64::try_from((moment - now).clamp(0, LONGEST_PAUSE_MS)).unwrap_or(0);
                self.pauses.insert((Instant::now() + Duration::from_millis(left), id, job));
                Arc::make_mut(&mut self.queue).remove((id, job));
            }
            _ => Arc::make_mut(&mut self.queue).remove((id, job)),
        }
        let runs = known.state() == State::Running;
        if let Some(turn) = live.turn(job) {
            self.turns.set(turn, (id, job), runs);
        }
    }

    /// When the next pause is over.
    pub(super) fn next_pause(&self) -> Option<Instant> {
        self.pauses.first().map(|(moment, ..)| *moment)
    }

    /// Jobs whose pause is over may be taken from now on.
    pub(super) fn end_pauses(&mut self, now: i64) {
        let late = Instant::now();
        while let Some(&(moment, id, job)) = self.pauses.first().filter(|(moment, ..)| *moment <= late) {
            self.pauses.remove(&(moment, id, job));
            // A run may have gone, or the job have ended: then this changes nothing.
            let _ = self.apply(id, &Event::PauseOver { job }, now);
        }
    }

    /// A free slot asks for work: answered at once where it has a lease already, else when there is a job for it.
    pub(super) fn claim(&mut self, runner: String, session: &str, slot: u32, reply: oneshot::Sender<Result<Lease, Stale>>) {
        if self.session(&runner, session).is_err() {
            return self.answer(reply, Err(Stale));
        }
        if let Some(lease) = self.holds(&runner, slot) {
            return self.answer(reply, Ok(lease));
        }
        self.waiting.retain(|waiting| waiting.runner != runner || waiting.slot != slot);
        self.waiting.push(Waiting { runner, slot, reply });
    }

    /// The lease that a slot holds already: its claim's answer was lost on the way.
    pub(super) fn holds(&self, runner: &str, slot: u32) -> Option<Lease> {
        let attempt = self.slots.get(&(runner.to_owned(), slot))?;
        let live = self.runs.get(&attempt.run)?;
        Some(lease(&live.info, &live.run, &live.given, attempt.job, &self.public_url))
    }

    /// Gives queued jobs to waiting slots. Called once at the end of each batch.
    pub(super) fn dispatch(&mut self, now: i64) {
        self.waiting.retain(|waiting| !waiting.reply.is_closed());
        // What can be taken over is not given to a runner.
        self.reuse(now);
        if self.queue.is_empty() {
            return;
        }
        for Waiting { runner, slot, reply } in std::mem::take(&mut self.waiting) {
            match self.next_for(&runner, slot, now) {
                Some(lease) => self.answer(reply, Ok(lease)),
                None => self.waiting.push(Waiting { runner, slot, reply }),
            }
        }
    }

    /// The lease of the job that this slot does next, if there is one for it now.
    pub(super) fn next_for(&mut self, runner: &str, slot: u32, now: i64) -> Option<Lease> {
        // What can be taken over is not given to a runner.
        self.reuse(now);
        let offer = self.offer(runner)?;
        if offer.draining {
            return None;
        }
        let session = self.sessions.get(runner)?.id.clone();
        let running = |project: i64| self.held.running(project);
        let (id, job) = Arc::make_mut(&mut self.queue).next(&offer, running, |turn| self.turns.holder(turn).is_some())?;
        let attempt = self.runs.get(&id)?.run.jobs()[job].attempt + 1;
        self.apply(id, &Event::Claimed { job, attempt, runner: runner.to_owned() }, now).ok()?;
        let attempt = AttemptId { run: id, job, attempt };
        let row = AttemptRow {
            run_id: id,
            job: i64::try_from(job).unwrap_or(i64::MAX),
            number: attempt.attempt,
            runner: runner.to_owned(),
            session,
            slot,
            state: State::Running.word().into(),
            why: None,
            exit_code: None,
            started_at: now,
            ended_at: None,
            phases: "[]".into(),
            caches: "[]".into(),
        };
        self.touched.attempts.insert(attempt, row.clone());
        let live = self.runs.get(&id)?;
        let project = live.info.project_id;
        self.hold(attempt, row, project);
        let live = self.runs.get(&id)?;
        Some(lease(&live.info, &live.run, &live.given, job, &self.public_url))
    }
}
