//! What the keeper is asked to do: with runs, and with runners and their slots. What only looks takes a snapshot.

use super::artifact::{CompleteArtifact, Given};
use super::info::RunInfo;
use super::ready::Ready;
use super::refused::{AgainRefused, Stale, StartRefused, StopRefused};
use super::snapshot::Snapshot;
use ordotaxis_core::access::Actor;
use ordotaxis_core::engine::{Event, JobState, Numbers, Usual};
use ordotaxis_core::plan::Plan;
use ordotaxis_store::Granted;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Beat, Beaten, Claimed, Finish, GiveBack, LetGo, SignOn};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{Notify, oneshot};

/// How the jobs of a run are before anything happens in it, and what they have given.
pub(crate) struct Carried {
    pub(super) jobs: Vec<JobState>,
    pub(super) given: Given,
}

/// Where an answer goes. It is sent when what it says is on disk.
pub(super) type Reply<T> = oneshot::Sender<T>;

/// What the keeper is asked to do, one after the other.
pub(crate) enum Command {
    Run(RunCommand),
    Fleet(FleetCommand),
    /// Someone wants to look.
    Look {
        reply: Reply<Arc<Snapshot>>,
    },
    /// Leases are looked at; `stall` is how much later than it was due.
    Tick {
        stall: Duration,
    },
    /// A pause before another try is over.
    Pause,
}

impl From<RunCommand> for Command {
    fn from(command: RunCommand) -> Command {
        Command::Run(command)
    }
}

impl From<FleetCommand> for Command {
    fn from(command: FleetCommand) -> Command {
        Command::Fleet(command)
    }
}

impl Command {
    /// Whether it can change what is wanted of machines, or which there are.
    pub(super) fn stirs(&self) -> bool {
        match self {
            Command::Run(_) | Command::Pause => true,
            Command::Fleet(command) => {
                !matches!(command, FleetCommand::Beat { .. } | FleetCommand::Claim { .. } | FleetCommand::Unclaim { .. })
            }
            Command::Look { .. } | Command::Tick { .. } => false,
        }
    }

    /// The run that it brings back, should that have ended.
    pub(super) fn brings_back(&self) -> Option<i64> {
        match self {
            Command::Run(
                RunCommand::StartJob { run, .. }
                | RunCommand::Again { run, .. }
                | RunCommand::Deliver { run, .. }
                | RunCommand::BringIn { run },
            ) => Some(*run),
            _ => None,
        }
    }
}

/// What concerns runs and their attempts.
pub(crate) enum RunCommand {
    Begin {
        info: Box<RunInfo>,
        plan: Arc<Plan>,
        usual: Usual,
        ready: Vec<Ready>,
        /// What it takes over from an earlier run.
        carried: Option<Box<Carried>>,
    },
    /// A run that was written down is read, and goes on from there.
    BringIn {
        run: i64,
    },
    /// What an attempt left for later jobs, and what its reports come to.
    Said {
        runner: String,
        attempt: AttemptId,
        facts: BTreeMap<String, String>,
        numbers: Numbers,
        reply: Reply<Result<(), Stale>>,
    },
    Phases {
        runner: String,
        attempt: AttemptId,
        phases: Vec<PhaseView>,
        reply: Reply<Result<(), Stale>>,
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
    /// What an environment says to a job that was ready to go in at `asked_at`.
    Deliver {
        run: i64,
        job: usize,
        asked_at: i64,
        event: Box<Event>,
        reply: Reply<()>,
    },
    /// An artifact was pinned, or let go.
    Pinned {
        run: i64,
        job: i64,
        name: String,
        pinned: bool,
        reply: Reply<()>,
    },
    /// A project was removed.
    Forget {
        project_id: i64,
        reply: Reply<()>,
    },
    /// Runs were past their age, and are not there any more.
    Dropped {
        runs: Vec<i64>,
        reply: Reply<()>,
    },
    Finish {
        runner: String,
        attempt: AttemptId,
        finish: Box<Finish>,
        /// What the result's artifacts are.
        artifacts: Vec<CompleteArtifact>,
        reply: Reply<Result<Claimed, Stale>>,
    },
    /// An attempt that its runner cannot go on with.
    LetGo {
        runner: String,
        attempt: AttemptId,
        ask: LetGo,
        reply: Reply<Result<(), Stale>>,
    },
    /// An attempt that was leased ahead of time goes back to the queue.
    GiveBack {
        runner: String,
        attempt: AttemptId,
        ask: GiveBack,
        reply: Reply<Result<(), Stale>>,
    },
}

/// What concerns runners and their slots.
pub(crate) enum FleetCommand {
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
    /// A runner is no more; why, for the jobs that are lost with it.
    RemoveRunner {
        runner: String,
        why: String,
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
        reply: Reply<Result<Claimed, Stale>>,
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
    /// Asks a runner to take nothing more, or with none lets it go on.
    Drain {
        runner: String,
        by: Option<String>,
        reply: Reply<()>,
    },
}
