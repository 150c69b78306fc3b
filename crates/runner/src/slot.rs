//! One slot of a runner: it claims a job, runs it, and sends the result with a call whose answer brings the next job. Jobs
//! that end quickly would leave the slot idle while that call goes to the service and back. So a slot whose last job was
//! quick has one more lease in hand: it begins with that at once, and the result of the last job is sent meanwhile. When a
//! job then takes longer, what is in hand is given back to the queue, where any slot of any runner can take it.

use crate::client::{CallError, insist};
use crate::job::{JobDone, JobResult, do_job};
use crate::processes::kill_marked;
use crate::session::{Held, Runner};
use crate::step::Halt;
use ordotaxis_core::engine::Outcome;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Claimed, Finish, GiveBack, LetGo};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::task::JoinHandle;
use tokio::time::Instant;

/// The service's answers that say it: too much at once; this runner is not (any more) one of its.
const TOO_LARGE: u16 = 413;
const UNKNOWN_RUNNER: u16 = 401;

/// A job is quick that ends within this: the next one probably does as well.
const QUICK: Duration = Duration::from_millis(100);
/// How long a job keeps the one in hand waiting.
const IN_HAND: Duration = Duration::from_millis(200);
/// How long a runner that leaves at once tries to give back what it has in hand.
const LAST_TRY: Duration = Duration::from_secs(1);

/// What one slot holds.
pub(crate) struct Slot {
    runner: Arc<Runner>,
    number: u32,
    /// Leases that it has not begun with: the answer to the next result can add one.
    hand: VecDeque<Held>,
    /// The call with the result of the last job, while the next one goes on already.
    sending: Option<JoinHandle<Result<Claimed, CallError>>>,
    /// It may have one more job.
    ticket: bool,
}

impl Slot {
    pub(crate) fn new(runner: Arc<Runner>, number: u32) -> Slot {
        Slot { runner, number, hand: VecDeque::new(), sending: None, ticket: false }
    }

    /// Works until the runner is asked to leave.
    pub(crate) async fn work(mut self) -> Result<(), CallError> {
        loop {
            let held = match self.hand.pop_front() {
                Some(held) => held,
                None => match self.claim().await? {
                    Some(held) => held,
                    None => return Ok(()),
                },
            };
            let began = Instant::now();
            let result = self.run(&held).await;
            let quick = began.elapsed() < QUICK;
            self.take_answer().await?;
            match result {
                JobDone::Ended(result) => self.finish(&held, *result, quick).await?,
                JobDone::GivenUp => self.runner.let_go(held.lease.attempt),
                JobDone::TakenAway(phases) => self.lose(&held, phases).await,
            }
            if self.is_leaving() {
                self.give_back_all().await;
            }
            if self.runner.leave.at_once.is_cancelled() {
                return Ok(());
            }
        }
    }

    fn is_leaving(&self) -> bool {
        let leave = &self.runner.leave;
        leave.soon.is_cancelled() || leave.at_once.is_cancelled()
    }

    /// The next lease; none when the runner is to leave.
    async fn claim(&mut self) -> Result<Option<Held>, CallError> {
        let runner = self.runner.clone();
        if !self.has_ticket() {
            return Ok(None);
        }
        loop {
            match insist(&runner.leave.soon, || runner.shared.client.claim(&runner.sign_on.session, self.number)).await {
                Ok(claimed) => self.keep(claimed),
                Err(CallError::Leaving) => return Ok(None),
                Err(CallError::GivenUp) => runner.sign_on_again(&runner.shared.client).await?,
                Err(error) => return Err(error),
            }
            if let Some(held) = self.hand.pop_front() {
                return Ok(Some(held));
            }
        }
    }

    /// Whether this slot may have one more job: a runner that does only so many hands out as many tickets.
    fn has_ticket(&mut self) -> bool {
        self.ticket = self.ticket || self.runner.take_ticket();
        self.ticket
    }

    /// The machine is about to go, and with it this job: others may have it.
    async fn lose(&mut self, held: &Held, phases: Vec<PhaseView>) {
        let (runner, attempt) = (&self.runner, held.lease.attempt);
        let why = format!("the machine of {} was taken away", runner.name());
        let ask = LetGo { session: runner.sign_on.session.clone(), why, phases };
        let lost = insist(&runner.leave.at_once, || runner.shared.client.let_go(attempt, &ask)).await;
        if let Err(error) = lost {
            // It is lost all the same, once its lease has run out.
            tracing::warn!(%attempt, %error, "it could not be said that the machine is taken away");
        }
        runner.let_go(attempt);
    }

