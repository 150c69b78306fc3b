//! Every run that goes on, who holds what, who waits for work, and what each command does to all that. Nothing here
//! waits: changes are noted in [`Room::touched`] and written by the task.

use super::lease::{Given, lease};
use super::{Command, Holders, RunInfo, RunnerNow, Stale, StopRefused, Whys};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::dispatch::{self, Offer};
use ordotaxis_core::engine::{Event, Refused, Run, State, why_job};
use ordotaxis_core::plan::{Event as Happened, Occasion, Plan};
use ordotaxis_store::{AttemptRow, JobRow, Message, PassedRun, RunChange, RunnerRow, StepRows, StoredArtifact};
use ordotaxis_wire::moment;
use ordotaxis_wire::runner::{AttemptId, Beat, Beaten, Finish, Lease, SignOn};
use ordotaxis_wire::view::{LiveEvent, PhaseView};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Notify, oneshot};

pub(super) struct Going {
    pub(super) info: RunInfo,
    pub(super) run: Run,
    pub(super) given: Given,
    pub(super) started: Option<i64>,
}

pub(super) struct Held {
    pub(super) row: AttemptRow,
    pub(super) until: Instant,
}

struct Session {
    id: String,
    labels: Vec<String>,
    isolation: String,
    slots: u32,
    seen: Instant,
    news: Arc<Notify>,
}

struct Waiting {
    runner: String,
    slot: u32,
    reply: oneshot::Sender<Result<Lease, Stale>>,
}

/// An answer that is given once the batch is on disk.
pub(super) type Answer = Box<dyn FnOnce() + Send + Sync>;

pub(super) struct Room {
    pub(super) runs: HashMap<i64, Going>,
    pub(super) held: HashMap<AttemptId, Held>,
    slots: HashMap<(String, u32), AttemptId>,
    /// Queued jobs in the order they are given out: oldest run first, then by place in the plan.
    queue: BTreeSet<(i64, usize)>,
    sessions: BTreeMap<String, Session>,
    waiting: Vec<Waiting>,
    holders: Holders,
    lease: Duration,
    public_url: String,
    pub(super) touched: Touched,
}

/// What a batch changed and has yet to be written.
#[derive(Default)]
pub(super) struct Touched {
    jobs: BTreeSet<(i64, usize)>,
    rows: StepRows,
    attempts: BTreeMap<AttemptId, AttemptRow>,
    pub(super) answers: Vec<Answer>,
    pub(super) signed_on: Vec<RunnerRow>,
    pub(super) ended: Vec<i64>,
}

impl Room {
    pub(super) fn new(holders: Holders, lease: Duration, public_url: String) -> Room {
        Room {
            runs: HashMap::new(),
            held: HashMap::new(),
            slots: HashMap::new(),
            queue: BTreeSet::new(),
            sessions: BTreeMap::new(),
            waiting: Vec::new(),
            holders,
            lease,
            public_url,
            touched: Touched::default(),
        }
    }

    /// Puts back a run and its attempts as they were stored. Leases begin anew: whoever lives will renew them.
    pub(super) fn restore(&mut self, going: Going, attempts: Vec<AttemptRow>) {
        let id = going.info.id;
        for (job, state) in going.run.jobs().iter().enumerate() {
            if state.state == State::Queued {
                self.queue.insert((id, job));
            }
        }
        for row in attempts.into_iter().filter(|row| row.ended_at.is_none()) {
            let job = usize::try_from(row.job).unwrap_or(usize::MAX);
            let running = going.run.jobs().get(job).is_some_and(|job| job.state == State::Running && job.attempt == row.number);
            if running {
                self.hold(AttemptId { run: id, job, attempt: row.number }, row);
            }
        }
        self.runs.insert(id, going);
    }

    /// A runner that was signed on when the service went down; it counts as silent from now on.
    pub(super) fn restore_session(&mut self, row: RunnerRow) {
        let Some(id) = row.session else { return };
        let session =
            Session { id, labels: row.labels, isolation: row.isolation, slots: row.slots, seen: Instant::now(), news: Arc::default() };
        self.sessions.insert(row.name, session);
    }

