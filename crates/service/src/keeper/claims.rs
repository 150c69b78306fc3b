//! What runners ask: to be signed on, for work, to keep it, to be rid of it.

use super::lease::lease;
use super::room::{Held, Room, Session, Waiting};
use super::{Gift, Stale};
use ordotaxis_core::engine::{Event, Numbers, State};
use ordotaxis_store::{AttemptRow, Granted, RunnerRow, StoredArtifact, Took, ToolRow};
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Beat, Beaten, Finish, Lease, SignOn};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Notify, oneshot};

/// Words for systems and architectures that a runner may say of itself: nobody can call a label for a machine so.
const SYSTEMS: [&str; 12] =
    ["linux", "macos", "windows", "freebsd", "netbsd", "openbsd", "x86_64", "x86", "aarch64", "arm", "riscv64", "powerpc64"];

fn labels(sign_on: &SignOn, granted: &Granted) -> Vec<String> {
    narrowed(&sign_on.system, sign_on.labels.as_deref(), granted)
}

/// What a runner offers: what it says of its system, and of what it was granted that which it says.
fn narrowed(system: &[String], offered: Option<&[String]>, granted: &Granted) -> Vec<String> {
    let system = system.iter().filter(|word| SYSTEMS.contains(&word.as_str()));
    let own = granted.labels.iter().filter(|label| offered.is_none_or(|offered| offered.contains(label)));
    let mut labels: Vec<String> = system.chain(own).cloned().collect();
    let mut seen = BTreeSet::new();
    labels.retain(|label| seen.insert(label.clone()));
    labels
}

impl Room {
    pub(super) fn sign_on(&mut self, runner: &str, sign_on: SignOn, granted: Granted, now: i64) -> Vec<String> {
        let other = self.sessions.get(runner).is_none_or(|known| known.id != sign_on.session);
        if other {
            self.give_up(runner, &format!("runner {runner} was restarted and came back without it"), now, |_| true);
        }
        let labels = labels(&sign_on, &granted);
        let row = RunnerRow {
            name: runner.to_owned(),
            session: Some(sign_on.session.clone()),
            slots: sign_on.slots,
            labels: labels.clone(),
            isolation: sign_on.isolation.clone(),
            seen_at: Some(now),
            tools: sign_on.tools.iter().map(|tool| ToolRow { name: tool.name.clone(), version: tool.version.clone() }).collect(),
            cores: sign_on.cores,
            memory: i64::try_from(sign_on.memory_bytes).unwrap_or(i64::MAX),
            draining_by: self.draining.get(runner).cloned(),
            granted: granted.clone(),
            fence: sign_on.fence.clone(),
        };
        self.touched.signed_on.push(row);
        let SignOn { session, isolation, slots, tools, labels: offered, system, .. } = sign_on;
        let told = labels.clone();
        let session =
            Session { id: session, labels, offered, system, granted, isolation, slots, tools, seen: Instant::now(), news: Arc::default() };
        self.sessions.insert(runner.to_owned(), session);
        told
    }

    /// What a runner may have was changed: it counts at once.
    pub(super) fn grant(&mut self, runner: &str, granted: Granted) {
        if let Some(session) = self.sessions.get_mut(runner) {
            session.labels = narrowed(&session.system, session.offered.as_deref(), &granted);
            session.granted = granted;
        }
    }

    /// A runner is no more: what it has is lost at once.
    pub(super) fn remove_runner(&mut self, runner: &str, by: &str, now: i64) {
        self.sessions.remove(runner);
        self.draining.remove(runner);
        self.waiting.retain(|waiting| waiting.runner != runner);
        self.give_up(runner, &format!("runner {runner} was removed by {by}"), now, |_| true);
    }

    pub(super) fn sign_off(&mut self, runner: &str, session: &str, now: i64) {
        if self.sessions.get(runner).is_some_and(|known| known.id == session) {
            self.sessions.remove(runner);
            self.waiting.retain(|waiting| waiting.runner != runner);
            self.give_up(runner, &format!("runner {runner} left and gave it back"), now, |_| true);
        }
    }

    /// Counts attempts of a runner as lost.
    fn give_up(&mut self, runner: &str, why: &str, now: i64, which: impl Fn(&Held) -> bool) {
        let lost: Vec<AttemptId> =
            self.held.iter().filter(|(_, held)| held.row.runner == runner && which(held)).map(|(attempt, _)| *attempt).collect();
        for attempt in lost {
            if let Some(mut row) = self.let_go(attempt) {
                row.state = State::Lost.word().into();
                row.why = Some(why.to_owned());
                row.ended_at = Some(now);
                self.touched.attempts.insert(attempt, row);
            }
            let _ = self.apply(attempt.run, &Event::Lost { job: attempt.job, attempt: attempt.attempt, why: why.to_owned() }, now);
        }
    }

