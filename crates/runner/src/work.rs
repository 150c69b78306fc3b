//! The runner at work: it makes its folder and its fences ready, signs on, and lets its slots work. Asked to leave, it
//! finishes its jobs and signs off; asked again, it gives them back at once.

use crate::client::{CallError, Client, insist};
use crate::config::Config;
use crate::identity::Identity;
use crate::isolation::{Fences, Isolation};
use crate::job::Shared;
use crate::netns::{Network, Spares};
use crate::processes::kill_marked;
use crate::rehearses::Rehearses;
use crate::sandbox::Sandbox;
use crate::session::{Leave, Runner};
use crate::slot::Slot;
use crate::stage::Stage;
use crate::workspace::Workspaces;
use ordotaxis_wire::runner::{SignOn, VERSION};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// What a runner is started with.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Its own folder: identity, mirrors, layers, jobs' folders.
    pub folder: PathBuf,
    /// How many jobs it does at the same time.
    pub slots: u32,
    pub isolation: Isolation,
    pub config: Config,
    /// How many jobs it does before it leaves; none: as many as come.
    pub jobs: Option<u32>,
    /// Whether this process has mounts of its own; see [`crate::own_mounts`].
    pub mounts: bool,
    pub rehearses: Rehearses,
    /// It ends when the service was not heard for so long; none: it waits for it.
    pub patience: Option<Duration>,
}

/// Why a runner ended otherwise than it was asked to.
#[derive(Debug, thiserror::Error)]
pub enum WorkError {
    #[error("the runner's folder {} could not be prepared: {why}", folder.display())]
    Folder { folder: PathBuf, why: String },
    #[error("the thread that renews leases could not be started")]
    Thread(#[source] std::io::Error),
    #[error(transparent)]
    Call(#[from] CallError),
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
    let (cores, memory_bytes, gpus) = settings.config.offers.of_machine(crate::tools::machine());
    let limits = settings.config.limits.with_usual(memory_bytes, free(&folder), crate::limits::can_group());
    let fences = Arc::new(fences(&settings, &folder, limits.memory_mib).map_err(|error| folder_error(error.to_string()))?);
    let stage = fences.sandboxes.as_ref().map(|made| made.0.clone());
    let workspaces = Workspaces::open(folder, settings.mounts, stage).map_err(|error| folder_error(error.to_string()))?;
    if settings.isolation == Isolation::Container {
        crate::container::remove_all(&mark).await;
    }
    let client = Client::new(identity)?;
    let Settings { config, jobs, patience, .. } = settings;
    let tools = crate::tools::find(&config, &fences).await;
    let offered = tools.iter().map(|found| found.tool.clone()).collect();
    let checkouts = workspaces.checkouts().map_err(|error| folder_error(error.to_string()))?;
    let layers = workspaces.layers().map_err(|error| folder_error(error.to_string()))?;
    let shared = Arc::new(Shared {
        client,
        workspaces,
        checkouts,
        layers,
        fences: fences.clone(),
        limits,
        slots: settings.slots,
        rehearses: settings.rehearses,
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
        gpus,
    };
    run(Arc::new(Runner::new(shared, sign_on, leave, jobs)), settings.slots, patience, ready).await
}

/// Ends what a runner in this folder left running that was killed. Nobody may work there.
pub async fn end_left(folder: &std::path::Path) {
    // As the runner itself named it.
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    kill_marked(&format!("{}#", mark_of(&folder))).await;
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
    crate::own::may_be_kept_in(folder);
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
    let sandbox = Sandbox::new(&stage)?;
    Ok(Fences {
        isolation,
        sandboxes: Some(Arc::new((stage, sandbox))),
        outward: Network::leads_outward(),
        spares: Spares::default(),
        groups: crate::limits::Groups::default(),
        container_filter,
    })
}

/// Signs on, works with so many slots until all have ended, and signs off.
async fn run(runner: Arc<Runner>, slots: u32, patience: Option<Duration>, ready: impl FnOnce(&[String], &str)) -> Result<(), WorkError> {
    let client = runner.shared.client.clone();
    let signed_on = insist(&runner.leave.soon, || client.sign_on(&runner.sign_on)).await?;
    for label in runner.sign_on.labels.iter().flatten().filter(|label| !signed_on.labels.contains(label)) {
        tracing::warn!(label, "the service has not granted this label; `ordotaxis runner set` does");
    }
    ready(&signed_on.labels, &runner.sign_on.fence);
    let (beat, lease) = (Duration::from_millis(signed_on.beat_ms), Duration::from_millis(signed_on.lease_ms));
    let done = CancellationToken::new();
    let own = runner.shared.client.with_own_connections()?;
    let leases = runner.clone().stay_alive(own, beat, lease, done.clone()).map_err(WorkError::Thread)?;
    let silence = tokio::spawn({
        let runner = runner.clone();
        async move {
            match patience {
                Some(patience) => runner.watch_silence(patience).await,
                None => std::future::pending().await,
            }
        }
    });
    let mut notice = tokio::spawn({
        let runner = runner.clone();
        async move {
            runner.leave.taken_away.cancelled().await;
            runner.taken_away().await;
        }
    });
    let mut tasks = tokio::task::JoinSet::new();
    for slot in 0..slots {
        tasks.spawn(Slot::new(runner.clone(), slot).work());
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
    silence.abort();
    let limit = Duration::from_secs(3);
    // Jobs may have saved what they had before this was heard: then it is waited for, so that nobody takes the machine for done.
    if runner.leave.taken_away.is_cancelled() {
        let _ = tokio::time::timeout(limit, &mut notice).await;
    }
    notice.abort();
    // Before the runner signs off: a late beat would sign it on again.
    done.cancel();
    if !matches!(tokio::task::spawn_blocking(|| leases.join()).await, Ok(Ok(()))) {
        tracing::error!("the thread that renews leases broke");
    }
    let _ = tokio::time::timeout(limit, client.sign_off(&runner.sign_on.session)).await;
    runner.shared.workspaces.leave(slots);
    crate::limits::remove_all(&runner.shared.mark, slots);
    result.map_err(WorkError::from)
}
