//! The keeper: one task that owns every run that goes on. Commands come in through a channel and are worked off in
//! batches: the engine applies each, all that changed is written in **one transaction**, and only then are the
//! answers given. So whatever a runner or a person was told is on disk, and a crash at any point loses nothing.
//!
//! - `room`: the state itself;
//! - `claims`, `asked`, `looking`: what runners and people ask of it;
//! - `lease`: what a runner is told about a job;
//! - `task`: the loop.

mod asked;
mod claims;
mod lease;
mod looking;
mod reuse;
mod room;
#[cfg(test)]
mod room_tests;
mod task;

pub(crate) use reuse::{Inputs, Ready, globs_of, ready};
pub(crate) use task::start;

use ordotaxis_core::access::Actor;
use ordotaxis_core::engine::{Numbers, State, Usual};
use ordotaxis_core::language::JobId;
use ordotaxis_core::plan::Plan;
use ordotaxis_store::Granted;
use ordotaxis_wire::fleet::DoingView;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Beat, Beaten, Finish, Lease, SignOn};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;
use tokio::sync::{Notify, mpsc, oneshot};

/// What never changes about a run while it goes on.
#[derive(Debug, Clone)]
pub(crate) struct RunInfo {
    pub(crate) id: i64,
    pub(crate) number: i64,
    pub(crate) project_id: i64,
    pub(crate) project: String,
    pub(crate) git_url: String,
    pub(crate) commit: String,
    pub(crate) commit_time: i64,
    pub(crate) branch: Option<String>,
    pub(crate) merge: Option<ordotaxis_wire::runner::Merge>,
    /// Where verdicts go.
    pub(crate) told_on: String,
    /// The number of the run that this one does once more.
    pub(crate) again_of: Option<i64>,
    /// With nothing kept from before.
    pub(crate) fresh: bool,
    /// How long test files took, for jobs with a `split`: job → file → milliseconds.
    pub(crate) shared: Arc<Shared>,
    /// Digests of the files that jobs with `reuse` name.
    pub(crate) inputs: Arc<Inputs>,
    /// A newer commit was looked at first: the run that makes this one pointless, or nothing.
    pub(crate) behind: Option<String>,
}

impl RunInfo {
    /// As a run was written down.
    pub(crate) fn of(project: &ordotaxis_store::Project, stored: &ordotaxis_store::StoredRun, fresh: bool) -> RunInfo {
        fn read<T: serde::de::DeserializeOwned>(text: Option<&String>) -> Option<T> {
            text.and_then(|text| serde_json::from_str(text).ok())
        }
        let merge: Option<ordotaxis_wire::runner::Merge> = read(stored.merged.as_ref());
        RunInfo {
            id: stored.id,
            number: stored.number,
            project_id: project.id,
            project: project.name.clone(),
            git_url: project.git_url.clone(),
            commit: stored.commit_id.clone(),
            commit_time: stored.commit_time,
            branch: stored.branch.clone(),
            told_on: merge.as_ref().map_or_else(|| stored.commit_id.clone(), |merge| merge.head.clone()),
            merge,
            again_of: stored.again_of,
            fresh,
            shared: Arc::new(read(stored.shared.as_ref()).unwrap_or_default()),
            inputs: Arc::new(read(stored.inputs.as_ref()).unwrap_or_default()),
            behind: stored.behind.clone(),
        }
    }
}

pub(crate) type Shared = BTreeMap<String, BTreeMap<String, i64>>;

