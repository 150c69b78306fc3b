//! Logs: what attempts print, and their helpers. A log is a row of *segments*; a segment grows by *pieces*, each with the
//! time it was read at, and is never changed but once: when the log is closed, its segments move into the store.
//!
//! - `piece`: the form of a growing segment, and its index in memory;
//! - `closed`: a closed one, with its `table` of what lies where;
//! - `packed`: the form that closed ones had before they lay in the store;
//! - `moving`: the way into the store.
//!
//! Bytes are appended at an offset, so a repeat or a gap heals: what is already there is skipped, what would leave a hole
//! is not written, and the answer says how much there is.

mod closed;
mod moving;
mod packed;
mod piece;
mod read;
mod table;
#[cfg(test)]
mod tests;
mod waiting;

pub use read::{Found, Lines, Searched};

use crate::blobs::Blobs;
use crate::log_id::LogId;
use closed::{Closed, Shelf};
use piece::Growing;
use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::watch;
use waiting::Waiting;

/// A segment that is larger is followed by another.
const SEGMENT: u64 = 16 * 1024 * 1024;
/// How many closed logs' indexes are kept in memory.
const KEPT: usize = 64;

/// A log with all its segments, as far as it was read or written lately.
struct Log {
    segments: Vec<Segment>,
}

enum Segment {
    Growing(Growing),
    Closed(Closed),
}

/// All logs. Cloning gives another handle to the same logs. Calls block; call them where that is allowed.
#[derive(Clone)]
pub struct Logs {
    folder: PathBuf,
    shelf: Shelf,
    known: Arc<Mutex<BTreeMap<LogId, Arc<Mutex<Log>>>>>,
    grown: Arc<watch::Sender<u64>>,
    waiting: Arc<Waiting>,
    /// How many segments have moved: what was read meanwhile is read again.
    moves: Arc<AtomicU64>,
}

impl Logs {
    /// Growing logs lie in the folder, closed ones in the store. Opened where a runtime is, which reading then goes through.
    pub fn open(folder: PathBuf, blobs: Blobs) -> std::io::Result<Logs> {
        std::fs::create_dir_all(&folder)?;
        let shelf = Shelf { blobs, runtime: tokio::runtime::Handle::current() };
        let grown = Arc::new(watch::channel(0).0);
        Ok(Logs { folder, shelf, known: Arc::default(), grown, waiting: Arc::default(), moves: Arc::default() })
    }

    fn path(&self, id: &LogId, segment: usize) -> PathBuf {
        self.folder.join(id.run.to_string()).join(id.file(segment))
    }

    fn known(&self) -> MutexGuard<'_, BTreeMap<LogId, Arc<Mutex<Log>>>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A log as it is on disk, kept in memory.
    fn log(&self, id: &LogId) -> std::io::Result<Arc<Mutex<Log>>> {
        if let Some(known) = self.known().get(id) {
            return Ok(known.clone());
        }
        let loaded = self.load(id)?;
        let mut known = self.known();
        if known.len() >= KEPT {
            // Those in use are held by their users; the others are read again when needed.
            known.retain(|_, log| Arc::strong_count(log) > 1 || lock(log).is_growing());
        }
        // Of two that loaded at once the first counts: there must be one writer.
        Ok(known.entry(id.clone()).or_insert_with(|| Arc::new(Mutex::new(loaded))).clone())
    }

    fn load(&self, id: &LogId) -> std::io::Result<Log> {
        loop {
            let moves = self.moves.load(Ordering::SeqCst);
            let loaded = self.load_once(id);
            if self.moves.load(Ordering::SeqCst) == moves {
                return loaded;
            }
        }
    }

