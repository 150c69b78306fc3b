//! One job from lease to result: checkout, take, steps, give. Whatever goes wrong becomes a result with a sentence;
//! only an attempt that was given up has none.

use crate::archive::{ArchiveError, chosen, digest_of, pack, unpack};
use crate::client::{CallError, Client, insist};
use crate::isolation::Isolation;
use crate::late::{LateError, checkout_dir, filled};
use crate::processes::{MARK, kill_marked};
use crate::ship::Shipper;
use crate::step::{Halt, StepCall, StepEnd, run_step};
use crate::workspace::{Workspace, WorkspaceError, Workspaces};
use ordotaxis_core::engine::Outcome;
use ordotaxis_core::language::{Give, Step, WhenNone};
use ordotaxis_wire::runner::{GivenArtifact, Lease, LeaseTake};
use ordotaxis_wire::view::{PhaseKind, PhaseView};
use ordotaxis_wire::{moment, words};
use std::borrow::Cow;
use std::io::ErrorKind;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::io::AsyncWriteExt;
use tokio::sync::watch;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// What all jobs of a runner share.
pub(crate) struct Shared {
    pub(crate) client: Client,
    pub(crate) workspaces: Workspaces,
    pub(crate) isolation: Isolation,
    /// Marks this runner's processes; each job adds its own name.
    pub(crate) mark: String,
    /// Cancelled when the runner must leave at once.
    pub(crate) abort: CancellationToken,
}

pub(crate) struct JobResult {
    pub(crate) outcome: Outcome,
    pub(crate) exit_code: Option<i32>,
    pub(crate) why: Option<String>,
    pub(crate) phases: Vec<PhaseView>,
    pub(crate) artifacts: Vec<GivenArtifact>,
}

/// How a job ends before its end.
enum Broken {
    Failed {
        why: String,
        exit_code: Option<i32>,
    },
    Stopped,
    /// The attempt is no longer wanted.
    GivenUp,
}

impl From<WorkspaceError> for Broken {
    fn from(error: WorkspaceError) -> Broken {
        failed(disk_full(&error).unwrap_or_else(|| format!("checkout: {error}")))
    }
}

impl From<ArchiveError> for Broken {
    fn from(error: ArchiveError) -> Broken {
        failed(disk_full(&error).unwrap_or_else(|| error.to_string()))
    }
}

impl From<CallError> for Broken {
    fn from(error: CallError) -> Broken {
        match error {
            CallError::GivenUp | CallError::Leaving => Broken::GivenUp,
            other => failed(other.to_string()),
        }
    }
}

fn failed(why: String) -> Broken {
    Broken::Failed { why, exit_code: None }
}

/// A sentence for the one error that a person must mend on the runner's machine.
fn disk_full(error: &(dyn std::error::Error + 'static)) -> Option<String> {
    let mut cause = Some(error);
    while let Some(error) = cause {
        let full = error.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == ErrorKind::StorageFull);
        if full || error.to_string().contains("No space left on device") {
            return Some("the runner's disk is full; free some space in its folder and start the job again".into());
        }
        cause = error.source();
    }
    None
}

/// Does a job. None when the attempt was given up meanwhile.
pub(crate) async fn do_job(shared: &Arc<Shared>, slot: u32, lease: &Lease, halt: watch::Receiver<Halt>) -> Option<JobResult> {
    let shipper = Shipper::new(shared.client.clone(), lease.attempt, shared.abort.clone());
    let mark = format!("{}#{}", shared.mark, lease.attempt);
    let until = lease.timeout_ms.map(|ms| Instant::now() + Duration::from_millis(ms));
    let mut job = Job { shared, lease: Cow::Borrowed(lease), halt, shipper, mark, until, phases: Vec::new() };
    let (done, workspace) = match shared.workspaces.take(slot) {
        Ok(mut workspace) => (job.run(&mut workspace).await, Some(workspace)),
        Err(error) => (Err(error.into()), None),
    };
    let (done, phases) = job.close(done).await;
    if let Some(workspace) = workspace {
        shared.workspaces.close(workspace);
    }
    let result = |outcome, why, exit_code| Some(JobResult { outcome, exit_code, why, phases, artifacts: Vec::new() });
    match done {
        Ok(artifacts) => result(Outcome::Passed, None, Some(0)).map(|result| JobResult { artifacts, ..result }),
        Err(Broken::Failed { why, exit_code }) => result(Outcome::Failed, Some(why), exit_code),
        Err(Broken::Stopped) => result(Outcome::Stopped, Some("stopped".into()), None),
        Err(Broken::GivenUp) => None,
    }
}

