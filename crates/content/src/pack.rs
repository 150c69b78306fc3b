//! Packs: how chunks lie in storage and on the wire.
//!
//! A pack is [`MAGIC`] and then blocks. A block is a header and a body: the header says how long the body is (u32), how
//! long what it holds is (u32), how many chunks that is (u32), and for each its name (32 bytes) and length (u32), all
//! numbers little-endian; the body is the chunks one after the other, compressed as one zstd frame (RFC 8878). Some
//! chunks in one block compress better than each alone, and a block is still small enough to be opened for one of them.

use crate::chunk::{ChunkId, LARGEST_CHUNK};
use std::collections::HashSet;
use std::ops::Range;

/// The first bytes of every pack; the digit is the version.
pub const MAGIC: &[u8; 8] = b"ordpack1";
/// A block is closed when it holds this much.
pub const BLOCK_RAW: usize = 1024 * 1024;
/// No block holds more: it is closed before, and one chunk more may have gone in.
pub const LARGEST_BLOCK: usize = BLOCK_RAW + LARGEST_CHUNK;
/// A block of the smallest files has a long header; none is longer than this.
pub const HEADER_LIMIT: usize = FIXED + MOST_CHUNKS * PER_CHUNK;
const MOST_CHUNKS: usize = 4096;
/// The length in bytes of a header's beginning, which says how long the rest is: stored length, raw length, number of chunks.
const FIXED: usize = 12;
const PER_CHUNK: usize = ChunkId::BYTES + 4;
/// Level 1 packs two to three times as fast as 3 and stores about a tenth more; time is what people wait for.
const LEVEL: i32 = 1;

/// Why bytes are not a pack of whole chunks, or could not be made one.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    #[error("the pack does not begin as one, or was made by a newer version")]
    Magic,
    #[error("a block's header is not one: {0}")]
    Header(&'static str),
    #[error("the pack ends within a block")]
    CutOff,
    #[error("a block does not unpack: it was damaged")]
    Body,
    #[error("a block does not hold the chunk that it names, {0}")]
    Chunk(ChunkId),
    #[error("a block could not be compressed")]
    Compress(#[source] std::io::Error),
}

/// What a block says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockHeader {
    /// The length of its body as stored.
    pub stored: u32,
    /// The length of what it holds.
    pub raw: u32,
    pub chunks: Vec<(ChunkId, u32)>,
}

/// How long a whole header is whose first 12 bytes are these.
pub fn header_length(fixed: &[u8]) -> Result<usize, PackError> {
    let count = number(fixed, 8).ok_or(PackError::CutOff)? as usize;
    if count == 0 || count > MOST_CHUNKS {
        return Err(PackError::Header("it names no chunk, or too many"));
    }
    Ok(FIXED + count * PER_CHUNK)
}

impl BlockHeader {
    pub const FIXED: usize = FIXED;

    /// Reads one from the beginning of `bytes`; gives what follows it, too.
    pub fn read(bytes: &[u8]) -> Result<(BlockHeader, &[u8]), PackError> {
        let length = header_length(bytes.get(..FIXED).ok_or(PackError::CutOff)?)?;
        let (head, rest) = bytes.split_at_checked(length).ok_or(PackError::CutOff)?;
        let (stored, raw) = (number(head, 0).unwrap_or(0), number(head, 4).unwrap_or(0));
        let mut chunks = Vec::with_capacity((length - FIXED) / PER_CHUNK);
        for entry in head[FIXED..].chunks_exact(PER_CHUNK) {
            let (name, size) = entry.split_at(ChunkId::BYTES);
            let id = ChunkId(name.try_into().map_err(|_| PackError::CutOff)?);
            chunks.push((id, number(size, 0).unwrap_or(0)));
        }
        let sum: u64 = chunks.iter().map(|(_, size)| u64::from(*size)).sum();
        if sum != u64::from(raw) || raw as usize > LARGEST_BLOCK || chunks.iter().any(|(_, size)| *size as usize > LARGEST_CHUNK) {
            return Err(PackError::Header("its lengths are too large or do not add up"));
        }
        // What cannot be made smaller grows by a few bytes only; sealing adds some more.
        if stored as usize > raw as usize + raw as usize / 64 + 1024 {
            return Err(PackError::Header("its body is longer than what it holds"));
        }
        Ok((BlockHeader { stored, raw, chunks }, rest))
    }

