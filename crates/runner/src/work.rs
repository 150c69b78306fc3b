//! The runner at work: each slot claims a job, runs it, and sends the result with a call whose answer brings the next
//! job. One task renews the leases of all slots. Asked to leave, the runner finishes its jobs and signs off; asked again,
//! it gives them back at once.

use crate::client::{CallError, Client, insist};
use crate::config::Config;
use crate::identity::Identity;
use crate::isolation::{Fences, Isolation};
use crate::job::{JobResult, Shared, do_job};
use crate::netns::{Network, Spares};
use crate::processes::kill_marked;
use crate::sandbox::Sandbox;
use crate::stage::Stage;
use crate::step::Halt;
use crate::workspace::Workspaces;
use ordotaxis_core::engine::Outcome;
use ordotaxis_wire::runner::{AttemptId, Beat, Claimed, Finish, Lease, SignOn, VERSION};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// The service's answers that say it: too much at once; this runner is not (any more) one of its.
const TOO_LARGE: u16 = 413;
const UNKNOWN_RUNNER: u16 = 401;

/// What a runner is started with.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Its own folder: identity, mirrors, layers, jobs' folders.
    pub folder: PathBuf,
    /// How many jobs it does at the same time.
    pub slots: u32,
    pub isolation: Isolation,
    pub config: Config,
    /// Do one job, then leave.
    pub once: bool,
    /// Whether this process has mounts of its own; see [`crate::own_mounts`].
    pub mounts: bool,
}

/// Both are cancelled by the caller: the first signal, the second signal.
#[derive(Debug, Clone, Default)]
pub struct Leave {
    pub soon: CancellationToken,
    pub at_once: CancellationToken,
}

/// Why a runner ended otherwise than it was asked to.
#[derive(Debug, thiserror::Error)]
pub enum WorkError {
    #[error("the runner's folder {} could not be prepared: {why}", folder.display())]
    Folder { folder: PathBuf, why: String },
    #[error(transparent)]
    Call(#[from] CallError),
}

struct Runner {
    shared: Arc<Shared>,
    sign_on: SignOn,
    leave: Leave,
    once: bool,
    holding: Mutex<HashMap<AttemptId, Holding>>,
    /// When the last beat was sent that the service answered.
    heard: Mutex<Instant>,
}

struct Holding {
    halt: watch::Sender<Halt>,
    /// It holds a turn, so no other job of that turn may run: when its lease is lost it must end.
    turn: bool,
}

/// Works until it is asked to leave. `ready` is called once, after signing on, with the runner's labels and a description
/// of its fence.
pub async fn work(identity: Identity, settings: Settings, leave: Leave, ready: impl FnOnce(&[String], &str)) -> Result<(), WorkError> {
    let folder_error = |why: String| WorkError::Folder { folder: settings.folder.clone(), why };
    std::fs::create_dir_all(&settings.folder).map_err(|error| folder_error(error.to_string()))?;
    let folder = settings.folder.canonicalize().map_err(|error| folder_error(error.to_string()))?;
    let mark = mark_of(&folder);
    // Steps of an earlier life of this runner, which was killed: nobody waits for them any more.
    kill_marked(&format!("{mark}#")).await;
    let (cores, memory_bytes) = crate::tools::machine();
    let limits = settings.config.limits.with_usual(memory_bytes, free(&folder), crate::limits::can_group());
    let fences = Arc::new(fences(&settings, &folder, limits.memory_mib).map_err(|error| folder_error(error.to_string()))?);
    let stage = fences.sandboxes.as_ref().map(|made| made.0.clone());
    let workspaces = Workspaces::open(folder, settings.mounts, stage).map_err(|error| folder_error(error.to_string()))?;
    if settings.isolation == Isolation::Container {
        crate::container::remove_all(&mark).await;
    }
    let client = Client::new(identity);
    let Settings { config, once, .. } = settings;
    let tools = crate::tools::find(&config, &fences).await;
    let offered = tools.iter().map(|found| found.tool.clone()).collect();
    let layers = workspaces.layers().map_err(|error| folder_error(error.to_string()))?;
    let shared = Arc::new(Shared {
        client,
        workspaces,
        layers,
        fences: fences.clone(),
        limits,
        slots: settings.slots,
        tools,
        mark,
        abort: leave.at_once.clone(),
    });
    let sign_on = SignOn {
        version: VERSION,
        session: format!("{:032x}", rand::random::<u128>()),
        slots: settings.slots,
        system: [std::env::consts::OS, std::env::consts::ARCH].map(str::to_owned).to_vec(),
        labels: config.labels.clone(),
        isolation: settings.isolation.word().to_owned(),
        fence: fences.told(&limits),
        tools: offered,
        cores,
        memory_bytes,
    };
    let runner = Arc::new(Runner { shared, sign_on, leave, once, holding: Mutex::default(), heard: Mutex::new(Instant::now()) });
    runner.work(settings.slots, ready).await
}

/// Waits for work that may panic, as a task of its own, which ends with this wait. None when it did panic: the panic
/// itself is in the runner's log.
async fn guarded<T: Send + 'static>(work: impl Future<Output = T> + Send + 'static) -> Option<T> {
    let mut task = tokio::task::JoinSet::new();
    task.spawn(work);
    task.join_next().await?.ok()
}

