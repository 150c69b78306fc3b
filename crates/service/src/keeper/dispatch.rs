//! Which job waits in the queue, pauses, or goes to a slot that waits for one.

use super::lease::lease;
use super::refused::Stale;
use super::room::{Room, Waiting};
use ordotaxis_core::dispatch::Key;
use ordotaxis_core::engine::{Event, Millis, Progress, State};
use ordotaxis_store::AttemptRow;
use ordotaxis_wire::runner::{AttemptId, Claimed, Lease};
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
        if let Some(moment) = known.progress.pause() {
            // However the clock is set: a rest is never longer than it was to be.
            let longest = if known.state() == State::Gated { (moment - known.since).max(0) } else { LONGEST_PAUSE_MS };
            let left = u64::try_from((moment - now).clamp(0, longest)).unwrap_or(0);
            self.pauses.insert((Instant::now() + Duration::from_millis(left), id, job));
        }
        match known.progress {
            Progress::Queued { not_before: None, .. } => Arc::make_mut(&mut self.queue).insert((id, job), live.queued(job)),
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
    pub(super) fn claim(&mut self, runner: String, session: &str, slot: u32, reply: oneshot::Sender<Result<Claimed, Stale>>, now: i64) {
        if self.session(&runner, session).is_err() {
            return self.answer(reply, Err(Stale));
        }
        let claimed = self.holds(&runner, slot, &[], now);
        if claimed.lease.is_some() {
            return self.answer(reply, Ok(claimed));
        }
        self.waiting.retain(|waiting| waiting.runner != runner || waiting.slot != slot);
        self.waiting.push(Waiting { runner, slot, reply });
    }

    /// Gives queued jobs to waiting slots, and answers results. Called once at the end of each batch.
    pub(super) fn dispatch(&mut self, now: i64) {
        self.waiting.retain(|waiting| !waiting.reply.is_closed());
        // What can be taken over is not given to a runner.
        self.reuse(now);
        if !self.queue.is_empty() {
            for Waiting { runner, slot, reply } in std::mem::take(&mut self.waiting) {
                match self.next_for(&runner, slot, now) {
                    Some(lease) => self.answer(reply, Ok(Claimed { lease: Some(lease), ahead: None })),
                    None => self.waiting.push(Waiting { runner, slot, reply }),
                }
            }
        }
        self.answer_finished(now);
    }

    /// The lease of the job that this slot does next, if there is one for it now.
    pub(super) fn next_for(&mut self, runner: &str, slot: u32, now: i64) -> Option<Lease> {
        // What can be taken over is not given to a runner.
        self.reuse(now);
        let key = self.first_for(runner, now)?;
        self.take(key, runner, slot, now, false)
    }

    /// The queued job that a slot of this runner takes next.
    pub(super) fn first_for(&self, runner: &str, now: i64) -> Option<Key> {
        let offer = self.offer(runner).filter(|offer| !offer.draining)?;
        let running = |project: i64| self.held.running(project);
        self.queue.first_for(&offer, now, running, |turn| self.turns.holder(turn).is_some())
    }

    /// Leases a queued job to a slot: to be done now, or `ahead` of time.
    pub(super) fn take(&mut self, (id, job): Key, runner: &str, slot: u32, now: i64, ahead: bool) -> Option<Lease> {
        let session = self.sessions.get(runner)?.id.clone();
        Arc::make_mut(&mut self.queue).serve((id, job));
        let live = self.runs.get(&id)?;
        let (known, job_id) = (&live.run.jobs()[job], live.run.plan().jobs[job].id.to_string());
        let (attempt, since) = (known.attempt + 1, known.since);
        let ahead = ahead.then_some(since);
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
            queued_at: Some(since),
            ended_at: None,
            phases: "[]".into(),
            caches: "[]".into(),
            job_id: Some(job_id),
        };
        self.touched.attempts.insert(attempt, row.clone());
        let project = self.runs.get(&id)?.info.project_id;
        self.hold(attempt, row, project, ahead);
        self.lease_of(attempt)
    }

    /// The lease of an attempt that is held, made once more.
    pub(super) fn lease_of(&self, attempt: AttemptId) -> Option<Lease> {
        let taken_at = self.held.get(attempt)?.row.started_at;
        let live = self.runs.get(&attempt.run)?;
        let parent = self.terms.traces.as_ref().map(|mark| mark.parent(attempt));
        Some(Lease { taken_at, parent, ..lease(&live.info, &live.run, &live.given, attempt.job, &self.terms.public_url) })
    }
}