struct Job<'a> {
    shared: &'a Arc<Shared>,
    lease: Cow<'a, Lease>,
    halt: watch::Receiver<Halt>,
    shipper: Shipper,
    mark: String,
    until: Option<Instant>,
    phases: Vec<PhaseView>,
}

impl Job<'_> {
    async fn run(&mut self, workspace: &mut Workspace) -> Result<Vec<GivenArtifact>, Broken> {
        let late = |error: LateError| failed(error.to_string());
        if let Some(dir) = checkout_dir(&self.lease).map_err(late)? {
            self.begin("checkout", PhaseKind::Checkout);
            let done = self.shared.workspaces.checkout(workspace, &self.lease, &dir).await;
            self.end(done.is_err(), None);
            done?;
            self.check_halt()?;
        }
        if self.lease.late {
            let files = workspace.folders.files.clone();
            self.lease = Cow::Owned(filled(&self.lease, &files).map_err(late)?);
        }
        let lease = self.lease.clone();
        for take in &lease.takes {
            self.begin(&take.name, PhaseKind::Take);
            let done = self.take(workspace, take).await;
            self.end(done.is_err(), None);
            done?;
            self.check_halt()?;
        }
        let env = self.environment(workspace);
        for step in &lease.steps {
            self.step(workspace, step, &env).await?;
        }
        self.give_all(workspace).await
    }

    /// Ends what was left running where that may be, and waits until the service has the whole log.
    async fn close(mut self, done: Result<Vec<GivenArtifact>, Broken>) -> (Result<Vec<GivenArtifact>, Broken>, Vec<PhaseView>) {
        if done.is_err() && !self.phases.is_empty() {
            kill_marked(&self.mark).await;
        }
        if let Err(Broken::Failed { why, .. }) = &done {
            let why = why.clone();
            self.shipper.say(&why).await;
        }
        match self.shipper.flush().await {
            Ok(()) => (done, self.phases),
            Err(error) => (Err(error.into()), self.phases),
        }
    }

    fn begin(&mut self, name: &str, kind: PhaseKind) {
        let phase = PhaseView {
            name: name.to_owned(),
            kind,
            started_at: moment(now_ms()),
            duration_ms: None,
            failed: false,
            exit_code: None,
            log_from: self.shipper.length(),
        };
        self.phases.push(phase);
        self.shipper.phases(&self.phases);
    }

    fn end(&mut self, failed: bool, exit_code: Option<i32>) {
        if let Some(phase) = self.phases.last_mut() {
            phase.duration_ms = Some(now_ms() - phase.started_at.as_millisecond());
            phase.failed = failed;
            phase.exit_code = exit_code;
        }
        self.shipper.phases(&self.phases);
    }

    fn check_halt(&self) -> Result<(), Broken> {
        match *self.halt.borrow() {
            Halt::No => Ok(()),
            Halt::Stop => Err(Broken::Stopped),
            Halt::Abandon => Err(Broken::GivenUp),
        }
    }

    async fn take(&mut self, workspace: &Workspace, take: &LeaseTake) -> Result<(), Broken> {
        let Some(digest) = &take.digest else {
            self.shipper.say(&format!("{} holds nothing: its globs matched no file", take.name)).await;
            return Ok(());
        };
        let archive = self.shared.workspaces.packing(&format!("take-{}", self.lease.attempt));
        self.fetch(digest, &archive).await?;
        let into = workspace.folders.files.join(take.to.as_deref().unwrap_or("."));
        let (path, wanted) = (archive.clone(), digest.clone());
        let done = blocking(move || {
            if digest_of(&path)? != wanted {
                return Ok(false);
            }
            unpack(&path, &into).map(|()| true)
        })
        .await;
        let _ = tokio::fs::remove_file(&archive).await;
        if done? { Ok(()) } else { Err(failed(format!("{} arrived damaged: its digest is not {digest}", take.name))) }
    }

    async fn fetch(&self, digest: &str, archive: &PathBuf) -> Result<(), Broken> {
        let fail = |source| Broken::from(ArchiveError::Io { path: archive.clone(), source });
        let client = &self.shared.client;
        let whole = || async move {
            let mut answer = client.blob(digest).await?;
            let unreachable = |source| CallError::Unreachable { url: "the blob store".into(), source };
            let mut file = match tokio::fs::File::create(archive).await {
                Ok(file) => file,
                Err(error) => return Ok(Err(error)),
            };
            while let Some(piece) = answer.chunk().await.map_err(unreachable)? {
                if let Err(error) = file.write_all(&piece).await {
                    return Ok(Err(error));
                }
            }
            Ok(file.flush().await)
        };
        insist(&self.shared.abort, whole).await?.map_err(fail)
    }

    fn environment(&self, workspace: &Workspace) -> Vec<(String, String)> {
        let inherited = |name: &str| std::env::var(name).ok();
        let tmp = match self.shared.isolation {
            Isolation::Sandbox => "/tmp".to_owned(),
            Isolation::Host => workspace.folders.tmp.display().to_string(),
        };
        // On the host tools find what is installed for the runner's user; a sandbox cannot write there.
        let home = match self.shared.isolation {
            Isolation::Sandbox => tmp.clone(),
            Isolation::Host => inherited("HOME").unwrap_or_else(|| tmp.clone()),
        };
        let mut env = vec![
            ("PATH".to_owned(), inherited("PATH").unwrap_or_else(|| "/usr/bin:/bin".into())),
            ("HOME".to_owned(), home),
            ("TMPDIR".to_owned(), tmp),
            ("LANG".to_owned(), "C.UTF-8".to_owned()),
            (MARK.to_owned(), self.mark.clone()),
        ];
        env.extend(tool_homes());
        env.extend(self.lease.env.iter().map(|(name, value)| (name.clone(), value.clone())));
        env
    }

    async fn step(&mut self, workspace: &Workspace, step: &Step, env: &[(String, String)]) -> Result<(), Broken> {
        self.check_halt()?;
        self.begin(&step.name, PhaseKind::Step);
        let mut env = env.to_vec();
        env.extend(step.env.iter().map(|(name, value)| (name.clone(), value.clone())));
        let mut command: Vec<String> = step.shell.as_deref().unwrap_or("sh -eu").split_whitespace().map(str::to_owned).collect();
        command.extend(["-c".to_owned(), step.run.clone()]);
        let dir = workspace.folders.files.join(step.dir.as_deref().unwrap_or("."));
        if !dir.is_dir() {
            self.end(true, None);
            return Err(failed(format!("step {}: there is no folder `{}`", self.named(step), step.dir.as_deref().unwrap_or("."))));
        }
        let own = step.timeout_ms.map(|ms| Instant::now() + Duration::from_millis(ms));
        let until = match (own, self.until) {
            (Some(own), Some(job)) => Some(own.min(job)),
            (own, job) => own.or(job),
        };
        let by_step = own.is_some() && until == own;
        let call = StepCall {
            isolation: self.shared.isolation,
            folders: &workspace.folders,
            dir: &dir,
            command: &command,
            env: &env,
            mark: &self.mark,
            until,
        };
        let end = run_step(call, &mut self.shipper, &mut self.halt).await;
        let code = if let StepEnd::Exited(code) = end { Some(code) } else { None };
        self.end(end != StepEnd::Exited(0), code);
        self.judge(step, end, by_step)
    }

    fn judge(&self, step: &Step, end: StepEnd, by_step: bool) -> Result<(), Broken> {
        let name = self.named(step);
        let (why, exit_code) = match end {
            StepEnd::Exited(0) => return Ok(()),
            StepEnd::Halted => {
                self.check_halt()?;
                return Err(Broken::Stopped);
            }
            StepEnd::Exited(code) => (format!("step {name} exited with {code}"), Some(code)),
            StepEnd::Signalled(signal) => (format!("step {name} was ended by signal {signal}"), None),
            StepEnd::NotStarted(why) => (format!("step {name}: {why}"), None),
            StepEnd::TimedOut => {
                let (whose, limit) = if by_step { ("its", step.timeout_ms) } else { ("the job's", self.lease.timeout_ms) };
                let limit = words::duration(i64::try_from(limit.unwrap_or(0)).unwrap_or(i64::MAX));
                return Err(failed(format!("step {name} went past {whose} time limit of {limit}")));
            }
        };
        if step.may_fail { Ok(()) } else { Err(Broken::Failed { why, exit_code }) }
    }

    fn named(&self, step: &Step) -> String {
        format!("`{}`", step.name)
    }

    async fn give_all(&mut self, workspace: &Workspace) -> Result<Vec<GivenArtifact>, Broken> {
        let mut given = Vec::new();
        let lease = self.lease.clone();
        for give in &lease.gives {
            self.check_halt()?;
            self.begin(&give.artifact, PhaseKind::Give);
            let done = self.give(workspace, give).await;
            self.end(done.is_err(), None);
            given.extend(done?);
        }
        Ok(given)
    }

    async fn give(&mut self, workspace: &Workspace, give: &Give) -> Result<Option<GivenArtifact>, Broken> {
        let (root, globs) = (workspace.folders.files.clone(), give.paths.clone());
        let paths = blocking(move || chosen(&root, &globs)).await.map_err(|error| named_artifact(give, error))?;
        if paths.is_empty() {
            let why = format!("artifact {}: nothing matches {}", give.artifact, give.paths.join(", "));
            match give.none {
                WhenNone::Fail => return Err(failed(why)),
                WhenNone::Warn => self.shipper.say(&why).await,
                WhenNone::Ignore => {}
            }
            return Ok(None);
        }
        let archive = self.shared.workspaces.packing(&format!("give-{}", self.lease.attempt));
        let (root, into, list) = (workspace.folders.files.clone(), archive.clone(), paths.clone());
        let packed = blocking(move || pack(&root, &list, &into)).await;
        let sent = match packed {
            Ok(packed) => self.send(&archive, &packed.digest).await.map(|()| packed),
            Err(error) => Err(error.into()),
        };
        let _ = tokio::fs::remove_file(&archive).await;
        let packed = sent?;
        let files = if paths.len() == 1 { "1 file".to_owned() } else { format!("{} files", paths.len()) };
        self.shipper.say(&format!("gave {}: {files}, {} packed", give.artifact, words::bytes(packed.bytes))).await;
        Ok(Some(GivenArtifact { name: give.artifact.clone(), digest: packed.digest, bytes: packed.bytes, files: paths.len() as u64 }))
    }

    async fn send(&self, archive: &PathBuf, digest: &str) -> Result<(), Broken> {
        let client = &self.shared.client;
        if insist(&self.shared.abort, || client.has_blob(digest)).await? {
            return Ok(());
        }
        let put = || async move {
            match tokio::fs::File::open(archive).await {
                Ok(file) => client.put_blob(digest, file).await,
                Err(error) => Err(CallError::Refused { status: 0, detail: format!("the packed artifact could not be read: {error}") }),
            }
        };
        Ok(insist(&self.shared.abort, put).await?)
    }
}

/// Where installed tool chains are kept, as the runner's own environment or home says: a step finds them though its home
/// is another.
fn tool_homes() -> Vec<(String, String)> {
    let set = |name: &str| std::env::var(name).ok().map(|value| (name.to_owned(), value));
    let mut homes: Vec<(String, String)> =
        ["RUSTUP_HOME", "JAVA_HOME", "GOROOT", "PYENV_ROOT", "NVM_DIR"].into_iter().filter_map(set).collect();
    if std::env::var_os("RUSTUP_HOME").is_none()
        && let Some(home) = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".rustup")).filter(|home| home.is_dir())
    {
        homes.push(("RUSTUP_HOME".to_owned(), home.display().to_string()));
    }
    homes
}

fn named_artifact(give: &Give, error: ArchiveError) -> Broken {
    failed(disk_full(&error).unwrap_or_else(|| format!("artifact {}: {error}", give.artifact)))
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T, ArchiveError> + Send + 'static) -> Result<T, ArchiveError> {
    let lost = |error| ArchiveError::Io { path: PathBuf::new(), source: std::io::Error::other(error) };
    tokio::task::spawn_blocking(work).await.map_err(lost)?
}

fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}