    /// The header as it is in a pack; numbers are little-endian, 32 bits.
    pub fn bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(FIXED + self.chunks.len() * PER_CHUNK);
        let count = u32::try_from(self.chunks.len()).unwrap_or(u32::MAX);
        for number in [self.stored, self.raw, count] {
            bytes.extend(number.to_le_bytes());
        }
        for (id, size) in &self.chunks {
            bytes.extend(id.0);
            bytes.extend(size.to_le_bytes());
        }
        bytes
    }

    /// Each chunk with where it lies in what the block holds.
    pub fn places(&self) -> impl Iterator<Item = (ChunkId, Range<usize>)> {
        self.chunks.iter().scan(0, |at, &(id, size)| {
            let from = *at;
            *at += size as usize;
            Some((id, from..*at))
        })
    }
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

/// What a block holds, every chunk found to be what its name says.
pub fn open_block(header: &BlockHeader, body: &[u8]) -> Result<Vec<u8>, PackError> {
    let raw = zstd::bulk::decompress(body, header.raw as usize).map_err(|_| PackError::Body)?;
    if raw.len() != header.raw as usize {
        return Err(PackError::Body);
    }
    for (id, place) in header.places() {
        if ChunkId::of(&raw[place]) != id {
            return Err(PackError::Chunk(id));
        }
    }
    Ok(raw)
}

/// A block ready to be stored or sent.
#[derive(Debug, Clone)]
pub struct Block {
    pub header: BlockHeader,
    pub body: Vec<u8>,
}

/// Gathers chunks into blocks. One for each thread: it keeps its compressor.
pub struct BlockWriter {
    compressor: zstd::bulk::Compressor<'static>,
    raw: Vec<u8>,
    chunks: Vec<(ChunkId, u32)>,
}

impl BlockWriter {
    pub fn new() -> Result<BlockWriter, PackError> {
        let compressor = zstd::bulk::Compressor::new(LEVEL).map_err(PackError::Compress)?;
        Ok(BlockWriter { compressor, raw: Vec::with_capacity(LARGEST_BLOCK), chunks: Vec::new() })
    }

    /// Adds a chunk; gives a block when one is full.
    pub fn add(&mut self, id: ChunkId, bytes: &[u8]) -> Result<Option<Block>, PackError> {
        self.raw.extend_from_slice(bytes);
        self.chunks.push((id, u32::try_from(bytes.len()).map_err(|_| PackError::Header("a chunk is too large"))?));
        if self.raw.len() >= BLOCK_RAW || self.chunks.len() >= MOST_CHUNKS { self.close() } else { Ok(None) }
    }

    /// What has been gathered, as a last block.
    pub fn close(&mut self) -> Result<Option<Block>, PackError> {
        if self.chunks.is_empty() {
            return Ok(None);
        }
        let body = self.compressor.compress(&self.raw).map_err(PackError::Compress)?;
        let length = |bytes: &[u8]| u32::try_from(bytes.len()).unwrap_or(u32::MAX);
        let header = BlockHeader { stored: length(&body), raw: length(&self.raw), chunks: std::mem::take(&mut self.chunks) };
        self.raw.clear();
        Ok(Some(Block { header, body }))
    }
}

/// Makes one pack in memory of chunks, each once.
pub struct Packer {
    writer: BlockWriter,
    known: HashSet<ChunkId>,
    bytes: Vec<u8>,
}

impl Packer {
    pub fn new() -> Result<Packer, PackError> {
        Ok(Packer { writer: BlockWriter::new()?, known: HashSet::new(), bytes: MAGIC.to_vec() })
    }

    /// Adds a chunk. One that was added before is left out: a pack holds each once.
    pub fn add(&mut self, id: ChunkId, bytes: &[u8]) -> Result<(), PackError> {
        if self.known.insert(id) {
            let block = self.writer.add(id, bytes)?;
            self.append(block);
        }
        Ok(())
    }

    fn append(&mut self, block: Option<Block>) {
        if let Some(block) = block {
            self.bytes.extend(block.header.bytes());
            self.bytes.extend(block.body);
        }
    }

    /// How long it is so far, without the block that is being gathered.
    pub fn length(&self) -> usize {
        self.bytes.len()
    }

    /// Whether no chunk was added since the last [`Packer::take`].
    pub fn is_empty(&self) -> bool {
        self.known.is_empty()
    }

