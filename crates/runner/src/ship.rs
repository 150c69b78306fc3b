//! What an attempt sends to the service while it runs: log bytes in order, and its phases.
//!
//! Log bytes go through a bounded channel to a task that sends them at their offset; while one piece is on its way
//! the next is gathered, so a chatty step makes large pieces and a quiet one is seen at once. When the service is
//! away the channel fills and the step is slowed down: nothing is dropped.

use crate::client::{CallError, Client, insist};
use crate::mask::Mask;
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Lease, Phases};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// The largest piece that is sent at once.
const PIECE: usize = 1024 * 1024;
/// How many reads may wait to be sent.
const QUEUE: usize = 64;
/// Phases are sent after this delay, so that short jobs send them only with their result.
const PHASES_LATER: Duration = Duration::from_millis(150);

/// Reads within this time go in one piece, which has one time: a line's time is right to about that.
const GATHER: Duration = Duration::from_millis(20);

/// Bytes and when they were read, in milliseconds since 1970.
type Piece = (Vec<u8>, i64);

/// The channel to the task that sends the log, and that task.
type LogSender = (mpsc::Sender<Piece>, JoinHandle<Result<(), CallError>>);

/// One log on its way to the service: an attempt's own, or one of a helper's.
pub(crate) struct LogWriter {
    client: Client,
    attempt: AttemptId,
    stream: Option<String>,
    leave: CancellationToken,
    mask: Option<Mask>,
    /// Made with the first byte: many jobs print nothing.
    log: Option<LogSender>,
    length: u64,
    lines: u64,
    /// The last line has no end yet.
    unfinished: bool,
    limit: u64,
    full: bool,
}

impl LogWriter {
    /// How many bytes the log has so far.
    pub(crate) fn length(&self) -> u64 {
        self.length
    }

    /// How many line ends there are among them.
    pub(crate) fn lines(&self) -> u64 {
        self.lines
    }

    /// Output of a process: masked, and cut off at the log's limit.
    pub(crate) async fn write(&mut self, bytes: Vec<u8>) {
        let bytes = match &mut self.mask {
            Some(mask) => mask.push(&bytes),
            None => bytes,
        };
        self.add(bytes).await;
    }

    /// What was held back since it could be the beginning of a secret.
    pub(crate) async fn flush_held_back(&mut self) {
        if let Some(rest) = self.mask.as_mut().map(Mask::rest) {
            self.add(rest).await;
        }
    }

    /// A line of the runner's own in the log; it has room even when the log is full.
    pub(crate) async fn say(&mut self, line: &str) {
        self.flush_held_back().await;
        let line = match &self.mask {
            Some(mask) => mask.whole(line.as_bytes()),
            None => line.as_bytes().to_vec(),
        };
        // A process may have ended in the middle of a line: ours is one of its own.
        let start: &[u8] = if self.unfinished { b"\nordotaxis: " } else { b"ordotaxis: " };
        self.send([start, &line[..], b"\n"].concat()).await;
    }

    async fn add(&mut self, mut bytes: Vec<u8>) {
        if self.full || bytes.is_empty() {
            return;
        }
        let room = self.limit.saturating_sub(self.length);
        if bytes.len() as u64 <= room {
            return self.send(bytes).await;
        }
        bytes.truncate(usize::try_from(room).unwrap_or(usize::MAX));
        self.full = true;
        let limit = ordotaxis_wire::words::bytes(self.limit);
        bytes.extend(format!("\nordotaxis: the log has reached its limit of {limit}; what follows is left out\n").as_bytes());
        self.send(bytes).await;
    }

    async fn send(&mut self, bytes: Vec<u8>) {
        self.length += bytes.len() as u64;
        self.lines += memchr::memchr_iter(b'\n', &bytes).count() as u64;
        self.unfinished = bytes.last().map_or(self.unfinished, |last| *last != b'\n');
        let (sender, _) = self.log.get_or_insert_with(|| {
            let (sender, receiver) = mpsc::channel(QUEUE);
            let way = Way { client: self.client.clone(), attempt: self.attempt, stream: self.stream.clone() };
            (sender, tokio::spawn(send_log(way, receiver, self.leave.clone())))
        });
        // A closed channel means that the attempt was given up; the beat says so too.
        let _ = sender.send((bytes, now_ms())).await;
    }

    /// Waits until the service has every byte.
    pub(crate) async fn flush(mut self) -> Result<(), CallError> {
        self.flush_held_back().await;
        let Some((sender, task)) = self.log else { return Ok(()) };
        drop(sender);
        task.await.unwrap_or(Err(CallError::Leaving))
    }
}