    /// The session of a runner, noted as alive, if it is the one it speaks of.
    fn session(&mut self, runner: &str, session: &str) -> Result<&mut Session, Stale> {
        let known = self.sessions.get_mut(runner).filter(|known| known.id == session).ok_or(Stale)?;
        known.seen = Instant::now();
        Ok(known)
    }

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
    fn holds(&self, runner: &str, slot: u32) -> Option<Lease> {
        let attempt = self.slots.get(&(runner.to_owned(), slot))?;
        let going = self.runs.get(&attempt.run)?;
        Some(lease(&going.info, &going.run, &going.given, attempt.job, &self.public_url))
    }

    /// Gives queued jobs to waiting slots. Called once at the end of each batch.
    pub(super) fn dispatch(&mut self, now: i64) {
        self.waiting.retain(|waiting| !waiting.reply.is_closed());
        for Waiting { runner, slot, reply } in std::mem::take(&mut self.waiting) {
            match self.next_for(&runner, slot, now) {
                Some(lease) => self.answer(reply, Ok(lease)),
                None => self.waiting.push(Waiting { runner, slot, reply }),
            }
        }
    }

    fn next_for(&mut self, runner: &str, slot: u32, now: i64) -> Option<Lease> {
        // What can be taken over is not given to a runner.
        self.reuse(now);
        let offer = self.offer(runner)?;
        if offer.draining {
            return None;
        }
        let session = self.sessions.get(runner)?.id.clone();
        let running = |project: i64| self.held.values().filter(|held| held.project == project).count();
        let (id, job) = self.queue.next(&offer, running, |turn| self.turns.contains_key(turn))?;
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
        let going = self.runs.get(&id)?;
        let project = going.info.project_id;
        self.hold(attempt, row, project);
        let going = self.runs.get(&id)?;
        Some(lease(&going.info, &going.run, &going.given, job, &self.public_url))
    }

    pub(super) fn beat(&mut self, runner: &str, beat: &Beat) -> Result<(Beaten, Arc<Notify>), Stale> {
        let news = self.session(runner, &beat.session)?.news.clone();
        let mut beaten = Beaten::default();
        for &attempt in &beat.holding {
            match self.held.get_mut(&attempt).filter(|held| held.row.runner == runner) {
                None => beaten.unknown.push(attempt),
                Some(held) => held.until = Instant::now() + self.lease,
            }
        }
        // Also of attempts that the runner has claimed since it sent this beat.
        let asked = |attempt: &AttemptId| {
            let job = self.runs.get(&attempt.run).map(|going| &going.run.jobs()[attempt.job]);
            job.is_some_and(|job| job.stop_asked.is_some() || job.overtaken_by.is_some())
        };
        let held = self.held.iter().filter(|(_, held)| held.row.runner == runner).map(|(attempt, _)| *attempt);
        beaten.stop = held.filter(asked).collect();
        Ok((beaten, news))
    }

    pub(super) fn phases(&mut self, runner: &str, attempt: AttemptId, phases: &[PhaseView]) -> Result<(), Stale> {
        let held = self.held.get_mut(&attempt).filter(|held| held.row.runner == runner).ok_or(Stale)?;
        held.row.phases = serde_json::to_string(phases).unwrap_or_else(|_| "[]".into());
        self.touched.attempts.insert(attempt, held.row.clone());
        self.note_job(attempt.run, attempt.job);
        Ok(())
    }

    pub(super) fn said(
        &mut self,
        runner: &str,
        attempt: AttemptId,
        facts: BTreeMap<String, String>,
        numbers: Numbers,
        now: i64,
    ) -> Result<(), Stale> {
        self.held.get(&attempt).filter(|held| held.row.runner == runner).ok_or(Stale)?;
        let event = Event::Said { job: attempt.job, attempt: attempt.attempt, facts, numbers };
        self.apply(attempt.run, &event, now).map_err(|_| Stale)
    }

    pub(super) fn finish(
        &mut self,
        runner: &str,
        attempt: AttemptId,
        finish: Finish,
        gifts: Vec<Gift>,
        reply: oneshot::Sender<Result<Option<Lease>, Stale>>,
        now: i64,
    ) {
        if self.session(runner, &finish.session).is_err() {
            return self.answer(reply, Err(Stale));
        }
        let (slot, claim) = (finish.slot, finish.claim);
        if let Err(stale) = self.end(runner, attempt, finish, gifts, now) {
            return self.answer(reply, Err(stale));
        }
        let next = match self.holds(runner, slot) {
            None if claim => self.next_for(runner, slot, now),
            known => known,
        };
        self.answer(reply, Ok(next));
    }