    fn load_once(&self, id: &LogId) -> std::io::Result<Log> {
        let rows = self.shelf.runtime.block_on(self.shelf.blobs.records().log_segments(id)).map_err(std::io::Error::other)?;
        let mut stored: BTreeMap<usize, Closed> = BTreeMap::new();
        for row in &rows {
            stored.insert(usize::try_from(row.segment).unwrap_or(usize::MAX), Closed::stored(row, &self.shelf)?);
        }
        let mut segments = Vec::new();
        loop {
            if let Some(closed) = stored.remove(&segments.len()) {
                segments.push(Segment::Closed(closed));
                continue;
            }
            let path = self.path(id, segments.len());
            match Closed::packed(&packed::path_of(&path)) {
                Ok(closed) => {
                    segments.push(Segment::Closed(closed));
                    continue;
                }
                Err(error) if error.kind() == ErrorKind::NotFound => {}
                Err(error) => return Err(error),
            }
            match Growing::load(&path) {
                Ok(growing) => segments.push(Segment::Growing(growing)),
                Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Log { segments }),
                Err(error) => return Err(error),
            }
        }
    }

    /// Appends bytes that are at `offset` in the log and were read at `at` (milliseconds since 1970), and gives the log's
    /// length. Blocking: for a blocking thread.
    pub fn append(&self, id: &LogId, offset: u64, at: i64, bytes: &[u8]) -> std::io::Result<u64> {
        let log = self.log(id)?;
        let mut log = lock(&log);
        let length = log.length();
        let known = length.saturating_sub(offset);
        if offset > length || known >= bytes.len() as u64 {
            return Ok(length);
        }
        let new = &bytes[usize::try_from(known).unwrap_or(bytes.len())..];
        let line = log.lines();
        let segment = match log.segments.len().checked_sub(1) {
            Some(last) if matches!(&log.segments[last], Segment::Growing(growing) if growing.length() < SEGMENT && !growing.is_frozen()) => {
                last
            }
            _ => {
                let number = log.segments.len();
                log.segments.push(Segment::Growing(self.begin(&self.path(id, number), length, line)?));
                number
            }
        };
        if let Segment::Growing(growing) = &mut log.segments[segment] {
            growing.append(at, new)?;
        }
        drop(log);
        self.grown.send_modify(|count| *count += 1);
        Ok(length + new.len() as u64)
    }

    /// A new segment. The run's folder may go between two calls, with the last log of it that moves into the store.
    fn begin(&self, path: &Path, start: u64, first_line: u64) -> std::io::Result<Growing> {
        loop {
            std::fs::create_dir_all(path.parent().unwrap_or(&self.folder))?;
            match Growing::create(path, start, first_line) {
                Err(error) if error.kind() == ErrorKind::NotFound => {}
                other => return other,
            }
        }
    }

    /// Whether an attempt, or a helper of it, has printed anything that is not in the store yet.
    pub fn has_any(&self, run: i64, job: usize, attempt: u32) -> bool {
        self.known().range(LogId::new(run, job, attempt)..LogId::new(run, job, attempt + 1)).next().is_some()
    }

    /// Ends an attempt's logs: they wait to be moved into the store. Appending goes on to work.
    pub fn close(&self, run: i64, job: usize, attempt: u32) {
        let first = LogId::new(run, job, attempt);
        let last = LogId::new(run, job, attempt + 1);
        let ended: Vec<(LogId, Arc<Mutex<Log>>)> = self.known().range(first..last).map(|(id, log)| (id.clone(), log.clone())).collect();
        ended.iter().for_each(|(_, log)| lock(log).rest());
        self.waiting.add(ended.into_iter().map(|(id, _)| id));
    }

    /// Removes what is left of these runs' logs on disk and in memory; what lies in the store goes with its names.
    pub fn remove_runs(&self, runs: &[i64]) -> std::io::Result<()> {
        for &run in runs {
            let (first, last) = (LogId::new(run, 0, 0), LogId::new(run + 1, 0, 0));
            let ids: Vec<LogId> = self.known().range(first..last).map(|(id, _)| id.clone()).collect();
            let mut known = self.known();
            ids.iter().for_each(|id| drop(known.remove(id)));
            drop(known);
            match std::fs::remove_dir_all(self.folder.join(run.to_string())) {
                Err(error) if error.kind() != ErrorKind::NotFound => return Err(error),
                _ => {}
            }
        }
        Ok(())
    }

    /// Changes whenever some log grows; a follower waits on it and then reads again.
    pub fn grown(&self) -> watch::Receiver<u64> {
        self.grown.subscribe()
    }

    /// Wakes followers although nothing grew: an attempt has ended.
    pub fn wake(&self) {
        self.grown.send_modify(|count| *count += 1);
    }
}

fn lock(log: &Mutex<Log>) -> MutexGuard<'_, Log> {
    log.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Log {
    fn length(&self) -> u64 {
        self.segments.last().map_or(0, |last| last.start() + last.length())
    }

    /// How many line ends there are.
    fn lines(&self) -> u64 {
        self.segments.last().map_or(0, Segment::end_line)
    }

    /// Nothing more is expected: no file need stay open.
    fn rest(&mut self) {
        for segment in &mut self.segments {
            if let Segment::Growing(growing) = segment {
                growing.rest();
            }
        }
    }

    fn is_growing(&self) -> bool {
        self.segments.iter().any(|segment| matches!(segment, Segment::Growing(growing) if growing.is_open()))
    }
}

impl Segment {
    fn start(&self) -> u64 {
        match self {
            Segment::Growing(growing) => growing.start(),
            Segment::Closed(closed) => closed.table.start,
        }
    }

    fn length(&self) -> u64 {
        match self {
            Segment::Growing(growing) => growing.length(),
            Segment::Closed(closed) => closed.table.end - closed.table.start,
        }
    }

    fn first_line(&self) -> u64 {
        match self {
            Segment::Growing(growing) => growing.first_line(),
            Segment::Closed(closed) => closed.table.first_line,
        }
    }

    fn end_line(&self) -> u64 {
        match self {
            Segment::Growing(growing) => growing.end_line(),
            Segment::Closed(closed) => closed.table.end_line,
        }
    }
}