    pub(super) fn restored(&self) {
        self.holders.set(self.held.iter().map(|(attempt, held)| (*attempt, held.row.runner.clone())).collect());
    }

    fn hold(&mut self, attempt: AttemptId, row: AttemptRow) {
        self.slots.insert((row.runner.clone(), row.slot), attempt);
        self.holders.insert(attempt, row.runner.clone());
        self.held.insert(attempt, Held { row, until: Instant::now() + self.lease });
    }

    fn let_go(&mut self, attempt: AttemptId) -> Option<AttemptRow> {
        let held = self.held.remove(&attempt)?;
        self.slots.remove(&(held.row.runner.clone(), held.row.slot));
        self.holders.remove(attempt);
        Some(held.row)
    }

    pub(super) fn handle(&mut self, command: Command, now: i64) {
        match command {
            Command::Begin { info, plan } => self.begin(info, plan, now),
            Command::SignOn { runner, sign_on, reply } => {
                self.sign_on(&runner, sign_on, now);
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
            Command::Finish { runner, attempt, finish, reply } => self.finish(&runner, attempt, *finish, reply, now),
            Command::Stop { run, job, by, reply } => {
                let answer = self.stop(run, job.as_deref(), by, now);
                self.answer(reply, answer);
            }
            Command::Why { run, reply } => {
                let whys = self.whys(run);
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
            Command::Forget { project_id, reply } => {
                self.forget(project_id);
                self.answer(reply, ());
            }
            Command::Tick => self.tick(now),
        }
    }

    fn answer<T: Send + Sync + 'static>(&mut self, reply: oneshot::Sender<T>, value: T) {
        // Whoever asked may have gone; that is theirs to notice.
        self.touched.answers.push(Box::new(move || drop(reply.send(value))));
    }

    fn begin(&mut self, info: RunInfo, plan: Arc<Plan>, now: i64) {
        let id = info.id;
        if self.runs.contains_key(&id) {
            return; // read back from storage before this word of it arrived
        }
        let run = Run::new(plan, now);
        self.runs.insert(id, Going { info, run, given: Given::new(), started: None });
        let _ = self.apply(id, &Event::Begun, now);
        self.note_run(id);
    }

    /// Lets the engine apply an event and notes what changed.
    fn apply(&mut self, id: i64, event: &Event, now: i64) -> Result<(), Refused> {
        let going = self.runs.get_mut(&id).ok_or(Refused::Stale)?;
        let effects = going.run.apply(event, now)?;
        for &job in &effects.changed {
            if going.run.jobs()[job].state == State::Queued {
                self.queue.insert((id, job));
            } else {
                self.queue.remove(&(id, job));
            }
            self.touched.jobs.insert((id, job));
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
        if going.started.is_none() {
            going.started = Some(now);
        }
        let ended = state.is_end().then_some(now);
        let summary = Summary::of(&going.run);
        let took = going.started.map(|started| now - started);
        let sentence = sentence(state, &summary, took, None);
        let message = Message {
            run: format!("{}/{}", going.info.project, going.info.number),
            pipeline: going.run.plan().pipeline.clone(),
            state,
            sentence: sentence.clone(),
            branch: going.info.branch.clone(),
            started_at: going.started,
            ended_at: ended,
        };
        let why = ended.map(|_| sentence);
        self.touched.rows.runs.push(RunChange { id, state, why, started: going.started, ended });
        let body = serde_json::to_string(&message).unwrap_or_default();
        let mut send = |kind| self.touched.rows.outbox.push((going.info.project_id, going.info.told_on.clone(), kind, body.clone()));
        send("status");
        if ended.is_some() {
            send("note");
            self.touched.ended.push(id);
        }
        if state == State::Passed
            && let Some(passed) = passed_run(&going.info, going.run.plan())
        {
            self.touched.rows.passed.push(passed);
        }
        self.note_run(id);
    }

    fn note_run(&mut self, id: i64) {
        let Some(going) = self.runs.get(&id) else { return };
        let event =
            LiveEvent { run: format!("{}/{}", going.info.project, going.info.number), state: going.run.state(), job: None, why: None };
        self.touched.rows.journal.push((id, serde_json::to_string(&event).unwrap_or_default()));
    }

    fn sign_on(&mut self, runner: &str, sign_on: SignOn, now: i64) {
        let other = self.sessions.get(runner).is_none_or(|known| known.id != sign_on.session);
        if other {
            self.give_up(runner, &format!("runner {runner} was restarted and came back without it"), now, |_| true);
        }
        let row = RunnerRow {
            name: runner.to_owned(),
            session: Some(sign_on.session.clone()),
            slots: sign_on.slots,
            labels: sign_on.labels.clone(),
            isolation: sign_on.isolation.clone(),
            seen_at: Some(now),
        };
        self.touched.signed_on.push(row);
        let SignOn { session, labels, isolation, slots, .. } = sign_on;
        let session = Session { id: session, labels, isolation, slots, seen: Instant::now(), news: Arc::default() };
        self.sessions.insert(runner.to_owned(), session);
    }

    fn sign_off(&mut self, runner: &str, session: &str, now: i64) {
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

    fn claim(&mut self, runner: String, session: &str, slot: u32, reply: oneshot::Sender<Result<Lease, Stale>>) {
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
        let session = self.sessions.get(runner)?;
        let fits = |&&(run, job): &&(i64, usize)| {
            self.runs.get(&run).is_some_and(|going| dispatch::fits(&going.run.plan().jobs[job].labels, &session.labels))
        };
        let &(id, job) = self.queue.iter().find(fits)?;
        let session = session.id.clone();
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
        };
        self.touched.attempts.insert(attempt, row.clone());
        self.hold(attempt, row);
        let going = self.runs.get(&id)?;
        Some(lease(&going.info, &going.run, &going.given, job, &self.public_url))
    }

    fn beat(&mut self, runner: &str, beat: &Beat) -> Result<(Beaten, Arc<Notify>), Stale> {
        let news = self.session(runner, &beat.session)?.news.clone();
        let mut beaten = Beaten::default();
        for &attempt in &beat.holding {
            match self.held.get_mut(&attempt).filter(|held| held.row.runner == runner) {
                None => beaten.unknown.push(attempt),
                Some(held) => held.until = Instant::now() + self.lease,
            }
        }
        // Also of attempts that the runner has claimed since it sent this beat.
        let asked =
            |attempt: &AttemptId| self.runs.get(&attempt.run).is_some_and(|going| going.run.jobs()[attempt.job].stop_asked.is_some());
        let held = self.held.iter().filter(|(_, held)| held.row.runner == runner).map(|(attempt, _)| *attempt);
        beaten.stop = held.filter(asked).collect();
        Ok((beaten, news))
    }

    fn phases(&mut self, runner: &str, attempt: AttemptId, phases: &[PhaseView]) -> Result<(), Stale> {
        let held = self.held.get_mut(&attempt).filter(|held| held.row.runner == runner).ok_or(Stale)?;
        held.row.phases = serde_json::to_string(phases).unwrap_or_else(|_| "[]".into());
        self.touched.attempts.insert(attempt, held.row.clone());
        self.touched.jobs.insert((attempt.run, attempt.job));
        Ok(())
    }

    fn finish(&mut self, runner: &str, attempt: AttemptId, finish: Finish, reply: oneshot::Sender<Result<Option<Lease>, Stale>>, now: i64) {
        if self.session(runner, &finish.session).is_err() {
            return self.answer(reply, Err(Stale));
        }
        let (slot, claim) = (finish.slot, finish.claim);
        if let Err(stale) = self.end(runner, attempt, finish, now) {
            return self.answer(reply, Err(stale));
        }
        let next = match self.holds(runner, slot) {
            None if claim => self.next_for(runner, slot, now),
            known => known,
        };
        self.answer(reply, Ok(next));
    }

    fn end(&mut self, runner: &str, attempt: AttemptId, finish: Finish, now: i64) -> Result<(), Stale> {
        let event = Event::Ended { job: attempt.job, attempt: attempt.attempt, outcome: finish.outcome, why: finish.why.clone() };
        match self.held.get(&attempt) {
            Some(held) if held.row.runner == runner => {}
            Some(_) => return Err(Stale),
            // Not held: a repeat of a result that counted, or a result that comes too late. The engine knows, unless
            // the run has ended and left; then it was a repeat of the last result, which changes nothing.
            None if self.runs.contains_key(&attempt.run) => return self.apply(attempt.run, &event, now).map_err(|_| Stale),
            None => return Ok(()),
        }
        for artifact in &finish.artifacts {
            let row = StoredArtifact {
                run_id: attempt.run,
                job: i64::try_from(attempt.job).unwrap_or(i64::MAX),
                name: artifact.name.clone(),
                digest: artifact.digest.clone(),
                bytes: i64::try_from(artifact.bytes).unwrap_or(i64::MAX),
                files: i64::try_from(artifact.files).unwrap_or(i64::MAX),
            };
            self.touched.rows.artifacts.push(row);
            if let Some(going) = self.runs.get_mut(&attempt.run) {
                going.given.insert((attempt.job, artifact.name.clone()), artifact.digest.clone());
            }
        }
        self.apply(attempt.run, &event, now).map_err(|_| Stale)?;
        if let Some(mut row) = self.let_go(attempt) {
            let ended = self.runs.get(&attempt.run).map_or(State::Failed, |going| going.run.jobs()[attempt.job].state);
            row.state = ended.word().into();
            row.why = finish.why;
            row.exit_code = finish.exit_code;
            row.ended_at = Some(now);
            row.phases = serde_json::to_string(&finish.phases).unwrap_or_else(|_| "[]".into());
            self.touched.attempts.insert(attempt, row);
        }
        Ok(())
    }

    fn stop(&mut self, id: i64, job: Option<&str>, by: String, now: i64) -> Result<(), StopRefused> {
        let going = self.runs.get(&id).ok_or(StopRefused::RunEnded)?;
        let known = &going.run.plan().jobs;
        let job = match job {
            None => None,
            Some(name) => {
                let all = || known.iter().map(|job| job.id.to_string()).collect();
                Some(known.iter().position(|job| job.id.as_str() == name).ok_or_else(|| StopRefused::NoSuchJob(all()))?)
            }
        };
        let _ = self.apply(id, &Event::StopAsked { job, by }, now);
        Ok(())
    }

    fn offers(&self) -> Vec<Offer> {
        let offer = |(name, session): (&String, &Session)| {
            let busy = self.held.values().filter(|held| &held.row.runner == name).count();
            let free = usize::try_from(session.slots).unwrap_or(0).saturating_sub(busy);
            Offer { name: name.clone(), labels: session.labels.clone(), free }
        };
        self.sessions.iter().map(offer).collect()
    }

    fn whys(&self, id: i64) -> Option<Whys> {
        let going = self.runs.get(&id)?;
        let offers = self.offers();
        let clock = |ms: i64| moment(ms).strftime("%H:%M:%S UTC").to_string();
        let why = |job: usize| {
            why_job(&going.run, job, &clock, || {
                let labels = &going.run.plan().jobs[job].labels;
                let ahead = self.queue.range(..(id, job)).count();
                dispatch::why_queued(labels, &offers, ahead)
            })
        };
        Some((0..going.run.jobs().len()).map(why).collect())
    }

    fn runners(&self) -> Vec<RunnerNow> {
        let doing = |name: &str| {
            let held = self.held.iter().filter(|(_, held)| held.row.runner == name);
            let mut doing: Vec<String> = held
                .filter_map(|(attempt, _)| {
                    let going = self.runs.get(&attempt.run)?;
                    Some(format!("{}/{} {}", going.info.project, going.info.number, going.run.plan().jobs[attempt.job].id))
                })
                .collect();
            doing.sort();
            doing
        };
        let now = |(name, session): (&String, &Session)| RunnerNow {
            name: name.clone(),
            labels: session.labels.clone(),
            isolation: session.isolation.clone(),
            slots: session.slots,
            doing: doing(name),
        };
        self.sessions.iter().map(now).collect()
    }

    fn counts(&self) -> Vec<(State, u64)> {
        let mut counts: HashMap<State, u64> = HashMap::new();
        for job in self.runs.values().flat_map(|going| going.run.jobs()) {
            *counts.entry(job.state).or_default() += 1;
        }
        [State::Waiting, State::Queued, State::Running].map(|state| (state, counts.get(&state).copied().unwrap_or(0))).to_vec()
    }

    /// Lets go of all runs of a project that is removed; their runners are told that the attempts are unknown.
    fn forget(&mut self, project_id: i64) {
        let gone: Vec<i64> = self.runs.values().filter(|going| going.info.project_id == project_id).map(|going| going.info.id).collect();
        self.queue.retain(|(run, _)| !gone.contains(run));
        let held: Vec<AttemptId> = self.held.keys().filter(|attempt| gone.contains(&attempt.run)).copied().collect();
        for attempt in held {
            self.let_go(attempt);
        }
        for id in gone {
            self.runs.remove(&id);
        }
    }

    /// Gives up attempts whose lease has run out, and forgets runners that have been silent as long.
    fn tick(&mut self, now: i64) {
        let late = Instant::now();
        let silent: BTreeSet<String> = self.held.values().filter(|held| held.until < late).map(|held| held.row.runner.clone()).collect();
        for runner in silent {
            let why = format!("runner {runner} fell silent for {} s", self.lease.as_secs().max(1));
            self.give_up(&runner, &why, now, |held| held.until < late);
        }
        let lease = self.lease;
        self.sessions.retain(|_, session| session.seen.elapsed() < lease * 2);
    }

    /// Everything the batch changed, ready to be written; jobs and attempts in their last state.
    pub(super) fn take_rows(&mut self) -> StepRows {
        let mut rows = std::mem::take(&mut self.touched.rows);
        // Jobs are told before their runs: whoever hears a verdict has heard all that led to it.
        let runs = std::mem::take(&mut rows.journal);
        for (id, job) in std::mem::take(&mut self.touched.jobs) {
            let Some(going) = self.runs.get(&id) else { continue };
            let state = &going.run.jobs()[job];
            rows.jobs.push(JobRow::new(id, job, state));
            let event = LiveEvent {
                run: format!("{}/{}", going.info.project, going.info.number),
                state: state.state,
                job: Some(going.run.plan().jobs[job].id.clone()),
                why: state.why.clone(),
            };
            rows.journal.push((id, serde_json::to_string(&event).unwrap_or_default()));
        }
        rows.journal.extend(runs);
        rows.attempts = std::mem::take(&mut self.touched.attempts).into_values().collect();
        rows
    }
}

/// What pipelines that listen for this one are told. A proposal's run leads to nothing: it is nobody's state yet. Other
/// projects go on from the main branch or a tag only.
fn passed_run(info: &RunInfo, plan: &Plan) -> Option<PassedRun> {
    let occasion = &plan.occasion;
    if occasion.event == Happened::Proposal {
        return None;
    }
    let name = format!("{}/{}", info.project, plan.pipeline);
    let mut led_by = occasion.led_by.clone();
    led_by.push(name.clone());
    let told = Occasion { event: Happened::Pipeline, pipeline: Some(name.clone()), led_by, ..Occasion::default() };
    let own = Occasion { branch: occasion.branch.clone(), tag: occasion.tag.clone(), commit: info.commit.clone(), ..told.clone() };
    let settled = occasion.tag.is_some() || occasion.branch.as_ref() == Some(&info.main_branch);
    let json = |occasion: &Occasion| serde_json::to_string(occasion).unwrap_or_default();
    let delivery = format!("passed {}/{}", info.project, info.number);
    Some(PassedRun { project_id: info.project_id, name, delivery, own: json(&own), others: settled.then(|| json(&told)) })
}