/// Marks the processes of the runner in this folder, in this life and every other; jobs can read it, so it does not say where.
fn mark_of(folder: &std::path::Path) -> String {
    use sha2::{Digest, Sha256};
    use std::os::unix::ffi::OsStrExt;
    Sha256::digest(folder.as_os_str().as_bytes()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}

/// What is free on the file system that jobs write to, in bytes; 0 where that is not known.
fn free(folder: &std::path::Path) -> u64 {
    nix::sys::statvfs::statvfs(folder).map_or(0, |stat| stat.blocks_available() * stat.fragment_size())
}

/// What jobs are fenced in with, as far as it was asked for and can be made here.
fn fences(settings: &Settings, folder: &std::path::Path, memory_mib: Option<u64>) -> Result<Fences, crate::stage::StageError> {
    let isolation = settings.isolation;
    let container_filter = folder.join("containers.json");
    if isolation == Isolation::Container {
        crate::filter::for_containers(&container_filter)?;
    }
    let wanted = isolation == Isolation::Sandbox || isolation == Isolation::Container && Isolation::sandbox_works();
    if !wanted {
        return Ok(Fences { isolation, container_filter, ..Fences::none() });
    }
    // What lies in memory is a part of the job's memory: half of it at most.
    let memory = memory_mib.map_or(1 << 30, |mib| (mib << 20) / 2);
    let stage = Stage::open(folder, settings.mounts, &crate::tools::folders_shown(&settings.config), memory)?;
    let sandbox = Sandbox::new(&stage);
    Ok(Fences {
        isolation,
        sandboxes: Some(Arc::new((stage, sandbox))),
        outward: Network::leads_outward(),
        spares: Spares::default(),
        groups: crate::limits::Groups::default(),
        container_filter,
    })
}

impl Runner {
    async fn work(self: Arc<Self>, slots: u32, ready: impl FnOnce(&[String], &str)) -> Result<(), WorkError> {
        let client = self.shared.client.clone();
        let signed_on = insist(&self.leave.soon, || client.sign_on(&self.sign_on)).await?;
        for label in self.sign_on.labels.iter().flatten().filter(|label| !signed_on.labels.contains(label)) {
            tracing::warn!(label, "the service has not granted this label; `ordotaxis runner set` does");
        }
        ready(&signed_on.labels, &self.sign_on.fence);
        let beat_every = Duration::from_millis(signed_on.beat_ms);
        let beater = tokio::spawn(self.clone().beat(beat_every));
        let watcher = tokio::spawn(self.clone().watch_turns(Duration::from_millis(signed_on.lease_ms)));
        let mut tasks = tokio::task::JoinSet::new();
        for slot in 0..slots {
            tasks.spawn(self.clone().slot(slot));
        }
        let mut result = Ok(());
        while let Some(done) = tasks.join_next().await {
            match done {
                Ok(Ok(())) => {}
                Ok(Err(error)) => {
                    tracing::error!(%error, "a slot of this runner has ended");
                    result = Err(error);
                }
                Err(error) => tracing::error!(%error, "a slot of this runner broke"),
            }
        }
        beater.abort();
        watcher.abort();
        let limit = Duration::from_secs(3);
        let _ = tokio::time::timeout(limit, client.sign_off(&self.sign_on.session)).await;
        crate::limits::remove_all(&self.shared.mark, slots);
        result.map_err(WorkError::from)
    }

    async fn slot(self: Arc<Self>, slot: u32) -> Result<(), CallError> {
        let mut next = None;
        loop {
            let lease = match next.take() {
                Some(lease) => lease,
                None => match self.claim(slot).await? {
                    Some(lease) => lease,
                    None => return Ok(()),
                },
            };
            next = self.job(slot, lease).await?;
            if self.once {
                return Ok(());
            }
        }
    }

    /// The next lease; none when the runner is to leave.
    async fn claim(&self, slot: u32) -> Result<Option<Lease>, CallError> {
        let client = &self.shared.client;
        loop {
            match insist(&self.leave.soon, || client.claim(&self.sign_on.session, slot)).await {
                Ok(claimed) if claimed.lease.is_some() => return Ok(claimed.lease),
                Ok(_) => {}
                Err(CallError::Leaving) => return Ok(None),
                Err(CallError::GivenUp) => self.sign_on_again().await?,
                Err(error) => return Err(error),
            }
        }
    }

    /// The service does not know this session any more: it was away for long, or we were.
    async fn sign_on_again(&self) -> Result<(), CallError> {
        let client = &self.shared.client;
        match insist(&self.leave.soon, || client.sign_on(&self.sign_on)).await {
            Ok(_) | Err(CallError::Leaving) => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Runs a job and sends its result; returns the slot's next lease when the answer brought one.
    async fn job(&self, slot: u32, lease: Lease) -> Result<Option<Lease>, CallError> {
        let (sender, halt) = watch::channel(Halt::No);
        self.holding().insert(lease.attempt, Holding { halt: sender, turn: lease.holds_turn });
        let (shared, of) = (self.shared.clone(), lease.clone());
        let done = tokio::select! {
            done = guarded(async move { do_job(&shared, slot, &of, halt).await }) => match done {
                Some(done) => done,
                None => {
                    kill_marked(&format!("{}#{}", self.shared.mark, lease.attempt)).await;
                    Some(JobResult::broken())
                }
            },
            () = self.leave.at_once.cancelled() => {
                kill_marked(&format!("{}#{}", self.shared.mark, lease.attempt)).await;
                None
            }
        };
        let next = match done {
            Some(result) => self.finish(slot, &lease, result).await,
            None => Ok(None),
        };
        self.holding().remove(&lease.attempt);
        match next {
            Err(CallError::GivenUp | CallError::Leaving) => Ok(None),
            // This one is lost when its lease ends; the slot goes on with others.
            Err(CallError::Refused { status, detail }) if status != UNKNOWN_RUNNER => {
                tracing::error!(attempt = %lease.attempt, status, detail, "the service takes no word of this job's end");
                Ok(None)
            }
            other => other,
        }
    }

    async fn finish(&self, slot: u32, lease: &Lease, result: JobResult) -> Result<Option<Lease>, CallError> {
        let mut finish = Finish {
            session: self.sign_on.session.clone(),
            slot,
            outcome: result.outcome,
            exit_code: result.exit_code,
            why: result.why,
            phases: result.phases,
            artifacts: result.artifacts,
            caches: result.caches,
            claim: !self.once && !self.leave.soon.is_cancelled(),
            tests: result.tests,
        };
        let mut told = self.tell(lease, &finish).await;
        if matches!(told, Err(CallError::Refused { status: TOO_LARGE, .. })) && !finish.tests.is_empty() {
            // How long test files took only helps to share them out: a job does not fail for it.
            tracing::warn!(attempt = %lease.attempt, "how long {} test files took is more than the service takes; left out", finish.tests.len());
            finish.tests.clear();
            told = self.tell(lease, &finish).await;
        }
        if let Err(CallError::Refused { status, detail }) = &told
            && *status != UNKNOWN_RUNNER
        {
            // What it gave cannot be kept: that is the job's failure, and not the runner's end.
            let phases = if *status == TOO_LARGE { Vec::new() } else { std::mem::take(&mut finish.phases) };
            let why = Some(format!("the service did not take this job's result: {detail}"));
            let (artifacts, caches) = (Vec::new(), Vec::new());
            finish = Finish { outcome: Outcome::Failed, exit_code: None, why, phases, artifacts, caches, ..finish };
            told = self.tell(lease, &finish).await;
        }
        Ok(told?.lease)
    }

    async fn tell(&self, lease: &Lease, finish: &Finish) -> Result<Claimed, CallError> {
        insist(&self.leave.at_once, || self.shared.client.finish(lease.attempt, finish)).await
    }

    fn holding(&self) -> std::sync::MutexGuard<'_, HashMap<AttemptId, Holding>> {
        self.holding.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Renews all leases. The service holds the call until the next is due, unless there is something to stop.
    async fn beat(self: Arc<Self>, every: Duration) {
        let client = &self.shared.client;
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
                Err(CallError::GivenUp) => drop(self.sign_on_again().await),
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
                (*known == Halt::No || *known == Halt::Stop && halt == Halt::Abandon) && {
                    *known = halt;
                    true
                }
            });
        }
    }

    /// A job that holds a turn ends when the service has not been heard for most of a lease: by then nothing of it may be
    /// left, for the turn goes to another.
    async fn watch_turns(self: Arc<Self>, lease: Duration) {
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
