//! A runner that is signed on: what it holds, and how it learns what to stop. One thread renews the leases of all slots: it
//! does nothing else, so that leases last however busy jobs keep the runner's other threads.

use crate::client::{CallError, Client, insist};
use crate::job::Shared;
use crate::step::Halt;
use ordotaxis_wire::runner::{AttemptId, Beat, Lease, SignOn};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// So long jobs wait that are to save what they have done, for the service to hear of it.
const TELL: Duration = Duration::from_secs(2);

/// Cancelled by the caller: the first signal, the second signal; and when the machine is about to be taken away.
#[derive(Debug, Clone, Default)]
pub struct Leave {
    pub soon: CancellationToken,
    pub at_once: CancellationToken,
    pub taken_away: CancellationToken,
}

/// What all slots of a runner share.
pub(crate) struct Runner {
    pub(crate) shared: Arc<Shared>,
    pub(crate) sign_on: SignOn,
    pub(crate) leave: Leave,
    /// How many more jobs it begins; none: as many as come.
    tickets: Option<AtomicU32>,
    holding: Mutex<HashMap<AttemptId, Holding>>,
    /// When the last beat was sent that the service answered.
    heard: Mutex<Instant>,
}

/// A lease that the runner holds.
pub(crate) struct Held {
    pub(crate) lease: Arc<Lease>,
    /// Whether it is to end early.
    pub(crate) halt: watch::Receiver<Halt>,
}

struct Holding {
    halt: watch::Sender<Halt>,
    /// It holds a turn, so no other job of that turn may run: when its lease is lost it must end.
    turn: bool,
    /// It has steps that save what it has done when its machine is about to go.
    saves: bool,
}

impl Runner {
    pub(crate) fn new(shared: Arc<Shared>, sign_on: SignOn, leave: Leave, jobs: Option<u32>) -> Runner {
        let tickets = jobs.map(AtomicU32::new);
        Runner { shared, sign_on, leave, tickets, holding: Mutex::default(), heard: Mutex::new(Instant::now()) }
    }