    fn keep(&mut self, claimed: Claimed) {
        if claimed.lease.is_some() {
            self.ticket = false;
        }
        let leases = claimed.lease.into_iter().chain(claimed.ahead);
        self.hand.extend(leases.map(|lease| self.runner.hold(lease)));
    }

    /// Runs a job. Meanwhile the answer to the last result may come, and what is in hand goes back when the job takes long.
    async fn run(&mut self, held: &Held) -> JobDone {
        let (runner, number) = (self.runner.clone(), self.number);
        let mut done = std::pin::pin!(run_job(&runner, number, held));
        let patience = tokio::time::sleep(IN_HAND);
        let mut patience = std::pin::pin!(patience);
        loop {
            tokio::select! {
                result = &mut done => return result,
                () = &mut patience, if !patience.is_elapsed() => {}
                answer = answered(&mut self.sending), if self.sending.is_some() => self.keep(self.taken(answer).unwrap_or_default()),
            }
            if patience.is_elapsed() {
                self.give_back_all().await;
            }
        }
    }

    /// Waits for the answer to the last result, if it has not come.
    async fn take_answer(&mut self) -> Result<(), CallError> {
        let answer = answered(&mut self.sending).await;
        let claimed = self.taken(answer)?;
        self.keep(claimed);
        Ok(())
    }

    /// Sends a job's result: while the next job goes on, if there is one in hand.
    async fn finish(&mut self, held: &Held, result: JobResult, quick: bool) -> Result<(), CallError> {
        self.give_back_unwanted().await;
        let claim = !self.is_leaving() && self.has_ticket();
        let finish = Finish {
            session: self.runner.sign_on.session.clone(),
            slot: self.number,
            outcome: result.outcome,
            exit_code: result.exit_code,
            why: result.why,
            phases: result.phases,
            artifacts: result.artifacts,
            caches: result.caches,
            claim,
            holding: self.hand.iter().map(|held| held.lease.attempt).collect(),
            ahead: claim && quick && self.runner.does_all(),
            tests: result.tests,
            answer: result.answer,
        };
        self.sending = Some(tokio::spawn(send(self.runner.clone(), held.lease.attempt, finish)));
        if self.hand.is_empty() { self.take_answer().await } else { Ok(()) }
    }

    /// What the answer to a result brings. Only that the service does not know this runner ends the slot.
    fn taken(&self, answer: Result<Claimed, CallError>) -> Result<Claimed, CallError> {
        match answer {
            Err(CallError::GivenUp | CallError::Leaving) => Ok(Claimed::default()),
            // This one is lost when its lease ends; the slot goes on with others.
            Err(CallError::Refused { status, detail }) if status != UNKNOWN_RUNNER => {
                tracing::error!(slot = self.number, status, detail, "the service takes no word of a job's end");
                Ok(Claimed::default())
            }
            other => other,
        }
    }

    /// Gives back what is not to be begun: everything when the runner leaves, else what was to end early in the meantime.
    async fn give_back_unwanted(&mut self) {
        let leaving = self.is_leaving();
        let (unwanted, wanted): (VecDeque<Held>, VecDeque<Held>) =
            self.hand.drain(..).partition(|held| leaving || *held.halt.borrow() != Halt::No);
        self.hand = wanted;
        for held in &unwanted {
            self.give_back(held).await;
        }
    }

    async fn give_back_all(&mut self) {
        while let Some(held) = self.hand.pop_front() {
            self.give_back(&held).await;
        }
    }

    /// Lets others have a job that this slot has not begun with.
    async fn give_back(&self, held: &Held) {
        let runner = &self.runner;
        let attempt = held.lease.attempt;
        let ask = GiveBack { session: runner.sign_on.session.clone(), slot: self.number, taken_at: held.lease.taken_at };
        let call = || runner.shared.client.give_back(attempt, &ask);
        let given = match insist(&runner.leave.at_once, call).await {
            Err(CallError::Leaving) => tokio::time::timeout(LAST_TRY, call()).await.unwrap_or(Err(CallError::Leaving)),
            other => other,
        };
        if let Err(error) = given {
            // Where the service has it for this slot still, the answer to the next claim is this lease again.
            tracing::warn!(%attempt, %error, "a job that was not begun could not be given back");
        }
        runner.let_go(attempt);
    }
}

