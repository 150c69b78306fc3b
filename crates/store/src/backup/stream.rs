//! A copy, and after it all that changes in the database: what SQLite writes to its log is read there and sent on. The log
//! may only be begun anew when all of it was read; so it is written back into the database here, while nothing else can be
//! written, and nowhere else (`WriteBack::ByBackup`).

use super::back_up::{Ask, Copy, Database, TRIES, clear, known, pack, schema};
use super::changes::{self, Piece};
use super::error::BackupError;
use super::growing::GrowingLogs;
use super::shelf::Shelf;
use super::wal::Wal;
use super::whole::Whole;
use crate::Records;
use crate::blobs::{Place, storage};
use sqlx::ConnectOptions;
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection};
use std::fs::File;
use std::path::PathBuf;

/// The log is written back when it is longer than this: as long as SQLite lets it grow by itself.
const LONG: u64 = 4 << 20;
/// So much may wait for a place that is away. More, and a new copy is made when it is back.
const MOST_WAITING: u64 = 64 << 20;

/// A copy that goes on.
pub struct Stream {
    shelf: Shelf,
    records: Records,
    ask: Ask,
    whole: Whole,
    log: Log,
    /// Open as long as this lives, so that no other connection is the last: SQLite would then write everything back.
    own: SqliteConnection,
    /// Packs up to this row are in the backup.
    packs: i64,
    pack_lists: u64,
    logs: GrowingLogs,
}

/// SQLite's log, as it is taken.
struct Log {
    path: PathBuf,
    wal: Wal,
    /// It may be begun anew: all of it was taken, and has been written back.
    may_begin: bool,
    /// Of the last piece.
    number: u64,
    round: u64,
    /// What has been taken and not yet sent.
    waiting: Vec<Piece>,
}

impl Stream {
    /// Makes a copy that changes can follow. `records` must have been opened for that.
    pub async fn begin(shelf: Shelf, records: Records, ask: Ask) -> Result<Stream, BackupError> {
        clear(&shelf).await?;
        let number = shelf.copies().await?.last().map_or(1, |newest| newest.number + 1);
        let known = known(&shelf).await?;
        let mut own = SqliteConnectOptions::new().filename(records.path()).pragma("query_only", "ON").connect().await?;
        let log = records.path().with_file_name("ordotaxis.db-wal");
        let mut taken = Log { path: log, wal: Wal::default(), may_begin: true, number: 0, round: 0, waiting: Vec::new() };
        taken.write_back(&records, ask.now).await?;
        // From here on the file stays as it is; the log, and what follows it, is all that it lacks.
        let copy = Copy { shelf: &shelf, ask: &ask, number, known };
        let logs = copy.logs().await?;
        let sent = GrowingLogs::sent(&logs);
        let schema = schema(&mut own).await?;
        let (bytes, sha256) = copy.send_file(records.path(), &copy.at("database")).await?;
        let mut packs = None;
        let mut last = 0;
        for _ in 0..TRIES {
            let named: Vec<(i64, String, i64)> =
                sqlx::query_as("SELECT id, name, bytes FROM packs ORDER BY id").fetch_all(&mut own).await?;
            last = named.last().map_or(0, |(id, _, _)| *id);
            let named: Vec<(String, i64)> = named.into_iter().map(|(_, name, bytes)| (name, bytes)).collect();
            packs = copy.packs(&named).await?;
            if packs.is_some() {
                break;
            }
        }
        let packs = packs.ok_or(BackupError::Swept)?;
        // The file alone may be older than the moment of this copy: readers can have kept some of the log from being written back.
        taken.send(&shelf, &ask.name).await?;
        let database = Database { bytes, sha256, schema, goes_on: true, packs: Vec::new() };
        let whole = copy.close(logs.len() as u64, database, packs).await?.whole;
        Ok(Stream { shelf, records, ask, whole, log: taken, own, packs: last, pack_lists: 0, logs: sent })
    }

