//! One job from lease to result: its fence, checkout, take, helpers, steps, give, and what comes afterwards. Whatever goes
//! wrong becomes a result with a sentence; only an attempt that was given up has none.

use crate::archive::ArchiveError;
use crate::beneath::Beneath;
use crate::beside::Running;
use crate::broken::{Broken, failed};
use crate::cache_state::{Known, fit_key};
use crate::checkouts::Checkouts;
use crate::client::Client;
use crate::config::Limits;
use crate::folders::{FACTS, SHARE_FILE};
use crate::isolation::{Fence, Fences, Wanted};
use crate::late::{LateError, checkout, filled};
use crate::layers::Layers;
use crate::limits::used;
use crate::processes::kill_marked;
use crate::rehearses::Rehearses;
use crate::ship::{Shipper, now_ms};
use crate::step::Halt;
use crate::tools::Found;
use crate::workspace::{Workspace, Workspaces};
use ordotaxis_content::{ChunkId, Tree};
use ordotaxis_core::engine::Outcome;
use ordotaxis_core::language::{GitFiles, Upon};
use ordotaxis_wire::moment;
use ordotaxis_wire::run::{PhaseKind, PhaseView};
use ordotaxis_wire::runner::{CacheUse, GivenArtifact, Lease};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// How often what a job writes is looked at, where that is limited.
const LOOK_AT_DISK: Duration = Duration::from_millis(250);

/// What all jobs of a runner share.
pub(crate) struct Shared {
    pub(crate) client: Client,
    pub(crate) workspaces: Workspaces,
    pub(crate) checkouts: Checkouts,
    pub(crate) layers: Layers,
    pub(crate) fences: Arc<Fences>,
    pub(crate) limits: Limits,
    pub(crate) slots: u32,
    pub(crate) rehearses: Rehearses,
    pub(crate) tools: Vec<Found>,
    /// Marks this runner's processes; each job adds its own name.
    pub(crate) mark: String,
    /// Cancelled when the runner must leave at once.
    pub(crate) abort: CancellationToken,
}

/// What became of a job.
pub(crate) enum JobDone {
    Ended(Box<JobResult>),
    /// Its machine is about to be taken away; what could be saved is.
    TakenAway(Vec<PhaseView>),
    GivenUp,
}

/// How an attempt ended, for its last call.
pub(crate) struct JobResult {
    pub(crate) outcome: Outcome,
    pub(crate) exit_code: Option<i32>,
    pub(crate) why: Option<String>,
    pub(crate) phases: Vec<PhaseView>,
    pub(crate) artifacts: Vec<GivenArtifact>,
    pub(crate) caches: Vec<CacheUse>,
    pub(crate) tests: BTreeMap<String, i64>,
    pub(crate) answer: Option<String>,
}

impl JobResult {
    /// The runner itself broke: nothing is known of the job but that it did not come to its end.
    pub(crate) fn broken() -> JobResult {
        JobResult {
            outcome: Outcome::Failed,
            exit_code: None,
            why: Some("the runner broke while it did this job; that is a fault of Ordotaxis, and the runner's log says more".into()),
            phases: Vec::new(),
            artifacts: Vec::new(),
            caches: Vec::new(),
            tests: BTreeMap::new(),
            answer: None,
        }
    }
}