/// The caller's word does not count (any more): a runner with an old session or attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Stale;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StopRefused {
    RunEnded,
    NoSuchJob(Vec<String>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StartRefused {
    NoSuchRun,
    NoSuchJob(Vec<String>),
    /// What is wrong with them.
    Inputs(String),
    /// What keeps the gate of its stage shut.
    Shut(String),
    NotByHand,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum AgainRefused {
    NoSuchRun,
    /// The name, and those there are.
    NoSuchJob(String, Vec<String>),
    NotEnded,
    NothingFailed,
}

/// Why each job of a run that goes on has not ended, by the job's number.
pub(crate) type Whys = Vec<Option<String>>;

#[derive(Debug, Clone)]
pub(crate) struct RunnerNow {
    pub(crate) name: String,
    pub(crate) labels: Vec<String>,
    pub(crate) isolation: String,
    pub(crate) slots: u32,
    pub(crate) doing: Vec<DoingView>,
}

#[derive(Debug, Clone)]
pub(crate) struct QueuedNow {
    pub(crate) run: String,
    pub(crate) job: JobId,
    pub(crate) since: i64,
    pub(crate) why: String,
}

/// An artifact that was found to be whole in the store.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Gift {
    pub(crate) name: String,
    pub(crate) tree: String,
    /// For people.
    pub(crate) digest: String,
    /// Names what is in it, without times.
    pub(crate) content: String,
    pub(crate) files: i64,
    pub(crate) raw_bytes: i64,
    /// New to the store.
    pub(crate) bytes: i64,
}

type Reply<T> = oneshot::Sender<T>;

pub(crate) enum Command {
    Begin {
        info: RunInfo,
        plan: Arc<Plan>,
        usual: Usual,
        ready: Vec<Ready>,
    },
    /// What an attempt left for later jobs, and what its reports come to.
    Said {
        runner: String,
        attempt: AttemptId,
        facts: BTreeMap<String, String>,
        numbers: Numbers,
        reply: Reply<Result<(), Stale>>,
    },
    SignOn {
        runner: String,
        sign_on: SignOn,
        granted: Granted,
        reply: Reply<Vec<String>>,
    },
    /// What a runner may have was changed.
    Grant {
        runner: String,
        granted: Granted,
        reply: Reply<()>,
    },
    /// A runner is no more.
    RemoveRunner {
        runner: String,
        by: String,
        reply: Reply<()>,
    },
    SignOff {
        runner: String,
        session: String,
        reply: Reply<()>,
    },
    Claim {
        runner: String,
        session: String,
        slot: u32,
        reply: Reply<Result<Lease, Stale>>,
    },
    Unclaim {
        runner: String,
        slot: u32,
    },
    Beat {
        runner: String,
        beat: Beat,
        reply: Reply<Result<(Beaten, Arc<Notify>), Stale>>,
    },
    Phases {
        runner: String,
        attempt: AttemptId,
        phases: Vec<PhaseView>,
        reply: Reply<Result<(), Stale>>,
    },
    Finish {
        runner: String,
        attempt: AttemptId,
        finish: Box<Finish>,
        /// What the result's artifacts are.
        gifts: Vec<Gift>,
        reply: Reply<Result<Option<Lease>, Stale>>,
    },
    Stop {
        run: i64,
        job: Option<String>,
        by: Actor,
        reply: Reply<Result<(), StopRefused>>,
    },
    /// Starts a job that starts by hand only.
    StartJob {
        run: i64,
        job: String,
        by: Actor,
        inputs: BTreeMap<String, String>,
        reply: Reply<Result<(), StartRefused>>,
    },
    /// Jobs once more in the same run; with none all that did not end well.
    Again {
        run: i64,
        jobs: Vec<String>,
        by: Actor,
        fresh: bool,
        reply: Reply<Result<(), AgainRefused>>,
    },
    /// Asks a runner to take nothing more, or with none lets it go on.
    Drain {
        runner: String,
        by: Option<String>,
        reply: Reply<()>,
    },
    Queue {
        reply: Reply<Vec<QueuedNow>>,
    },
    Why {
        run: i64,
        reply: Reply<Option<Whys>>,
    },
    Runners {
        reply: Reply<Vec<RunnerNow>>,
    },
    Counts {
        reply: Reply<Vec<(State, u64)>>,
    },
    /// An artifact was pinned, or let go.
    Pinned {
        run: i64,
        job: i64,
        name: String,
        pinned: bool,
        reply: Reply<()>,
    },
    Forget {
        project_id: i64,
        reply: Reply<()>,
    },
    /// Leases are looked at; `stall` is how much later than it was due.
    Tick {
        stall: Duration,
    },
    /// A pause before another try is over.
    Pause,
}

impl Command {
    /// The run that it brings back, should that have ended.
    fn brings_back(&self) -> Option<i64> {
        match self {
            Command::StartJob { run, .. } | Command::Again { run, .. } => Some(*run),
            _ => None,
        }
    }
}

/// Attempts that runners hold now. The log handler asks it for every piece without waiting for the keeper.
#[derive(Clone, Default)]
pub(crate) struct Holders(Arc<RwLock<HashMap<AttemptId, String>>>);

impl Holders {
    pub(crate) fn holds(&self, runner: &str, attempt: AttemptId) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).get(&attempt).is_some_and(|holder| holder == runner)
    }

    /// Whether somebody holds it.
    pub(crate) fn goes_on(&self, attempt: AttemptId) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).contains_key(&attempt)
    }

    fn set(&self, held: HashMap<AttemptId, String>) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = held;
    }

    fn insert(&self, attempt: AttemptId, runner: String) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).insert(attempt, runner);
    }

    fn remove(&self, attempt: AttemptId) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).remove(&attempt);
    }
}

/// The keeper is gone: the service is being shut down, or its last step could not be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Away;

/// How the rest of the service speaks with the keeper.
#[derive(Clone)]
pub(crate) struct Keeper {
    sender: mpsc::Sender<Command>,
    pub(crate) holders: Holders,
}

impl Keeper {
    pub(crate) async fn tell(&self, command: Command) -> Result<(), Away> {
        self.sender.send(command).await.map_err(|_| Away)
    }

    /// Sends a command made with a reply channel and waits for the answer.
    pub(crate) async fn ask<T>(&self, command: impl FnOnce(Reply<T>) -> Command) -> Result<T, Away> {
        let (reply, answer) = oneshot::channel();
        self.tell(command(reply)).await?;
        answer.await.map_err(|_| Away)
    }
}
