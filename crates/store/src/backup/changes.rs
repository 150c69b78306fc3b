//! Changes of the database after a copy, as they lie beside it: pieces of SQLite's write-ahead log, in rounds. A round is
//! what SQLite wrote from one beginning of the log to the next. A piece is called after its number, its place, the moment up
//! to which it goes, and what it holds: `NUMBER-ROUND-AT-MS-DIGEST`, so a list of names says whether any is missing.

use super::error::BackupError;
use super::shelf::{Shelf, of_copy};
use super::wal;
use super::whole::Whole;
use crate::key::hex;
use futures_util::TryStreamExt;
use object_store::ObjectStoreExt;
use object_store::path::Path as At;
use sha2::{Digest, Sha256};
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection};
use std::path::Path;

/// The folder of pieces in a copy.
const FOLDER: &str = "changes";

/// A piece of the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Piece {
    /// Counted from 1 over all pieces of a copy, as rounds are.
    pub(super) number: u64,
    pub(super) round: u64,
    /// Where it lies in its round's log.
    pub(super) at: u64,
    /// The database was so at this moment, in milliseconds since 1970.
    pub(super) until: i64,
    pub(super) bytes: Vec<u8>,
}

impl Piece {
    pub(super) fn name(&self) -> String {
        format!("{:08}-{:08}-{:012}-{:013}-{}", self.number, self.round, self.at, self.until, hex(&Sha256::digest(&self.bytes)))
    }
}

/// A piece as its name says.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Named {
    number: u64,
    round: u64,
    at: u64,
    until: i64,
    sha256: String,
    size: u64,
    path: At,
}

impl Named {
    fn read(path: At, size: u64) -> Option<Named> {
        let name = path.filename()?.to_owned();
        let parts: Vec<&str> = name.split('-').collect();
        let &[number, round, at, until, sha256] = parts.as_slice() else { return None };
        let (number, round, at, until) = (number.parse().ok()?, round.parse().ok()?, at.parse().ok()?, until.parse().ok()?);
        (sha256.len() == 64).then(|| Named { number, round, at, until, sha256: sha256.to_owned(), size, path })
    }
}

/// What was written back into a database.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Applied {
    pub(super) pieces: u64,
    /// The last moment that is in it.
    pub(super) until: Option<i64>,
}

pub(super) async fn put(shelf: &Shelf, copy: &str, piece: &Piece) -> Result<(), BackupError> {
    let at = of_copy(copy, &format!("{FOLDER}/{}", piece.name()));
    shelf.place.put(&at, piece.bytes.clone().into()).await?;
    Ok(())
}

impl Shelf {
    /// The last moment that a copy goes up to, in milliseconds since 1970.
    pub async fn reach(&self, whole: &Whole) -> Result<i64, BackupError> {
        let pieces = if whole.goes_on() { named(self, &whole.name).await? } else { Vec::new() };
        Ok(pieces.last().map_or(whole.made_at, |piece| piece.until))
    }
}

/// The pieces of a copy in their order: each goes on where the one before it ends.
async fn named(shelf: &Shelf, copy: &str) -> Result<Vec<Named>, BackupError> {
    let folder = of_copy(copy, FOLDER);
    let found: Vec<_> = shelf.place.list(Some(&folder)).map_ok(|found| (found.location, found.size)).try_collect().await?;
    let odd = |path: &At| BackupError::Damaged(format!("{path} is no piece of its changes"));
    let read = |(path, size): (At, u64)| Named::read(path.clone(), size).ok_or_else(|| odd(&path));
    let mut pieces = found.into_iter().map(read).collect::<Result<Vec<_>, _>>()?;
    pieces.sort();
    // The same may have been sent twice, when the answer to the first was lost.
    pieces.dedup_by(|later, earlier| later.number == earlier.number && later.sha256 == earlier.sha256);
    Ok(pieces)
}