    /// The whole pack; this packer begins the next.
    ///
    /// ```
    /// use ordotaxis_content::{BlockHeader, ChunkId, HEADER_LIMIT, MAGIC, Packer, open_block};
    /// let mut packer = Packer::new().expect("a packer");
    /// for _ in 0..2 {
    ///     packer.add(ChunkId::of(b"tide"), b"tide").expect("it is added");
    /// }
    /// let pack = packer.take().expect("a pack");
    /// let (header, body) = BlockHeader::read(pack.strip_prefix(MAGIC).expect("a pack")).expect("a block");
    /// assert_eq!(open_block(&header, body).expect("its bytes"), b"tide", "once, though it was added twice");
    /// assert!(header.bytes().len() <= HEADER_LIMIT && packer.is_empty());
    /// ```
    pub fn take(&mut self) -> Result<Vec<u8>, PackError> {
        let block = self.writer.close()?;
        self.append(block);
        self.known.clear();
        Ok(std::mem::replace(&mut self.bytes, MAGIC.to_vec()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn packed(chunks: &[Vec<u8>]) -> Vec<u8> {
        let mut packer = Packer::new().unwrap();
        chunks.iter().for_each(|chunk| packer.add(ChunkId::of(chunk), chunk).unwrap());
        packer.take().unwrap()
    }

    fn unpacked(pack: &[u8]) -> Result<Vec<Vec<u8>>, PackError> {
        let mut rest = pack.strip_prefix(MAGIC).ok_or(PackError::Magic)?;
        let mut chunks = Vec::new();
        while !rest.is_empty() {
            let (header, after) = BlockHeader::read(rest)?;
            let (body, after) = after.split_at_checked(header.stored as usize).ok_or(PackError::CutOff)?;
            let raw = open_block(&header, body)?;
            chunks.extend(header.places().map(|(_, place)| raw[place].to_vec()));
            rest = after;
        }
        Ok(chunks)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn chunks_come_back_and_no_changed_byte_goes_unnoticed(
            sizes in proptest::collection::vec(0usize..200_000, 1..12),
            seed: u8,
            flip in any::<proptest::sample::Index>(),
            bit in 0u32..8,
        ) {
            let mut chunks: Vec<Vec<u8>> =
                sizes.iter().enumerate().map(|(at, &size)| (0..size).map(|n| (n * n / 7 + at + usize::from(seed)).to_le_bytes()[0]).collect()).collect();
            chunks.sort();
            chunks.dedup();
            let pack = packed(&chunks);
            prop_assert_eq!(&unpacked(&pack).unwrap(), &chunks);
            let mut changed = pack.clone();
            changed[flip.index(pack.len())] ^= 1 << bit;
            // Whatever was changed, nothing else than the same chunks is ever taken for them.
            if let Ok(got) = unpacked(&changed) {
                prop_assert_eq!(&got, &chunks);
            }
            let cut = unpacked(&pack[..flip.index(pack.len())]);
            prop_assert!(cut.map_or(true, |got| got.len() < chunks.len()));
        }
    }

    #[test]
    fn a_block_that_claims_too_much_is_refused_before_it_is_opened() {
        let id = ChunkId::of(b"x");
        let read = |header: BlockHeader| BlockHeader::read(&header.bytes()).map(drop);
        let large = u32::try_from(LARGEST_CHUNK).unwrap() + 1;
        assert!(read(BlockHeader { stored: 1, raw: large, chunks: vec![(id, large)] }).is_err());
        assert!(read(BlockHeader { stored: 1, raw: 5, chunks: vec![(id, 4)] }).is_err());
        assert!(read(BlockHeader { stored: u32::MAX, raw: 4, chunks: vec![(id, 4)] }).is_err());
        assert!(read(BlockHeader { stored: 1, raw: 0, chunks: vec![] }).is_err());
        // A bomb: a megabyte of nothing where four bytes were promised.
        let bomb = zstd::bulk::compress(&vec![0; 1 << 20], 1).unwrap();
        let header = BlockHeader { stored: u32::try_from(bomb.len()).unwrap(), raw: 4, chunks: vec![(ChunkId::of(&[0; 4]), 4)] };
        assert!(matches!(open_block(&header, &bomb), Err(PackError::Body)));
    }

    #[test]
    fn many_tiny_chunks_make_several_blocks() {
        let chunks: Vec<Vec<u8>> = (0..10_000u32).map(|n| n.to_le_bytes().to_vec()).collect();
        assert_eq!(unpacked(&packed(&chunks)).unwrap(), chunks);
    }
}