    /// Whether one more job may be begun; that is counted.
    pub(crate) fn take_ticket(&self) -> bool {
        let Some(tickets) = &self.tickets else { return true };
        tickets.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1)).is_ok()
    }

    /// Whether it does as many jobs as come.
    pub(crate) fn does_all(&self) -> bool {
        self.tickets.is_none()
    }

    pub(crate) fn name(&self) -> &str {
        self.shared.client.name()
    }

    /// The machine is about to be taken away: the service is told first, so that it knows why the runner leaves; then jobs that can
    /// save what they have done do so, whether or not it could be told.
    pub(crate) async fn taken_away(&self) {
        let client = &self.shared.client;
        let tell = || insist(&self.leave.at_once, || client.taken_away(&self.sign_on.session));
        let told = tokio::time::timeout(TELL, tell()).await;
        let jobs: Vec<AttemptId> = self.holding().iter().filter(|(_, holding)| holding.saves).map(|(attempt, _)| *attempt).collect();
        jobs.into_iter().for_each(|attempt| self.halt(attempt, Halt::TakenAway));
        let told = match told {
            Ok(told) => told,
            Err(_) => tell().await,
        };
        if let Err(error) = told {
            tracing::warn!(%error, "it could not be said that the machine is taken away");
        }
    }

    /// From now on the lease is renewed with each beat, until it is dropped by [`Runner::let_go`].
    pub(crate) fn hold(&self, lease: Lease) -> Held {
        let (sender, halt) = watch::channel(Halt::No);
        self.holding().insert(lease.attempt, Holding { halt: sender, turn: lease.holds_turn, saves: !lease.checkpoint.is_empty() });
        Held { lease: Arc::new(lease), halt }
    }

    /// The lease is not renewed any more.
    pub(crate) fn let_go(&self, attempt: AttemptId) {
        self.holding().remove(&attempt);
    }

    /// The service does not know this session any more: it was away for long, or we were.
    pub(crate) async fn sign_on_again(&self, client: &Client) -> Result<(), CallError> {
        match insist(&self.leave.soon, || client.sign_on(&self.sign_on)).await {
            Ok(_) | Err(CallError::Leaving) => Ok(()),
            Err(error) => Err(error),
        }
    }

    fn holding(&self) -> std::sync::MutexGuard<'_, HashMap<AttemptId, Holding>> {
        self.holding.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Renews all leases every so often, by connections that are used for nothing else, and ends what must end without them, until `stop` is cancelled.
    pub(crate) fn stay_alive(
        self: Arc<Self>,
        client: Client,
        every: Duration,
        lease: Duration,
        stop: CancellationToken,
    ) -> std::io::Result<JoinHandle<()>> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        std::thread::Builder::new().name("leases".to_owned()).spawn(move || {
            runtime.block_on(async {
                tokio::select! {
                    () = stop.cancelled() => {}
                    () = self.beat(&client, every) => {}
                    () = self.watch_turns(lease) => {}
                }
            });
        })
    }

    /// Renews all leases. The service holds the call until the next is due, unless there is something to stop.
    async fn beat(&self, client: &Client, every: Duration) {
        loop {
            let began = Instant::now();
            let holding: Vec<AttemptId> = self.holding().keys().copied().collect();
            match client.beat(&Beat { session: self.sign_on.session.clone(), holding }).await {
                Ok(beaten) => {
                    *self.heard.lock().unwrap_or_else(PoisonError::into_inner) = began;
                    for attempt in beaten.stop {
                        self.halt(attempt, Halt::Stop);
                    }
                    for attempt in beaten.unknown {
                        self.halt(attempt, Halt::Abandon);
                    }
                }
                Err(CallError::GivenUp) => drop(self.sign_on_again(client).await),
                Err(error) => tracing::warn!(%error, "a beat did not arrive"),
            }
            // A quick answer carried news; the pause keeps a service that is away from being asked without end.
            tokio::time::sleep_until(began + every.min(Duration::from_millis(250))).await;
        }
    }

    fn halt(&self, attempt: AttemptId, halt: Halt) {
        if let Some(holding) = self.holding().get(&attempt) {
            holding.halt.send_if_modified(|known| {
                // What was given up is given up, also when it was stopped before.
                (*known == Halt::No || *known != Halt::Abandon && halt == Halt::Abandon) && {
                    *known = halt;
                    true
                }
            });
        }
    }

    /// A machine on demand that nobody answers for so long is wanted by nobody: it ends.
    pub(crate) async fn watch_silence(&self, patience: Duration) {
        loop {
            let heard = *self.heard.lock().unwrap_or_else(PoisonError::into_inner);
            if heard.elapsed() >= patience {
                tracing::error!("the service was not heard for {} minutes: this machine leaves", patience.as_secs() / 60);
                return self.leave.at_once.cancel();
            }
            tokio::time::sleep_until(heard + patience).await;
        }
    }

    /// A job that holds a turn ends when the service has not been heard for most of a lease: by then nothing of it may be
    /// left, for the turn goes to another.
    async fn watch_turns(&self, lease: Duration) {
        let (patience, pause) = (lease * 3 / 4, lease / 40);
        loop {
            tokio::time::sleep(pause.max(Duration::from_millis(10))).await;
            let heard = *self.heard.lock().unwrap_or_else(PoisonError::into_inner);
            if heard.elapsed() < patience {
                continue;
            }
            let turns: Vec<AttemptId> = self.holding().iter().filter(|(_, holding)| holding.turn).map(|(attempt, _)| *attempt).collect();
            for attempt in turns {
                tracing::warn!(%attempt, "the service was not heard in time; ending the job, since it holds a turn");
                self.halt(attempt, Halt::Abandon);
            }
        }
    }
}
