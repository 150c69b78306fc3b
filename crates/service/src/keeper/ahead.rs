//! Leases ahead of time. A slot whose jobs end quickly would stand idle between a result and its next lease, so the answer
//! to its result brings one more lease than it works on. It begins with that at once when its job ends, or gives it back
//! when the job takes longer. Nobody may have to wait for that: a lease goes ahead of time only when no other slot wants
//! the job and more jobs are queued than there are slots.

use super::refused::Stale;
use super::room::{Finished, Room};
use ordotaxis_core::dispatch::Key;
use ordotaxis_core::engine::{Event, State};
use ordotaxis_wire::runner::{AttemptId, Claimed, GiveBack, Lease};

impl Room {
    /// What a slot is leased beyond what it knows of: an answer to it was lost on the way. A slot that knows of nothing
    /// begins with the first.
    pub(super) fn holds(&mut self, runner: &str, slot: u32, known: &[AttemptId], now: i64) -> Claimed {
        let (of_it, others): (Vec<AttemptId>, Vec<AttemptId>) =
            self.held.of_slot(runner, slot).iter().partition(|attempt| known.contains(attempt));
        let mut others = others.into_iter();
        let lease = if of_it.is_empty() { others.next() } else { None };
        if let Some(&attempt) = of_it.first().or(lease.as_ref()) {
            self.work_begun(attempt, now);
        }
        let leased = |attempt: Option<AttemptId>| attempt.and_then(|attempt| self.lease_of(attempt));
        Claimed { lease: leased(lease), ahead: leased(others.next()) }
    }

    /// A job that was leased ahead of time is begun: its time counts from now on. A repeat changes nothing.
    pub(super) fn work_begun(&mut self, attempt: AttemptId, now: i64) {
        if self.held.begin(attempt, now) {
            let _ = self.apply(attempt.run, &Event::WorkBegun { job: attempt.job, attempt: attempt.attempt, at: now }, now);
        }
    }

    /// Answers the results of the batch, after all slots that wait had their choice.
    pub(super) fn answer_finished(&mut self, now: i64) {
        for Finished { runner, slot, mut claimed, wants, reply } in std::mem::take(&mut self.finished) {
            let busy = self.held.of_slot(&runner, slot).len() == 1;
            if wants && busy {
                claimed.ahead = self.next_ahead(&runner, slot, now);
            }
            self.answer(reply, Ok(claimed));
        }
    }

    /// The lease of the job that this slot does after the one that it does now.
    fn next_ahead(&mut self, runner: &str, slot: u32, now: i64) -> Option<Lease> {
        let slots: usize = self.sessions.values().map(|session| usize::try_from(session.slots).unwrap_or(0)).sum();
        if self.queue.len() <= slots {
            return None;
        }
        let key = self.first_for(runner, now).filter(|key| self.can_wait_in_hand(*key))?;
        self.take(key, runner, slot, now, true)
    }

    /// Only a job that can be given back as if nothing had happened: nobody has tried it, its run goes on without it, and
    /// no turn is held by waiting.
    fn can_wait_in_hand(&self, (run, job): Key) -> bool {
        let Some(live) = self.runs.get(&run) else { return false };
        live.run.state() == State::Running && live.run.jobs()[job].attempt == 0 && live.turn(job).is_none()
            && !live.run.plan().deploys(job)
            // What it asks for is free now, and perhaps not then.
            && live.needs(job).capacity.is_none()
    }

    /// A slot gives back what it was leased ahead of time. A repeat changes nothing; what it has begun stays its own.
    pub(super) fn give_back(&mut self, runner: &str, attempt: AttemptId, ask: &GiveBack, now: i64) -> Result<(), Stale> {
        self.session(runner, &ask.session)?;
        let Some(held) = self.held.get_of(runner, attempt) else { return Ok(()) };
        let row = &held.row;
        let meant = row.slot == ask.slot && row.started_at == ask.taken_at;
        let since = held.ahead.filter(|_| meant).ok_or(Stale)?;
        let key = (row.run_id, row.job, row.number);
        self.release(attempt);
        self.touched.attempts.remove(&attempt);
        self.touched.rows.given_back.push(key);
        self.apply(attempt.run, &Event::GivenBack { job: attempt.job, attempt: attempt.attempt, since }, now).map_err(|_| Stale)
    }
}
