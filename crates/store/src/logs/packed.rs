//! The files that closed segments were before they lay in the store: blocks, each compressed by itself, then their table.
//! None is written any more; those that are still there are read, and moved into the store.
//!
//! ```text
//! "OXLOGZ01"  zstd block …  table  length of the table: u32, little-endian  "OXLOGZ01"
//! ```

use super::table::Table;
use std::fs::File;
use std::io::{Error, ErrorKind};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const MAGIC: &[u8; 8] = b"OXLOGZ01";
/// No block holds more.
const BLOCK: usize = 256 * 1024;

/// Where the compressed form of a segment lies.
pub(super) fn path_of(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".zst");
    PathBuf::from(name)
}

/// A closed segment as a compressed file, which versions before wrote.
pub(super) struct Packed {
    path: PathBuf,
    /// Where the last block ends in the file.
    blocks_end: u64,
}

impl Packed {
    /// Opens it and reads its table, which is at its end.
    pub(super) fn open(path: &Path) -> std::io::Result<(Packed, Table)> {
        let broken = || Error::new(ErrorKind::InvalidData, format!("{} is damaged", path.display()));
        let file = File::open(path)?;
        let length = file.metadata()?.len();
        let mut tail = [0; 12];
        let tail_at = length.checked_sub(12).ok_or_else(broken)?;
        file.read_exact_at(&mut tail, tail_at)?;
        if &tail[4..] != MAGIC {
            return Err(broken());
        }
        let table_length = u64::from(u32::from_le_bytes([tail[0], tail[1], tail[2], tail[3]]));
        let blocks_end = tail_at.checked_sub(table_length).ok_or_else(broken)?;
        let mut table = vec![0; usize::try_from(table_length).map_err(|_| broken())?];
        file.read_exact_at(&mut table, blocks_end)?;
        let table = Table::read(&table, blocks_end).ok_or_else(broken)?;
        Ok((Packed { path: path.to_owned(), blocks_end }, table))
    }

    /// One block, unpacked; empty past the last.
    pub(super) fn read(&self, table: &Table, block: usize) -> std::io::Result<Vec<u8>> {
        let Some(known) = table.blocks.get(block) else { return Ok(Vec::new()) };
        let end = table.blocks.get(block + 1).map_or(self.blocks_end, |next| next.place);
        let mut packed = vec![0; usize::try_from(end.saturating_sub(known.place)).unwrap_or(0)];
        File::open(&self.path)?.read_exact_at(&mut packed, known.place)?;
        zstd::bulk::decompress(&packed, BLOCK)
    }
}