    fn end(&mut self, runner: &str, attempt: AttemptId, finish: Finish, gifts: Vec<Gift>, now: i64) -> Result<(), Stale> {
        let Finish { outcome, exit_code, ref why, .. } = finish;
        let event = Event::Ended { job: attempt.job, attempt: attempt.attempt, outcome, exit_code, why: why.clone() };
        match self.held.get(&attempt) {
            Some(held) if held.row.runner == runner => {}
            Some(_) => return Err(Stale),
            // Not held: a repeat of a result that counted, or a result that comes too late. The engine knows, unless
            // the run has ended and left; then it was a repeat of the last result, which changes nothing.
            None if self.runs.contains_key(&attempt.run) => return self.apply(attempt.run, &event, now).map_err(|_| Stale),
            None => return Ok(()),
        }
        gifts.into_iter().for_each(|gift| self.keep_gift(attempt.run, attempt.job, gift, now));
        self.apply(attempt.run, &event, now).map_err(|_| Stale)?;
        if let Some(mut row) = self.let_go(attempt) {
            let state = self.runs.get(&attempt.run).map_or(State::Failed, |going| going.run.jobs()[attempt.job].state);
            // A job that is tried again is queued; its attempt failed.
            row.state = if state.is_end() { state } else { State::Failed }.word().into();
            if state == State::Passed {
                self.note_result(attempt.run, attempt.job, now);
                self.note_time(attempt, now - row.started_at, &finish.tests);
            }
            row.why = finish.why;
            row.exit_code = finish.exit_code;
            row.ended_at = Some(now);
            row.phases = serde_json::to_string(&finish.phases).unwrap_or_else(|_| "[]".into());
            row.caches = serde_json::to_string(&finish.caches).unwrap_or_else(|_| "[]".into());
            self.touched.attempts.insert(attempt, row);
        }
        Ok(())
    }

    /// Writes down what a job has given.
    pub(super) fn keep_gift(&mut self, run: i64, job: usize, gift: Gift, now: i64) {
        let Some(going) = self.runs.get_mut(&run) else { return };
        let give = going.run.plan().jobs[job].gives.iter().find(|give| give.artifact == gift.name);
        let kept = give.and_then(|give| give.keep_ms).and_then(|ms| i64::try_from(ms).ok()).unwrap_or(self.keep);
        self.touched.rows.artifacts.push(StoredArtifact {
            run_id: run,
            job: i64::try_from(job).unwrap_or(i64::MAX),
            name: gift.name.clone(),
            digest: gift.digest.clone(),
            bytes: gift.bytes,
            files: gift.files,
            tree: Some(gift.tree.clone()),
            raw_bytes: gift.raw_bytes,
            content: gift.content.clone(),
            kept_until: Some(now.saturating_add(kept)),
            pinned_by: None,
        });
        going.given.insert((job, gift.name.clone()), gift);
    }

    /// How long a job that passed took, and its tests by their own word.
    fn note_time(&mut self, attempt: AttemptId, ms: i64, tests: &BTreeMap<String, i64>) {
        let Some(going) = self.runs.get(&attempt.run) else { return };
        let plan = going.run.plan();
        let id = &plan.jobs[attempt.job].id;
        let took = |job: &str, file: Option<String>, ms: i64| Took {
            project_id: going.info.project_id,
            pipeline: plan.pipeline.clone(),
            job: job.to_owned(),
            file,
            ms: ms.max(0),
        };
        let tests = tests.iter().map(|(file, ms)| took(id.without_cell(), Some(file.clone()), *ms));
        self.touched.rows.took.extend([took(id.as_str(), None, ms)].into_iter().chain(tests));
    }

    /// The service itself stood still (stopped, suspended, a disk that did not answer): nobody was heard for so long,
    /// and that is no runner's fault. After a long stall leases begin anew, as after a restart: runners whose calls
    /// were cut off pause before they try again.
    pub(super) fn stood_still(&mut self, stall: Duration) {
        let now = Instant::now();
        let anew = stall >= self.lease / 2;
        for held in self.held.values_mut() {
            held.until = if anew { held.until.max(now + self.lease) } else { held.until + stall };
        }
        for session in self.sessions.values_mut() {
            session.seen = if anew { now } else { (session.seen + stall).min(now) };
        }
    }

    /// Gives up attempts whose lease has run out, and forgets runners that have been silent as long.
    pub(super) fn tick(&mut self, now: i64) {
        let late = Instant::now();
        let silent: BTreeSet<String> = self.held.values().filter(|held| held.until < late).map(|held| held.row.runner.clone()).collect();
        for runner in silent {
            let why = format!("runner {runner} fell silent for {} s", self.lease.as_secs().max(1));
            self.give_up(&runner, &why, now, |held| held.until < late);
        }
        let lease = self.lease;
        self.sessions.retain(|_, session| session.seen.elapsed() < lease * 2);
        self.end_pauses(now);
    }
}
