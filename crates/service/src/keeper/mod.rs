//! The keeper: one task that owns every run that goes on. Commands come in through a channel and are worked off in
//! batches: the engine applies each, all that changed is written in **one transaction**, and only then are the
//! answers given. So whatever was answered to a runner or a person is on disk, and a crash at any point loses nothing.
//!
//! - `room`: the state itself, and where each command goes;
//! - `runs`: runs are begun, changed, stopped, done again; `results`: what attempts report;
//! - `fleet`: runners, their sessions and leases; `dispatch`: who gets which job; `ahead`: leases ahead of time; `claims`: turns that one job holds;
//! - `deliver`: what runs tell environments, and these them;
//! - `reuse`: results of earlier runs that jobs take over;
//! - `waits`: how long jobs waited, to be counted;
//! - `snapshot`: what those see who only look; `wanted`, `pools_seen`: what pools see of it, and it of them;
//! - `lease`: what a runner gets to know about a job; `task`: the loop.

mod ahead;
#[cfg(test)]
mod ahead_tests;
mod artifact;
mod claims;
mod command;
mod deliver;
mod dispatch;
mod fleet;
mod held;
mod holders;
mod info;
mod lease;
mod live;
mod pools_seen;
mod ready;
mod refused;
mod results;
mod reuse;
mod room;
#[cfg(test)]
mod room_tests;
mod runs;
mod snapshot;
mod task;
mod waits;
mod wanted;

pub(crate) use artifact::CompleteArtifact;
pub(crate) use artifact::of_row;
pub(crate) use command::{FleetCommand, RunCommand};
pub(crate) use deliver::DeliveryWork;
pub(crate) use info::{Inputs, RunInfo, Shared};
pub(crate) use lease::lease;
pub(crate) use pools_seen::PoolsSeen;
pub(crate) use ready::{globs_of, ready};
pub(crate) use refused::{AgainRefused, Stale, StartRefused, StopRefused};
pub(crate) use room::Terms;
pub(crate) use snapshot::Snapshot;
pub(crate) use task::start;

use command::{Command, Reply};
use holders::Holders;
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot, watch};

/// The keeper is gone: the service is being shut down, or its last step could not be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Away;

/// How the rest of the service speaks with the keeper.
#[derive(Clone)]
pub(crate) struct Keeper {
    sender: mpsc::Sender<Command>,
    pub(crate) holders: Holders,
    /// What queued jobs wait for in pools.
    pub(crate) pools: PoolsSeen,
    /// Rings when there may be more or less to do, or somebody came or went.
    stirred: watch::Sender<()>,
}

impl Keeper {
    pub(crate) async fn tell(&self, command: impl Into<Command>) -> Result<(), Away> {
        self.sender.send(command.into()).await.map_err(|_| Away)
    }

    /// Sends a command made with a reply channel and waits for the answer.
    pub(crate) async fn ask<T, C: Into<Command>>(&self, command: impl FnOnce(Reply<T>) -> C) -> Result<T, Away> {
        let (reply, answer) = oneshot::channel();
        self.tell(command(reply)).await?;
        answer.await.map_err(|_| Away)
    }

    /// Changes when there may be more or less to do, or a runner came or went.
    pub(crate) fn stirred(&self) -> watch::Receiver<()> {
        self.stirred.subscribe()
    }

    /// Everything as it is once all that was asked before is done.
    pub(crate) async fn snapshot(&self) -> Result<Arc<Snapshot>, Away> {
        self.ask(|reply| Command::Look { reply }).await
    }
}