/// Does a job. No result when the attempt was given up meanwhile, or is lost with its machine.
pub(crate) async fn do_job(shared: &Arc<Shared>, slot: u32, lease: &Lease, halt: watch::Receiver<Halt>) -> JobDone {
    let shipper = Shipper::new(shared.client.clone(), lease, shared.abort.clone());
    let mark = format!("{}#{}", shared.mark, lease.attempt);
    let usual = shared.limits.hours.map(|hours| hours.saturating_mul(3_600_000));
    let until = lease.timeout_ms.or(usual).map(|ms| Instant::now() + Duration::from_millis(ms));
    let (cut, own_halt) = watch::channel(Halt::No);
    let (give_up, given_up) = watch::channel(Halt::No);
    let reason = Arc::new(Mutex::new(None));
    let mut job = Job {
        shared,
        lease: Cow::Borrowed(lease),
        halt: own_halt,
        given_up,
        cut: reason.clone(),
        shipper,
        mark,
        slot,
        until,
        phases: Vec::new(),
        fence: None,
        helpers: Vec::new(),
        secrets: Vec::new(),
        given: Vec::new(),
        caches: Vec::new(),
        tests: BTreeMap::new(),
        answer: None,
    };
    let (done, workspace) = match shared.workspaces.take(slot) {
        Ok(mut workspace) => {
            let written = workspace.folders.written.clone();
            let limit = shared.limits.disk_mib;
            let guard = tokio::spawn(guard(halt, cut, give_up, reason, limit, written));
            let done = job.whole(&mut workspace).await;
            guard.abort();
            (done, Some(workspace))
        }
        Err(error) => (Err(error.into()), None),
    };
    let (tests, artifacts, answer) = (std::mem::take(&mut job.tests), std::mem::take(&mut job.given), job.answer.take());
    let saved: Vec<(ChunkId, Tree)> = job.caches.iter_mut().filter_map(|known| known.saved.take()).collect();
    let caches = job.caches.drain(..).map(|known| known.told).collect();
    let (done, phases) = job.close(done).await;
    if let Some(workspace) = workspace {
        let shared = shared.clone();
        shared.clone().workspaces.close(workspace, move |left| {
            for (id, tree) in saved {
                if let Err(error) = shared.layers.adopt(id, tree, left) {
                    tracing::warn!(%error, "what a job saved could not be kept here; it will be fetched");
                }
            }
        });
    }
    if matches!(done, Err(Broken::TakenAway)) {
        return JobDone::TakenAway(phases);
    }
    let result =
        |outcome, why, exit_code| JobDone::Ended(Box::new(JobResult { outcome, exit_code, why, phases, artifacts, caches, tests, answer }));
    match done {
        Ok(()) => result(Outcome::Passed, None, Some(0)),
        Err(Broken::Failed { why, exit_code }) => result(Outcome::Failed, Some(why), exit_code),
        Err(Broken::TimedOut(why)) => result(Outcome::TimedOut, Some(why), None),
        Err(Broken::Stopped) => result(Outcome::Stopped, Some("stopped".into()), None),
        Err(Broken::GivenUp | Broken::TakenAway) => JobDone::GivenUp,
    }
}

/// Passes on what the service says of the attempt, and cuts it off when it has written more than it may.
async fn guard(
    mut halt: watch::Receiver<Halt>,
    cut: watch::Sender<Halt>,
    give_up: watch::Sender<Halt>,
    reason: Arc<Mutex<Option<String>>>,
    limit_mib: Option<u64>,
    written: Vec<PathBuf>,
) {
    let limit = limit_mib.map(|mib| mib * 1024 * 1024);
    let mut pause = LOOK_AT_DISK;
    loop {
        tokio::select! {
            changed = halt.changed() => {
                if changed.is_err() {
                    return std::future::pending().await;
                }
                let now = *halt.borrow_and_update();
                cut.send_replace(now);
                if now == Halt::Abandon {
                    give_up.send_replace(now);
                }
            }
            () = tokio::time::sleep(pause), if limit.is_some() => {
                let (folders, begun) = (written.clone(), Instant::now());
                let used = tokio::task::spawn_blocking(move || used(&folders)).await.unwrap_or(0);
                // Looking through many files takes its time: at most a twentieth of it all.
                pause = LOOK_AT_DISK.max(begun.elapsed() * 20);
                if limit.is_some_and(|limit| used > limit) && *cut.borrow() == Halt::No {
                    let limit = limit_mib.unwrap_or(0);
                    let why = format!("the job wrote more than the runner's limit of {limit} MiB");
                    *reason.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
                    cut.send_replace(Halt::Cut);
                }
            }
        }
    }
}

/// An attempt that goes on.
pub(crate) struct Job<'a> {
    pub(crate) shared: &'a Arc<Shared>,
    pub(crate) lease: Cow<'a, Lease>,
    pub(crate) halt: watch::Receiver<Halt>,
    /// Only that the attempt was given up: not even `afterwards` goes on then.
    pub(crate) given_up: watch::Receiver<Halt>,
    /// Why the runner itself ended the job, when it did.
    cut: Arc<Mutex<Option<String>>>,
    pub(crate) shipper: Shipper,
    pub(crate) mark: String,
    slot: u32,
    pub(crate) until: Option<Instant>,
    pub(crate) phases: Vec<PhaseView>,
    /// Made when the job begins.
    pub(crate) fence: Option<Fence>,
    pub(crate) helpers: Vec<Running>,
    pub(crate) secrets: Vec<(String, String)>,
    given: Vec<GivenArtifact>,
    pub(crate) caches: Vec<Known>,
    pub(crate) tests: BTreeMap<String, i64>,
    /// What its check was answered last.
    pub(crate) answer: Option<String>,
}

