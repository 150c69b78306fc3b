//! What is closed moves into the store, the segments of many logs in one pack: text is stored once however often it was
//! printed, packed, and sealed where the store is. The records are written when the store has it, and the file goes last,
//! so that after a crash the log is there at least once.

use super::closed::Closed;
use super::packed::path_of;
use super::piece::line_ends;
use super::table::{Block, Table};
use super::{Log, Logs, Segment, lock};
use crate::blobs::BlobError;
use crate::log_id::LogId;
use crate::records::LogSegmentRow;
use ordotaxis_content::{ChunkId, cut};
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};

/// Segments are moved together up to about this much text.
const BATCH: usize = 16 * 1024 * 1024;

/// A segment on its way.
struct Move {
    id: LogId,
    log: Arc<Mutex<Log>>,
    number: usize,
    row: LogSegmentRow,
    /// What it is when it has arrived: made beforehand, so that nothing is stored that does not read back.
    closed: Closed,
}

#[derive(Default)]
struct Batch {
    moves: Vec<Move>,
    chunks: Vec<(ChunkId, Vec<u8>)>,
    /// Logs that are in it.
    ids: Vec<LogId>,
}

impl Logs {
    /// Waits until some log is to be moved.
    pub async fn closed(&self) {
        while self.waiting.ids().is_empty() {
            self.waiting.come.notified().await;
        }
    }

    /// Looks for logs that were closed and not moved before the service went down, and for files that were moved and not
    /// deleted.
    pub async fn look_for_closed(&self) -> Result<(), BlobError> {
        let folder = self.folder.clone();
        let found = tokio::task::spawn_blocking(move || on_disk(&folder)).await.map_err(storage)?.map_err(storage)?;
        let runs: BTreeSet<i64> = found.iter().map(|id| id.run).collect();
        let records = self.shelf.blobs.records();
        let known: BTreeSet<i64> = records.known_runs(&runs.into_iter().collect::<Vec<_>>()).await?.into_iter().collect();
        let open: BTreeSet<(i64, i64, u32)> = records.open_attempts().await?.into_iter().collect();
        let job = |id: &LogId| i64::try_from(id.job).unwrap_or(i64::MAX);
        let closed = |id: &LogId| known.contains(&id.run) && !open.contains(&(id.run, job(id), id.attempt));
        self.waiting.add(found.into_iter().filter(closed));
        Ok(())
    }

    /// Moves everything that is closed; gives how many segments that were. What could not be moved is tried again.
    pub async fn move_closed(&self, now: i64) -> Result<usize, BlobError> {
        let mut moved = 0;
        loop {
            let logs = self.clone();
            let batch = tokio::task::spawn_blocking(move || logs.next_batch()).await.map_err(storage)?;
            if batch.ids.is_empty() {
                return Ok(moved);
            }
            let rows: Vec<&LogSegmentRow> = batch.moves.iter().map(|part| &part.row).collect();
            if let Err(error) = self.store(batch.chunks, &rows, now).await {
                self.waiting.add(batch.ids);
                return Err(error);
            }
            moved += batch.moves.len();
            let logs = self.clone();
            let moves = batch.moves;
            tokio::task::spawn_blocking(move || moves.into_iter().for_each(|part| logs.moved(part))).await.map_err(storage)?;
        }
    }

    async fn store(&self, chunks: Vec<(ChunkId, Vec<u8>)>, rows: &[&LogSegmentRow], now: i64) -> Result<(), BlobError> {
        let blobs = &self.shelf.blobs;
        let _naming = blobs.naming().await;
        blobs.put(chunks.into_iter(), now).await?;
        let mut tx = blobs.records().tx_by_rule("store", now).await?;
        tx.add_log_segments(rows).await?;
        Ok(tx.commit().await?)
    }

    fn next_batch(&self) -> Batch {
        let mut batch = Batch::default();
        let mut size = 0;
        while size < BATCH {
            let Some(id) = self.waiting.ids().pop_front() else { break };
            match self.batch_log(&id, &mut batch, &mut size) {
                Ok(()) => {}
                // Not tried again before the next start: it will not get better, and is kept as it is.
                Err(error) => tracing::warn!(%error, ?id, "a log could not be moved into the store"),
            }
            batch.ids.push(id);
        }
        batch
    }

    fn batch_log(&self, id: &LogId, batch: &mut Batch, size: &mut usize) -> std::io::Result<()> {
        let log = self.log(id)?;
        let count = lock(&log).segments.len();
        for number in 0..count {
            // The rest of a long log goes with the next batch.
            if *size >= BATCH {
                self.waiting.add([id.clone()]);
                return Ok(());
            }
            let (bytes, table) = match &mut lock(&log).segments[number] {
                Segment::Closed(closed) if closed.is_stored() => {
                    self.delete_files(id, number);
                    continue;
                }
                Segment::Closed(closed) => {
                    let bytes = (0..closed.table.blocks.len()).map(|block| closed.read(block)).collect::<Result<Vec<_>, _>>()?.concat();
                    (bytes, closed.table.clone())
                }
                Segment::Growing(growing) => {
                    // What still comes goes into a further segment.
                    growing.freeze();
                    let index = growing.view();
                    (index.read(0..index.pieces.len())?, Table::new(index, Vec::new()))
                }
            };
            *size += bytes.len();
            let (mut blocks, mut names) = (Vec::new(), Vec::new());
            let (mut offset, mut line) = (table.start, table.first_line);
            for piece in cut(&bytes) {
                let piece = &bytes[piece];
                blocks.push(Block { offset, line, place: names.len() as u64 });
                let name = ChunkId::of(piece);
                names.push(name);
                batch.chunks.push((name, piece.to_vec()));
                offset += piece.len() as u64;
                line += line_ends(piece);
            }
            let row = LogSegmentRow {
                run_id: id.run,
                job: i64::try_from(id.job).unwrap_or(i64::MAX),
                attempt: i64::from(id.attempt),
                beside: id.beside.clone().unwrap_or_default(),
                segment: i64::try_from(number).unwrap_or(i64::MAX),
                chunks: names.iter().flat_map(|name| name.0).collect(),
                places: table.with(blocks).write()?,
            };
            let closed = Closed::stored(&row, &self.shelf)?;
            batch.moves.push(Move { id: id.clone(), log: log.clone(), number, row, closed });
        }
        Ok(())
    }

    /// The store has it and the records say so: from now on it is read from there.
    fn moved(&self, part: Move) {
        self.moves.fetch_add(1, Ordering::SeqCst);
        lock(&part.log).segments[part.number] = Segment::Closed(part.closed);
        self.delete_files(&part.id, part.number);
    }

    /// The files of a segment that is in the store, and the run's folder with the last of them.
    fn delete_files(&self, id: &LogId, number: usize) {
        let path = self.path(id, number);
        for file in [path_of(&path), path.clone()] {
            let _ = std::fs::remove_file(file);
        }
        if let Some(folder) = path.parent() {
            let _ = std::fs::remove_dir(folder); // one with files in it stays
        }
    }
}

fn storage(error: impl std::fmt::Display) -> BlobError {
    BlobError::Storage(error.to_string())
}

/// Logs that have files.
fn on_disk(folder: &Path) -> std::io::Result<BTreeSet<LogId>> {
    let mut found = BTreeSet::new();
    for run in std::fs::read_dir(folder)? {
        let run = run?;
        let Some(number) = run.file_name().to_str().and_then(|name| name.parse().ok()) else { continue };
        for file in std::fs::read_dir(run.path())? {
            found.extend(file?.file_name().to_str().and_then(|name| LogId::of_file(number, name)));
        }
    }
    Ok(found)
}
