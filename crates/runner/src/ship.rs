//! What an attempt tells the service while it runs: log bytes in order, and its phases.
//!
//! Log bytes go through a bounded channel to a task that sends them at their offset; while one piece is on its way
//! the next is gathered, so a chatty step makes large pieces and a quiet one is seen at once. When the service is
//! away the channel fills and the step is slowed down: nothing is dropped.

use crate::client::{CallError, Client, insist};
use ordotaxis_wire::runner::{AttemptId, Phases};
use ordotaxis_wire::view::PhaseView;
use std::time::Duration;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// The largest piece that is sent at once.
const PIECE: usize = 1024 * 1024;
/// How many reads may wait to be sent.
const QUEUE: usize = 64;
/// Phases are told this much later, so that short jobs tell them only with their result.
const PHASES_LATER: Duration = Duration::from_millis(150);

/// The channel to the task that sends the log, and that task.
type LogOnItsWay = (mpsc::Sender<Vec<u8>>, JoinHandle<Result<(), CallError>>);

pub(crate) struct Shipper {
    client: Client,
    attempt: AttemptId,
    leave: CancellationToken,
    /// Made with the first byte: many jobs print nothing.
    log: Option<LogOnItsWay>,
    length: u64,
    phases: watch::Sender<Vec<PhaseView>>,
    teller: JoinHandle<()>,
}

impl Shipper {
    pub(crate) fn new(client: Client, attempt: AttemptId, leave: CancellationToken) -> Shipper {
        let (phases, receiver) = watch::channel(Vec::new());
        let teller = tokio::spawn(tell_phases(client.clone(), attempt, receiver));
        Shipper { client, attempt, leave, log: None, length: 0, phases, teller }
    }

    /// How many bytes the log has so far.
    pub(crate) fn length(&self) -> u64 {
        self.length
    }

    pub(crate) async fn write(&mut self, bytes: Vec<u8>) {
        self.length += bytes.len() as u64;
        let (sender, _) = self.log.get_or_insert_with(|| {
            let (sender, receiver) = mpsc::channel(QUEUE);
            (sender, tokio::spawn(send_log(self.client.clone(), self.attempt, receiver, self.leave.clone())))
        });
        // A closed channel means that the attempt was given up; the beat says so too.
        let _ = sender.send(bytes).await;
    }

    /// A line of the runner's own in the log.
    pub(crate) async fn say(&mut self, line: &str) {
        self.write(format!("ordotaxis: {line}\n").into_bytes()).await;
    }

    pub(crate) fn phases(&self, phases: &[PhaseView]) {
        self.phases.send_replace(phases.to_vec());
    }

    /// Waits until the service has every byte.
    pub(crate) async fn flush(self) -> Result<(), CallError> {
        self.teller.abort();
        let Some((sender, task)) = self.log else { return Ok(()) };
        drop(sender);
        task.await.unwrap_or(Err(CallError::Leaving))
    }
}

async fn send_log(
    client: Client,
    attempt: AttemptId,
    mut receiver: mpsc::Receiver<Vec<u8>>,
    leave: CancellationToken,
) -> Result<(), CallError> {
    let mut offset = 0;
    while let Some(mut piece) = receiver.recv().await {
        while piece.len() < PIECE
            && let Ok(more) = receiver.try_recv()
        {
            piece.extend(more);
        }
        let mut rest = piece;
        while !rest.is_empty() {
            let answer = insist(&leave, || client.log(attempt, offset, rest.clone())).await?;
            let taken = usize::try_from(answer.offset.saturating_sub(offset)).unwrap_or(usize::MAX).min(rest.len());
            rest.drain(..taken);
            offset += taken as u64;
            if taken == 0 {
                // The service has less than it once said: its disk was put back. Nothing heals that.
                return Err(CallError::GivenUp);
            }
        }
    }
    Ok(())
}

async fn tell_phases(client: Client, attempt: AttemptId, mut phases: watch::Receiver<Vec<PhaseView>>) {
    while phases.changed().await.is_ok() {
        tokio::time::sleep(PHASES_LATER).await;
        let now = phases.borrow_and_update().clone();
        // Only for those who watch: the result brings all phases again.
        let _ = client.phases(attempt, Phases { phases: now }).await;
    }
}