    /// What the copy holds that everything follows.
    pub fn whole(&self) -> &Whole {
        &self.whole
    }

    pub fn shelf(&self) -> &Shelf {
        &self.shelf
    }

    /// Sends all that has changed; the copy then goes up to `now`, in milliseconds since 1970. What could not be sent is
    /// kept for the next time. After [`BackupError::Behind`] a new stream is needed.
    pub async fn send(&mut self, now: i64) -> Result<(), BackupError> {
        // First what the database may say has moved. A place that is away must not keep the log from being written back.
        let logs = self.logs.send(&self.shelf, &self.whole.name, &self.ask.data).await;
        self.log.take(now)?;
        if self.log.wal.length() > LONG {
            self.log.write_back(&self.records, now).await?;
        }
        if self.log.waiting.iter().map(|piece| piece.bytes.len() as u64).sum::<u64>() > MOST_WAITING {
            return Err(BackupError::Behind);
        }
        logs?;
        // And what it may name.
        self.send_packs().await?;
        self.log.send(&self.shelf, &self.whole.name).await
    }

    /// Copies packs that have come since, and notes them.
    async fn send_packs(&mut self) -> Result<(), BackupError> {
        if matches!(self.ask.packs, Place::Objects(_)) {
            return Ok(());
        }
        let sql = "SELECT id, name FROM packs WHERE id > ? ORDER BY id";
        let new: Vec<(i64, String)> = sqlx::query_as(sql).bind(self.packs).fetch_all(&mut self.own).await?;
        let Some((last, _)) = new.last().cloned() else { return Ok(()) };
        let from = storage(&self.ask.packs)?;
        let mut sent = Vec::new();
        for (_, name) in new {
            // One that was swept away already is named by nothing that lasts.
            sent.extend(pack(from.clone(), self.shelf.clone(), name, None).await?.map(|(pack, _)| pack));
        }
        self.shelf.settle().await?;
        self.shelf.add_packs(&self.whole.name, self.pack_lists + 1, &sent).await?;
        (self.packs, self.pack_lists) = (last, self.pack_lists + 1);
        Ok(())
    }
}

impl Log {
    /// Sends what was taken.
    async fn send(&mut self, shelf: &Shelf, copy: &str) -> Result<(), BackupError> {
        while let Some(piece) = self.waiting.first() {
            changes::put(shelf, copy, piece).await?;
            self.waiting.remove(0);
        }
        Ok(())
    }

    /// Takes all that is in the log, while nothing else can be written, and writes it back.
    async fn write_back(&mut self, records: &Records, now: i64) -> Result<(), BackupError> {
        let mut held = records.hold().await?;
        self.take(now)?;
        // Even if this ends before the answer comes.
        self.may_begin = true;
        self.may_begin = write_back(&mut held).await?;
        Ok(())
    }

    /// Reads what is new in the log.
    fn take(&mut self, now: i64) -> Result<(), BackupError> {
        let wrong = |source| BackupError::File { path: self.path.clone(), source };
        let file = match File::open(&self.path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            other => other.map_err(wrong)?,
        };
        let Some(taken) = self.wal.next(&file).map_err(wrong)? else { return Ok(()) };
        if taken.at == 0 {
            // Begun anew though nobody here wrote it back: what stood at its end may be lost to us.
            if !self.may_begin {
                return Err(BackupError::Behind);
            }
            self.may_begin = false;
            self.round += 1;
        }
        self.number += 1;
        self.waiting.push(Piece { number: self.number, round: self.round, at: taken.at, until: now, bytes: taken.bytes });
        Ok(())
    }
}

/// Writes back what the log holds, as far as readers let it; true when that is all of it.
async fn write_back(held: &mut SqliteConnection) -> Result<bool, BackupError> {
    let (_, there, written): (i64, i64, i64) = sqlx::query_as("PRAGMA wal_checkpoint(PASSIVE)").fetch_one(held).await?;
    Ok(there == written)
}
