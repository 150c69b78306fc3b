//! Runners: their sessions, what each may have and offers, and the leases of what they hold.

use super::held::Held;
use super::pools_seen::Worked;
use super::refused::Stale;
use super::room::{Room, Session};
use ordotaxis_core::dispatch::Offer;
use ordotaxis_core::engine::{Event, State};
use ordotaxis_core::language::Capacity;
use ordotaxis_store::{Granted, RunnerRow, ToolRow};
use ordotaxis_wire::runner::{AttemptId, Beat, Beaten, LetGo, SignOn, Tool};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Notify;

/// Words for systems and architectures that a runner may say of itself: nobody can call a label for a machine so.
const SYSTEMS: [&str; 12] =
    ["linux", "macos", "windows", "freebsd", "netbsd", "openbsd", "x86_64", "x86", "aarch64", "arm", "riscv64", "powerpc64"];

/// So long it is known that a runner has left: pools look far more often.
const LEFT_KNOWN: Duration = Duration::from_secs(60);
/// So many characters of what a runner says about an attempt are kept.
const WHY: usize = 500;

fn capacity(cores: u32, memory_bytes: u64, gpus: u32) -> Capacity {
    Capacity { cores, memory_mib: u32::try_from(memory_bytes >> 20).unwrap_or(u32::MAX), gpus }
}

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
    /// What a runner offers, if it is signed on.
    pub(super) fn offer(&self, name: &str) -> Option<Offer> {
        Some(self.offer_of(name, self.sessions.get(name)?))
    }

    fn offer_of(&self, name: &str, session: &Session) -> Offer {
        let slots = usize::try_from(session.slots).unwrap_or(0);
        Offer {
            name: name.to_owned(),
            labels: session.labels.clone(),
            tools: session.tools.iter().map(|tool| (tool.name.clone(), tool.version.clone())).collect(),
            container: session.isolation == "container",
            fenced: session.isolation == "sandbox",
            draining: self.draining.contains_key(name),
            projects: session.granted.projects.clone(),
            outside: session.granted.outside,
            anything: self.terms.anyway,
            capacity: session.capacity,
            taken: self.held.taken(name),
            free: slots.saturating_sub(self.held.busy(name)),
            slots,
        }
    }

    /// What all runners offer, by name.
    pub(super) fn offers(&self) -> Vec<Offer> {
        self.sessions.iter().map(|(name, session)| self.offer_of(name, session)).collect()
    }

    /// A runner has started. With another session than the known one its old attempts are lost. Gives its labels.
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
            gpus: sign_on.gpus,
            draining_by: self.draining.get(runner).cloned(),
            granted: granted.clone(),
            fence: sign_on.fence.clone(),
        };
        self.touched.rows.signed_on.push(row);
        let capacity = capacity(sign_on.cores, sign_on.memory_bytes, sign_on.gpus);
        let SignOn { session, isolation, slots, tools, labels: offered, system, .. } = sign_on;
        // Signing on again within a session is no new beginning.
        let worked = self.sessions.get(runner).filter(|known| known.id == session).map(|known| known.worked).unwrap_or_default();
        let told = labels.clone();
        let session = Session {
            id: session,
            labels,
            offered,
            system,
            granted,
            isolation,
            slots,
            capacity,
            worked,
            tools,
            seen: Instant::now(),
            news: Arc::default(),
        };
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

    /// A runner is no more: what it has is lost at once, for this reason.
    pub(super) fn remove_runner(&mut self, runner: &str, why: &str, now: i64) {
        self.sessions.remove(runner);
        self.draining.remove(runner);
        self.waiting.retain(|waiting| waiting.runner != runner);
        self.give_up(runner, why, now, |_| true);
    }

    /// A runner leaves: what it still has goes to others. One of an older session changes nothing.
    pub(super) fn sign_off(&mut self, runner: &str, session: &str, now: i64) {
        if let Some(known) = self.sessions.get(runner).filter(|known| known.id == session) {
            self.left.insert(runner.to_owned(), (known.worked.begun, Instant::now()));
            self.sessions.remove(runner);
            self.waiting.retain(|waiting| waiting.runner != runner);
            self.give_up(runner, &format!("runner {runner} left and gave it back"), now, |_| true);
        }
    }

    /// With `by`, the runner takes nothing more; without, it goes on.
    pub(super) fn drain(&mut self, runner: String, by: Option<String>) {
        match by {
            Some(by) => drop(self.draining.insert(runner, by)),
            None => drop(self.draining.remove(&runner)),
        }
    }

    /// A runner that was signed on when the service went down; it counts as silent from now on.
    pub(super) fn restore_session(&mut self, row: RunnerRow) {
        if let Some(by) = row.draining_by {
            self.draining.insert(row.name.clone(), by);
        }
        let Some(id) = row.session else { return };
        let tools = row.tools.into_iter().map(|tool| Tool { name: tool.name, version: tool.version }).collect();
        let memory = u64::try_from(row.memory).unwrap_or(0);
        let capacity = capacity(row.cores, memory, row.gpus);
        let RunnerRow { labels, isolation, slots, granted, .. } = row;
        // What it had when it was last seen; its next call brings the rest.
        let (system, offered) = (labels.clone(), Some(labels.clone()));
        let worked = Worked::default();
        let session = Session {
            id,
            labels,
            system,
            offered,
            granted,
            isolation,
            slots,
            capacity,
            worked,
            tools,
            seen: Instant::now(),
            news: Arc::default(),
        };
        self.sessions.insert(row.name, session);
    }

    /// Counts attempts of a runner as lost.
    pub(super) fn give_up(&mut self, runner: &str, why: &str, now: i64, which: impl Fn(&Held) -> bool) {
        let lost: Vec<AttemptId> = self.held.of_runner(runner).filter(|(_, held)| which(held)).map(|(attempt, _)| attempt).collect();
        for attempt in lost {
            self.lose(attempt, why, now);
        }
    }

    fn lose(&mut self, attempt: AttemptId, why: &str, now: i64) {
        if let Some(mut row) = self.release(attempt) {
            row.state = State::Lost.word().into();
            row.why = Some(why.to_owned());
            row.ended_at = Some(now);
            self.touched.attempts.insert(attempt, row);
        }
        let _ = self.apply(attempt.run, &Event::Lost { job: attempt.job, attempt: attempt.attempt, why: why.to_owned() }, now);
    }

    /// A runner says that it cannot go on with an attempt: it is lost at once. A repeat changes nothing.
    pub(super) fn let_go(&mut self, runner: &str, attempt: AttemptId, ask: &LetGo, now: i64) -> Result<(), Stale> {
        self.session(runner, &ask.session)?;
        if self.held.get_of(runner, attempt).is_some() {
            if !ask.phases.is_empty() {
                self.phases(runner, attempt, &ask.phases, now)?;
            }
            let why: String = ask.why.chars().take(WHY).collect();
            self.lose(attempt, &why, now);
        }
        Ok(())
    }

    /// The session of a runner, noted as alive, if it is the one it speaks of.
    pub(super) fn session(&mut self, runner: &str, session: &str) -> Result<&mut Session, Stale> {
        let known = self.sessions.get_mut(runner).filter(|known| known.id == session).ok_or(Stale)?;
        known.seen = Instant::now();
        Ok(known)
    }

    /// Renews the leases of what the runner holds. Answers which attempts to stop, and which are not its own any more.
    pub(super) fn beat(&mut self, runner: &str, beat: &Beat) -> Result<(Beaten, Arc<Notify>), Stale> {
        let news = self.session(runner, &beat.session)?.news.clone();
        let mut beaten = Beaten::default();
        for &attempt in &beat.holding {
            match self.held.get_of(runner, attempt) {
                None => beaten.unknown.push(attempt),
                Some(held) => held.until = Instant::now() + self.terms.lease,
            }
        }
        // Also of attempts that the runner has claimed since it sent this beat.
        let asked = |attempt: &AttemptId| {
            let job = self.runs.get(&attempt.run).map(|live| &live.run.jobs()[attempt.job]);
            job.is_some_and(|job| job.progress.cut().is_some())
        };
        let held = self.held.of_runner(runner).map(|(attempt, _)| attempt);
        beaten.stop = held.filter(asked).collect();
        Ok((beaten, news))
    }

    /// The service itself stood still (stopped, suspended, a disk that did not answer): nobody was heard for so long,
    /// and that is no runner's fault. After a long stall leases start again, as after a restart: runners whose calls
    /// were cut off pause before they try again.
    pub(super) fn stood_still(&mut self, stall: Duration) {
        let now = Instant::now();
        let restart = stall >= self.terms.lease / 2;
        self.held.lengthen(stall, restart.then_some(now + self.terms.lease));
        for session in self.sessions.values_mut() {
            session.seen = if restart { now } else { (session.seen + stall).min(now) };
        }
    }

    /// Gives up attempts whose lease has run out, and forgets runners that have been silent as long.
    pub(super) fn tick(&mut self, now: i64) {
        let late = Instant::now();
        let silent: BTreeSet<String> =
            self.held.iter().filter(|(_, held)| held.until < late).map(|(_, held)| held.row.runner.clone()).collect();
        for runner in silent {
            let why = format!("runner {runner} fell silent for {} s", self.terms.lease.as_secs().max(1));
            self.give_up(&runner, &why, now, |held| held.until < late);
        }
        let lease = self.terms.lease;
        self.sessions.retain(|_, session| session.seen.elapsed() < lease * 2);
        self.left.retain(|_, (_, at)| at.elapsed() < LEFT_KNOWN);
        self.end_pauses(now);
    }
}
