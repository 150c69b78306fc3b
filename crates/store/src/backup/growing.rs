//! Logs that grow while a backup follows them: what is new of each file is sent, as a piece of its own named after its place.
//! A file of a log only ever grows, until it has moved into the store.

use super::back_up::{files, unless_gone};
use super::error::BackupError;
use super::shelf::{Shelf, of_copy};
use object_store::ObjectStoreExt;
use std::collections::HashMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

/// The folder of pieces in a copy: `more-logs/RUN/FILE/OFFSET`.
pub(super) const FOLDER: &str = "more-logs";
/// The most that is sent of a file in one piece.
const PIECE: u64 = 8 << 20;

/// How much of each file is in the backup.
pub(super) struct GrowingLogs(HashMap<String, u64>);

impl GrowingLogs {
    /// With what a copy has already.
    pub(super) fn sent(copied: &[(String, u64)]) -> GrowingLogs {
        GrowingLogs(copied.iter().cloned().collect())
    }

    /// Sends what is new. Files that are gone have moved into the store, whose packs are sent.
    pub(super) async fn send(&mut self, shelf: &Shelf, copy: &str, data: &Path) -> Result<(), BackupError> {
        let mut there = HashMap::new();
        for (path, name) in files(&data.join("logs"))? {
            let mut sent = self.0.get(&name).copied().unwrap_or(0);
            while let Some(bytes) = read_from(&path, sent)? {
                let length = bytes.len() as u64;
                shelf.place.put(&of_copy(copy, &format!("{FOLDER}/{name}/{sent:012}")), bytes.into()).await?;
                sent += length;
                self.0.insert(name.clone(), sent);
            }
            there.insert(name, sent);
        }
        self.0 = there;
        Ok(())
    }
}

/// What a file has from an offset on, up to a piece; none at its end.
fn read_from(path: &Path, offset: u64) -> Result<Option<Vec<u8>>, BackupError> {
    let wrong = |source| BackupError::File { path: path.to_owned(), source };
    let Some(mut file) = unless_gone(std::fs::File::open(path)).map_err(wrong)? else { return Ok(None) };
    file.seek(SeekFrom::Start(offset)).map_err(wrong)?;
    let mut bytes = Vec::new();
    file.take(PIECE).read_to_end(&mut bytes).map_err(wrong)?;
    Ok(if bytes.is_empty() { None } else { Some(bytes) })
}