/// Refuses a row of pieces in which one is missing. Those at the very end may be: the changes then end earlier.
fn follow(pieces: &[Named]) -> Result<(), BackupError> {
    let (mut number, mut round, mut at, mut until) = (0, 0, 0, None);
    for piece in pieces {
        let goes_on = (piece.round, piece.at) == (round, at) || (piece.round, piece.at) == (round + 1, 0);
        if piece.number != number + 1 || !goes_on {
            return Err(BackupError::Gap(until));
        }
        (number, round, at, until) = (piece.number, piece.round, piece.at + piece.size, Some(piece.until));
    }
    Ok(())
}

/// Writes the changes of a copy into its database, up to a moment; SQLite does it itself, as after a crash.
pub(super) async fn apply(shelf: &Shelf, copy: &str, database: &Path, until: Option<i64>) -> Result<Applied, BackupError> {
    let mut pieces = named(shelf, copy).await?;
    pieces.retain(|piece| until.is_none_or(|until| piece.until <= until));
    follow(&pieces)?;
    let mut sound = None;
    for round in pieces.chunk_by(|one, other| one.round == other.round) {
        let mut log = Vec::new();
        for piece in round {
            let bytes = shelf.place.get(&piece.path).await?.bytes().await?;
            if hex(&Sha256::digest(&bytes)) != piece.sha256 {
                return Err(BackupError::Gap(sound));
            }
            log.extend_from_slice(&bytes);
            sound = Some(piece.until);
        }
        write_back(database, &log).await?;
    }
    Ok(Applied { pieces: pieces.len() as u64, until: pieces.last().map(|piece| piece.until) })
}

/// Lays a log beside the database and lets SQLite take it in.
async fn write_back(database: &Path, log: &[u8]) -> Result<(), BackupError> {
    let wanted = i64::try_from(wal::frames(log)).unwrap_or(i64::MAX);
    if wanted == 0 {
        return Ok(()); // begun anew, and nothing written yet
    }
    let beside = |end: &str| database.with_file_name(format!("{}{end}", database.file_name().unwrap_or_default().to_string_lossy()));
    let wal = beside("-wal");
    std::fs::write(&wal, log).map_err(|source| BackupError::File { path: wal.clone(), source })?;
    let mut opened = SqliteConnectOptions::new().filename(database).connect().await?;
    let (_, there, written): (i64, i64, i64) = sqlx::query_as("PRAGMA wal_checkpoint(PASSIVE)").fetch_one(&mut opened).await?;
    opened.close().await?;
    for end in ["-wal", "-shm"] {
        let _ = std::fs::remove_file(beside(end)); // SQLite has mostly done so
    }
    if (there, written) != (wanted, wanted) {
        return Err(BackupError::Damaged(format!("SQLite took {written} of {wanted} pages of its changes")));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_piece_is_called_after_what_it_is() {
        let piece = Piece { number: 7, round: 2, at: 32, until: 1_772_000_000_000, bytes: b"frames".to_vec() };
        let read = Named::read(At::from(piece.name()), 6).expect("a piece");
        assert_eq!((read.number, read.round, read.at, read.until, read.size), (7, 2, 32, 1_772_000_000_000, 6));
        for odd in ["", "1-2-3", "1-2-3-4-5", &format!("a-1-1-1-{}", "0".repeat(64)), &format!("1-1-1-1-{}-1", "0".repeat(64))] {
            assert_eq!(Named::read(At::from(odd), 1), None, "{odd}");
        }
    }

    #[test]
    fn a_gap_is_seen_and_says_until_when_all_is_there() {
        let piece = |number, round, at, size, until| Named { number, round, at, size, until, sha256: String::new(), path: At::from("x") };
        let all = [piece(1, 1, 0, 10, 5), piece(2, 1, 10, 4, 6), piece(3, 2, 0, 8, 7), piece(4, 2, 8, 8, 8), piece(5, 3, 0, 2, 9)];
        assert!(follow(&all).is_ok() && follow(&[]).is_ok());
        for gone in 0..all.len() {
            let mut some = all.to_vec();
            some.remove(gone);
            // What is missing at the very end cannot be seen: the changes end earlier.
            let until = gone.checked_sub(1).map(|before| all[before].until);
            match follow(&some) {
                Ok(()) => assert_eq!(gone, 4),
                Err(BackupError::Gap(found)) => assert_eq!(found, until, "without {gone}"),
                Err(other) => panic!("{other}"),
            }
        }
    }
}
