//! A closed segment: its table, and its bytes in the store, or in a file of before.

use super::packed::Packed;
use super::table::Table;
use crate::blobs::Blobs;
use crate::records::LogSegmentRow;
use ordotaxis_content::ChunkId;
use std::io::{Error, ErrorKind};

/// The store, as it is asked from a blocking thread.
#[derive(Clone)]
pub(super) struct Shelf {
    pub(super) blobs: Blobs,
    pub(super) runtime: tokio::runtime::Handle,
}

/// A segment that does not grow any more, wherever it is kept.
pub(super) struct Closed {
    pub(super) table: Table,
    held: Held,
}

enum Held {
    Packed(Packed),
    Stored { chunks: Vec<ChunkId>, shelf: Shelf },
}

impl Closed {
    /// From a compressed file.
    pub(super) fn packed(path: &std::path::Path) -> std::io::Result<Closed> {
        let (packed, table) = Packed::open(path)?;
        Ok(Closed { table, held: Held::Packed(packed) })
    }

    /// From the store, by what the records say. An error when that does not fit together.
    pub(super) fn stored(row: &LogSegmentRow, shelf: &Shelf) -> std::io::Result<Closed> {
        let broken = || Error::new(ErrorKind::InvalidData, "what the records say of a log's segment contradicts itself");
        let chunks: Vec<ChunkId> = ChunkId::list(&row.chunks).ok_or_else(broken)?;
        let table = Table::read(&row.places, chunks.len() as u64).ok_or_else(broken)?;
        Ok(Closed { table, held: Held::Stored { chunks, shelf: shelf.clone() } })
    }

    /// Whether its bytes are in the store.
    pub(super) fn is_stored(&self) -> bool {
        matches!(self.held, Held::Stored { .. })
    }

    /// The bytes of a block. Blocks: a chunk may have to come from afar.
    pub(super) fn read(&self, block: usize) -> std::io::Result<Vec<u8>> {
        let (chunks, shelf) = match &self.held {
            Held::Packed(packed) => return packed.read(&self.table, block),
            Held::Stored { chunks, shelf } => (chunks, shelf),
        };
        let place = self.table.blocks.get(block).and_then(|block| usize::try_from(block.place).ok());
        let Some(chunk) = place.and_then(|place| chunks.get(place)) else { return Ok(Vec::new()) };
        let bytes = shelf.runtime.block_on(shelf.blobs.chunk(chunk)).map_err(Error::other)?;
        if bytes.len() as u64 == self.table.length_of(block) {
            return Ok(bytes);
        }
        Err(Error::new(ErrorKind::InvalidData, "a chunk of the log is not as long as the records say"))
    }
}