impl Job<'_> {
    /// The whole job. However it ends, its helpers are stopped and its fence is taken down.
    async fn whole(&mut self, workspace: &mut Workspace) -> Result<(), Broken> {
        let done = self.fenced(workspace).await;
        if self.fence.is_some() {
            self.stop_beside().await;
        }
        if done.is_err() && !self.phases.is_empty() {
            kill_marked(&self.mark).await;
        }
        if let Some(fence) = self.fence.take() {
            if fence.used_outward() {
                self.make_network_ahead();
            }
            fence.close().await;
        }
        done
    }

    async fn fenced(&mut self, workspace: &mut Workspace) -> Result<(), Broken> {
        let tmp = &workspace.folders.tmp;
        let made = Beneath::open(tmp).and_then(|tmp| tmp.make_folder(Path::new(FACTS), self.shared.fences.owner()));
        made.map_err(|source| Broken::from(ArchiveError::Io { path: tmp.join(FACTS), source }))?;
        workspace.remember();
        if let Some(why) = &self.lease.forbidden {
            return Err(failed(why.clone()));
        }
        self.secrets = self.named_secrets()?;
        self.prepare(workspace).await?;
        // Before the fence is made: what it sees of the job's folder is what is mounted there by then.
        let brought = self.bring_all(workspace).await;
        self.open_fence(workspace).await?;
        let env = self.environment(workspace);
        let done = match brought {
            Ok(()) => self.body(workspace, &env).await,
            broken => broken,
        };
        self.afterwards(workspace, &env, done).await
    }

    /// The next job finds a network ready.
    fn make_network_ahead(&self) {
        let (fences, slots) = (self.shared.fences.clone(), self.shared.slots);
        tokio::spawn(async move {
            if let Some(made) = &fences.sandboxes {
                fences.spares.refill(&made.0, usize::try_from(slots).unwrap_or(1)).await;
            }
        });
    }

    /// The secrets that the job names; one that is not there fails it.
    fn named_secrets(&self) -> Result<Vec<(String, String)>, Broken> {
        let value = |secret: &ordotaxis_wire::runner::LeaseSecret| match &secret.value {
            Some(value) => Ok((secret.name.clone(), value.clone())),
            None => Err(failed(secret.why.clone().unwrap_or_else(|| format!("secret {} was not given to this job", secret.name)))),
        };
        self.lease.secrets.iter().map(value).collect()
    }

    /// Checkout, and texts filled in.
    async fn prepare(&mut self, workspace: &mut Workspace) -> Result<(), Broken> {
        let late = |error: LateError| failed(error.to_string());
        if let Some((dir, git)) = checkout(&self.lease).map_err(late)? {
            self.begin("checkout", PhaseKind::Checkout).await;
            let done = self.check_out(workspace, &dir, &git).await;
            self.end(done.is_err(), None);
            done?;
            self.check_halt()?;
        }
        if self.lease.late || self.lease.image.is_some() || !self.lease.caches.is_empty() || !self.lease.publish.is_empty() {
            let files = workspace.folders.files.clone();
            self.lease = Cow::Owned(filled(&self.lease, &files).map_err(late)?);
        }
        self.lease.caches.iter().try_for_each(|cache| fit_key(&cache.key))?;
        if let Some(share) = &self.lease.share {
            let text = serde_json::to_string(share).unwrap_or_default();
            let path = workspace.folders.tmp.join(SHARE_FILE);
            std::fs::write(&path, text).map_err(|source| Broken::from(ArchiveError::Io { path, source }))?;
        }
        Ok(())
    }

    async fn check_out(&mut self, workspace: &mut Workspace, dir: &str, git: &GitFiles) -> Result<(), Broken> {
        let shared = self.shared;
        let wanted = crate::checkouts::Wanted { client: &shared.client, lease: &self.lease, git, leave: &shared.abort };
        let mut halt = self.halt.clone();
        // The first of a large repository takes its time: whoever stops the job does not wait for it.
        let checkout = tokio::select! {
            checkout = shared.checkouts.get(&wanted) => checkout?,
            _ = halt.wait_for(|halt| *halt != Halt::No) => return self.check_halt(),
        };
        Ok(shared.workspaces.put(workspace, checkout, dir).await?)
    }

    async fn open_fence(&mut self, workspace: &Workspace) -> Result<(), Broken> {
        let attempt = self.lease.attempt.to_string();
        let fences = &self.shared.fences;
        let anyway = self.shared.rehearses == Rehearses::Anyway;
        let wanted = Wanted {
            fences,
            image: self.lease.image.as_deref().filter(|_| !anyway || fences.makes_containers()),
            network: self.lease.network || anyway && fences.makes_none(),
            shared: !self.lease.beside.is_empty(),
            limits: &self.shared.limits,
            asked_mib: Some(u64::from(self.lease.capacity.memory_mib)).filter(|mib| *mib > 0),
            holds_turn: self.lease.holds_turn,
            attempt: &attempt,
            mark: &self.shared.mark,
            slot: self.slot,
        };
        self.fence = Some(Fence::open(wanted, workspace.folders.clone()).await.map_err(failed)?);
        Ok(())
    }

    /// What the job is there for: helpers, steps, give.
    async fn body(&mut self, workspace: &mut Workspace, env: &[(String, String)]) -> Result<(), Broken> {
        let lease = self.lease.clone();
        self.start_beside(env).await?;
        let mut done = Ok(());
        for step in &lease.steps {
            done = self.step(workspace, step, env, PhaseKind::Step).await;
            if done.is_err() {
                break;
            }
        }
        let done = match done {
            Ok(()) => self.followed(workspace, env).await,
            broken => broken,
        };
        if matches!(done, Err(Broken::TakenAway)) {
            self.checkpoint(workspace, env).await;
            return done;
        }
        let done = self.told(workspace, done).await;
        self.leave(workspace, done).await
    }

    /// Tells what the job left beside files; of one that failed the first test that did is said, too.
    async fn told(&mut self, workspace: &Workspace, done: Result<(), Broken>) -> Result<(), Broken> {
        if matches!(done, Err(Broken::GivenUp)) {
            return done;
        }
        match (done, self.tell_left(workspace).await) {
            (Err(Broken::Failed { why, exit_code }), Ok(Some(first))) => Err(Broken::Failed { why: format!("{why}; {first}"), exit_code }),
            (_, Err(Broken::GivenUp)) => Err(Broken::GivenUp),
            (done, told) => done.and(told.map(drop)),
        }
    }

    /// What the job leaves after its steps: artifacts that are for such an end, and caches.
    async fn leave(&mut self, workspace: &Workspace, done: Result<(), Broken>) -> Result<(), Broken> {
        let end = match &done {
            Ok(()) => Upon::Passed,
            Err(Broken::Failed { .. } | Broken::TimedOut(_)) => Upon::Failed,
            Err(Broken::Stopped) => Upon::Stopped,
            Err(Broken::GivenUp | Broken::TakenAway) => return done,
        };
        let (given, gave) = self.give_all(workspace, end).await;
        self.given = given;
        let done = match (done, gave) {
            (Err(broken), Err(Broken::Failed { why, .. })) => {
                self.shipper.log.say(&why).await;
                Err(broken)
            }
            (done, gave) => done.and(gave),
        };
        let done = match done {
            Ok(()) => self.publish_all(workspace).await,
            other => other,
        };
        if !matches!(done, Err(Broken::GivenUp)) {
            self.save_caches(workspace, done.is_ok()).await;
        }
        done
    }

    /// Waits until the service has the whole log.
    async fn close(mut self, done: Result<(), Broken>) -> (Result<(), Broken>, Vec<PhaseView>) {
        let done = done.map_err(|broken| match broken {
            Broken::Failed { why, exit_code } => Broken::Failed { why: self.shipper.masked(&why), exit_code },
            Broken::TimedOut(why) => Broken::TimedOut(self.shipper.masked(&why)),
            other => other,
        });
        if let Err(Broken::Failed { why, .. } | Broken::TimedOut(why)) = &done {
            let why = why.clone();
            self.shipper.log.say(&why).await;
        }
        match self.shipper.flush().await {
            Ok(()) => (done, self.phases),
            Err(error) => (Err(error.into()), self.phases),
        }
    }

    /// A phase begins; the one before must have ended.
    pub(crate) async fn begin(&mut self, name: &str, kind: PhaseKind) {
        self.shipper.log.flush_held_back().await;
        let phase = PhaseView {
            name: self.shipper.masked(name),
            kind,
            started_at: moment(now_ms()),
            duration_ms: None,
            failed: false,
            exit_code: None,
            log_from: self.shipper.log.length(),
            log_line: self.shipper.log.lines(),
        };
        self.phases.push(phase);
        self.shipper.phases(&self.phases);
    }

    /// The phase that began last has ended.
    pub(crate) fn end(&mut self, failed: bool, exit_code: Option<i32>) {
        if let Some(phase) = self.phases.last_mut() {
            phase.duration_ms = Some(now_ms() - phase.started_at.as_millisecond());
            phase.failed = failed;
            phase.exit_code = exit_code;
        }
        self.shipper.phases(&self.phases);
    }

    /// An error when the job was asked to stop, or was given up.
    pub(crate) fn check_halt(&self) -> Result<(), Broken> {
        match *self.halt.borrow() {
            Halt::No => Ok(()),
            Halt::Stop => Err(Broken::Stopped),
            Halt::TakenAway => Err(Broken::TakenAway),
            Halt::Abandon => Err(Broken::GivenUp),
            Halt::Cut => {
                let why = self.cut.lock().unwrap_or_else(PoisonError::into_inner).clone();
                Err(failed(why.unwrap_or_else(|| "the runner ended the job".into())))
            }
        }
    }

    /// What the job's processes run in.
    pub(crate) fn fence(&self) -> &Fence {
        self.fence.as_ref().unwrap_or_else(|| unreachable!("the fence is made before anything is run in it"))
    }
}