/// Sends an attempt's log and phases while it runs, with secrets masked.
pub(crate) struct Shipper {
    pub(crate) log: LogWriter,
    secrets: Vec<String>,
    phases: watch::Sender<Vec<PhaseView>>,
    teller: JoinHandle<()>,
}

impl Shipper {
    pub(crate) fn new(client: Client, lease: &Lease, leave: CancellationToken) -> Shipper {
        let (phases, receiver) = watch::channel(Vec::new());
        let teller = tokio::spawn(tell_phases(client.clone(), lease.attempt, receiver));
        // What is published with, too: a server may say back what it was told.
        let passwords = lease.publish.iter().filter_map(|publish| publish.with.as_ref()?.password.clone());
        let secrets: Vec<String> = lease.secrets.iter().filter_map(|secret| secret.value.clone()).chain(passwords).collect();
        let log = LogWriter {
            client,
            attempt: lease.attempt,
            stream: None,
            leave,
            mask: Mask::new(secrets.iter().map(String::as_str)),
            log: None,
            length: 0,
            lines: 0,
            unfinished: false,
            limit: lease.log_limit,
            full: false,
        };
        Shipper { log, secrets, phases, teller }
    }

    /// A further log of the same attempt, as closely masked.
    pub(crate) fn beside(&self, name: &str) -> LogWriter {
        let LogWriter { client, attempt, leave, limit, .. } = &self.log;
        LogWriter {
            client: client.clone(),
            attempt: *attempt,
            stream: Some(name.to_owned()),
            leave: leave.clone(),
            mask: Mask::new(self.secrets.iter().map(String::as_str)),
            log: None,
            length: 0,
            lines: 0,
            unfinished: false,
            limit: *limit,
            full: false,
        }
    }

    /// A sentence in which no secret stands.
    pub(crate) fn masked(&self, sentence: &str) -> String {
        self.masking()(sentence)
    }

    /// The same for many texts.
    pub(crate) fn masking(&self) -> impl Fn(&str) -> String + use<> {
        let mask = Mask::new(self.secrets.iter().map(String::as_str));
        move |text| match &mask {
            Some(mask) => String::from_utf8_lossy(&mask.whole(text.as_bytes())).into_owned(),
            None => text.to_owned(),
        }
    }

    /// Sends the phases when the call before has been answered; of several only the last.
    pub(crate) fn phases(&self, phases: &[PhaseView]) {
        self.phases.send_replace(phases.to_vec());
    }

    /// Waits until the service has every byte.
    pub(crate) async fn flush(self) -> Result<(), CallError> {
        self.teller.abort();
        self.log.flush().await
    }
}

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// Where a log goes.
struct Way {
    client: Client,
    attempt: AttemptId,
    stream: Option<String>,
}

async fn send_log(way: Way, mut receiver: mpsc::Receiver<Piece>, leave: CancellationToken) -> Result<(), CallError> {
    let mut offset = 0;
    let mut next = None;
    loop {
        let (mut piece, at) = match next.take() {
            Some(piece) => piece,
            None => match receiver.recv().await {
                Some(piece) => piece,
                None => return Ok(()),
            },
        };
        while piece.len() < PIECE
            && let Ok((more, read)) = receiver.try_recv()
        {
            if read - at > i64::try_from(GATHER.as_millis()).unwrap_or(0) {
                next = Some((more, read));
                break;
            }
            piece.extend(more);
        }
        let mut rest = piece;
        while !rest.is_empty() {
            let answer = insist(&leave, || way.client.log(way.attempt, way.stream.as_deref(), offset, at, rest.clone())).await?;
            let taken = usize::try_from(answer.offset.saturating_sub(offset)).unwrap_or(usize::MAX).min(rest.len());
            rest.drain(..taken);
            offset += taken as u64;
            if taken == 0 {
                // The service has less than it once said: its disk was put back. Nothing heals that.
                return Err(CallError::GivenUp);
            }
        }
    }
}

async fn tell_phases(client: Client, attempt: AttemptId, mut phases: watch::Receiver<Vec<PhaseView>>) {
    while phases.changed().await.is_ok() {
        tokio::time::sleep(PHASES_LATER).await;
        let now = phases.borrow_and_update().clone();
        // Only for those who watch: the result brings all phases again.
        let _ = client.phases(attempt, Phases { phases: now }).await;
    }
}
