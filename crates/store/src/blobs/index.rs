//! Which chunk lies where. In memory: about 100 bytes a chunk, which is 250 KiB of files on average.

use super::error::BlobError;
use ordotaxis_content::{BlockHeader, ChunkId, MAGIC};
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::sync::atomic::{AtomicI64, Ordering};

/// A block's place in its pack.
#[derive(Debug, Clone, Copy)]
pub(super) struct BlockAt {
    pub(super) offset: u64,
    pub(super) header: u32,
    pub(super) stored: u32,
}

impl BlockAt {
    /// Header and body.
    pub(super) fn range(&self) -> Range<u64> {
        self.offset..self.offset + u64::from(self.header) + u64::from(self.stored)
    }

    pub(super) fn chunks(&self) -> usize {
        (self.header as usize - BlockHeader::FIXED) / (ChunkId::BYTES + 4)
    }
}

/// A pack and its blocks.
#[derive(Debug)]
pub(super) struct PackAt {
    pub(super) name: String,
    pub(super) sealed: bool,
    pub(super) bytes: u64,
    pub(super) made_at: i64,
    pub(super) blocks: Vec<BlockAt>,
    /// When someone was last answered that a chunk of it is there.
    promised: AtomicI64,
}

impl PackAt {
    /// The last moment at which someone may have begun to count on it.
    pub(super) fn counted_on(&self) -> i64 {
        self.made_at.max(self.promised.load(Ordering::Relaxed))
    }
}

/// Where a chunk lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ChunkAt {
    pub(super) pack: i64,
    pub(super) block: u32,
    /// Where it lies in what the block holds.
    pub(super) from: u32,
    pub(super) length: u32,
}

/// Where every chunk lies. Kept in memory: about a hundred bytes a chunk.
#[derive(Debug, Default)]
pub(super) struct Index {
    pub(super) packs: BTreeMap<i64, PackAt>,
    chunks: HashMap<ChunkId, ChunkAt>,
}

impl Index {
    /// Adds a pack with the headers of its blocks.
    pub(super) fn add(&mut self, id: i64, name: String, sealed: bool, bytes: i64, made_at: i64, headers: &[u8]) -> Result<(), BlobError> {
        let (mut rest, mut offset, mut blocks) = (headers, MAGIC.len() as u64, Vec::new());
        while !rest.is_empty() {
            let (header, after) = BlockHeader::read(rest)?;
            let length = rest.len() - after.len();
            let block = u32::try_from(blocks.len()).unwrap_or(u32::MAX);
            for (chunk, place) in header.places() {
                let number = |place: usize| u32::try_from(place).unwrap_or(u32::MAX);
                let at = ChunkAt { pack: id, block, from: number(place.start), length: number(place.len()) };
                // Of two that hold the same the older stays: others may count on it.
                self.chunks.entry(chunk).or_insert(at);
            }
            blocks.push(BlockAt { offset, header: u32::try_from(length).unwrap_or(u32::MAX), stored: header.stored });
            offset += length as u64 + u64::from(header.stored);
            rest = after;
        }
        let bytes = u64::try_from(bytes).unwrap_or(0);
        self.packs.insert(id, PackAt { name, sealed, bytes, made_at, blocks, promised: AtomicI64::new(0) });
        Ok(())
    }

    /// Takes over, for packs that are still there, when others were last promised them.
    pub(super) fn keep_promises(&self, of: &Index) {
        for (id, pack) in &self.packs {
            if let Some(known) = of.packs.get(id) {
                pack.promised.fetch_max(known.promised.load(Ordering::Relaxed), Ordering::Relaxed);
            }
        }
    }

    /// Where a chunk lies; none when the store does not have it.
    pub(super) fn get(&self, id: &ChunkId) -> Option<ChunkAt> {
        self.chunks.get(id).copied()
    }

    /// Whether it is there; then its pack is counted on from now.
    pub(super) fn promise(&self, id: &ChunkId, now: i64) -> bool {
        let Some(pack) = self.chunks.get(id).and_then(|at| self.packs.get(&at.pack)) else { return false };
        pack.promised.fetch_max(now, Ordering::Relaxed);
        true
    }

    pub(super) fn chunks(&self) -> impl Iterator<Item = (&ChunkId, &ChunkAt)> {
        self.chunks.iter()
    }

    /// How many packs and chunks, and their bytes as stored.
    pub(super) fn sums(&self) -> (usize, usize, u64) {
        (self.packs.len(), self.chunks.len(), self.packs.values().map(|pack| pack.bytes).sum())
    }
}