/// Runs a job with its processes. It counts as given up when the runner must leave at once.
async fn run_job(runner: &Runner, slot: u32, held: &Held) -> JobDone {
    let (shared, lease, halt) = (runner.shared.clone(), held.lease.clone(), held.halt.clone());
    let mark = format!("{}#{}", shared.mark, lease.attempt);
    tokio::select! {
        done = guarded(async move { do_job(&shared, slot, &lease, halt).await }) => match done {
            Some(done) => done,
            None => {
                kill_marked(&mark).await;
                JobDone::Ended(Box::new(JobResult::broken()))
            }
        },
        () = runner.leave.at_once.cancelled() => {
            kill_marked(&mark).await;
            JobDone::GivenUp
        }
    }
}

/// The answer to a result that is on its way; nothing at once where none is.
async fn answered(sending: &mut Option<JoinHandle<Result<Claimed, CallError>>>) -> Result<Claimed, CallError> {
    let Some(call) = sending else { return Ok(Claimed::default()) };
    let answer = call.await;
    *sending = None;
    answer.unwrap_or_else(|error| {
        tracing::error!(%error, "the call with a job's result broke");
        Ok(Claimed::default())
    })
}

/// Sends a result until it is taken, and lets the lease go.
async fn send(runner: Arc<Runner>, attempt: AttemptId, finish: Finish) -> Result<Claimed, CallError> {
    let answer = send_what_is_taken(&runner, attempt, finish).await;
    runner.let_go(attempt);
    answer
}

/// What the service does not take is left out, or is the job's failure.
async fn send_what_is_taken(runner: &Runner, attempt: AttemptId, mut finish: Finish) -> Result<Claimed, CallError> {
    let send = async |finish: &Finish| insist(&runner.leave.at_once, || runner.shared.client.finish(attempt, finish)).await;
    let mut answer = send(&finish).await;
    if matches!(answer, Err(CallError::Refused { status: TOO_LARGE, .. })) && !finish.tests.is_empty() {
        // How long test files took only helps to share them out: a job does not fail for it.
        tracing::warn!(%attempt, "how long {} test files took is more than the service takes; left out", finish.tests.len());
        finish.tests.clear();
        answer = send(&finish).await;
    }
    if let Err(CallError::Refused { status, detail }) = &answer
        && *status != UNKNOWN_RUNNER
    {
        // What it gave cannot be kept: that is the job's failure, and not the runner's end.
        let phases = if *status == TOO_LARGE { Vec::new() } else { std::mem::take(&mut finish.phases) };
        let why = Some(format!("the service did not take this job's result: {detail}"));
        let (artifacts, caches) = (Vec::new(), Vec::new());
        finish = Finish { outcome: Outcome::Failed, exit_code: None, why, phases, artifacts, caches, ..finish };
        answer = send(&finish).await;
    }
    answer
}

/// Waits for work that may panic, as a task of its own, which ends with this wait. None when it did panic: the panic
/// itself is in the runner's log.
async fn guarded<T: Send + 'static>(work: impl Future<Output = T> + Send + 'static) -> Option<T> {
    let mut task = tokio::task::JoinSet::new();
    task.spawn(work);
    task.join_next().await?.ok()
}

#[cfg(test)]
mod tests {
    use super::guarded;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};

    #[tokio::test]
    async fn what_panics_is_told_and_what_is_not_waited_for_ends() {
        assert_eq!(guarded(async { 3 }).await, Some(3));
        let broken = guarded(async {
            tokio::task::yield_now().await;
            "no number".parse::<u32>().expect("a panic, as it is wanted here")
        });
        assert_eq!(broken.await, None);
        let dropped = Arc::new(AtomicBool::new(false));
        struct Tells(Arc<AtomicBool>);
        impl Drop for Tells {
            fn drop(&mut self) {
                self.0.store(true, Ordering::Relaxed);
            }
        }
        let tells = Tells(dropped.clone());
        tokio::select! {
            biased;
            _ = guarded(async move { let _tells = tells; std::future::pending::<()>().await }) => unreachable!("it waits for ever"),
            () = tokio::task::yield_now() => {}
        }
        while !dropped.load(Ordering::Relaxed) {
            tokio::task::yield_now().await;
        }
    }
}
