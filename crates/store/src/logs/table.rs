//! Where things are in a closed segment: its blocks, and when what was read. Written as zstd of little-endian numbers:
//!
//! ```text
//! start: u64  first line: u64  end: u64  end line: u64  blocks: u32  times: u32
//! for each block: offset: u64  line: u64  place: u64
//! for each time: offset: u64  ms since 1970: i64
//! ```

use super::piece::Index;
use std::io::Read;

/// No table can be this large: a bound for tables that lie.
const LARGEST: u64 = 256 * 1024 * 1024;
const LEVEL: i32 = 3;

/// A part of a segment that is unpacked as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Block {
    /// Of its first byte in the log.
    pub(super) offset: u64,
    /// Line ends before it in the log.
    pub(super) line: u64,
    /// Where it is kept: a place in a file, or the number of a chunk.
    pub(super) place: u64,
}

/// What a closed segment holds, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Table {
    pub(super) start: u64,
    pub(super) first_line: u64,
    pub(super) end: u64,
    pub(super) end_line: u64,
    pub(super) blocks: Vec<Block>,
    /// (offset, ms): bytes from there on were read then.
    times: Vec<(u64, i64)>,
}

/// Takes numbers off the front of a table.
struct Numbers<'t>(&'t [u8]);

impl Numbers<'_> {
    fn bytes<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (first, rest) = self.0.split_at_checked(N)?;
        self.0 = rest;
        first.try_into().ok()
    }

    fn long(&mut self) -> Option<u64> {
        self.bytes().map(u64::from_le_bytes)
    }

    fn count(&mut self) -> Option<usize> {
        self.bytes().map(u32::from_le_bytes).and_then(|count| usize::try_from(count).ok())
    }
}

impl Table {
    /// The table of a segment whose blocks were just written.
    pub(super) fn new(index: &Index, blocks: Vec<Block>) -> Table {
        let end = index.start + index.length();
        let times = index.pieces.iter().map(|piece| (piece.offset, piece.at)).collect();
        Table { start: index.start, first_line: index.first_line, end, end_line: index.end_line, blocks, times }
    }

    /// The same with blocks that lie elsewhere.
    pub(super) fn with(&self, blocks: Vec<Block>) -> Table {
        Table { blocks, ..self.clone() }
    }

    /// Its form on disk and in the records; numbers are little-endian.
    pub(super) fn write(&self) -> std::io::Result<Vec<u8>> {
        let count = |count: usize| u32::try_from(count).unwrap_or(0).to_le_bytes();
        let mut table: Vec<u8> = Vec::new();
        for number in [self.start, self.first_line, self.end, self.end_line] {
            table.extend(number.to_le_bytes());
        }
        table.extend(count(self.blocks.len()));
        table.extend(count(self.times.len()));
        for block in &self.blocks {
            [block.offset, block.line, block.place].iter().for_each(|number| table.extend(number.to_le_bytes()));
        }
        for (offset, at) in &self.times {
            table.extend(offset.to_le_bytes());
            table.extend(at.to_le_bytes());
        }
        zstd::bulk::compress(&table, LEVEL)
    }

    /// Reads a table whose places are below `places_end`. None for what is none, or contradicts itself.
    pub(super) fn read(bytes: &[u8], places_end: u64) -> Option<Table> {
        let mut table = Vec::new();
        zstd::stream::Decoder::new(bytes).ok()?.take(LARGEST).read_to_end(&mut table).ok()?;
        let mut numbers = Numbers(&table);
        let (start, first_line, end, end_line) = (numbers.long()?, numbers.long()?, numbers.long()?, numbers.long()?);
        let (blocks, times) = (numbers.count()?, numbers.count()?);
        if numbers.0.len() < blocks.saturating_mul(24).saturating_add(times.saturating_mul(16)) {
            return None;
        }
        let block = |_| Some(Block { offset: numbers.long()?, line: numbers.long()?, place: numbers.long()? });
        let blocks = (0..blocks).map(block).collect::<Option<Vec<_>>>()?;
        let time = |_| Some((numbers.long()?, numbers.bytes().map(i64::from_le_bytes)?));
        let times = (0..times).map(time).collect::<Option<Vec<_>>>()?;
        let table = Table { start, first_line, end, end_line, blocks, times };
        table.is_sound(places_end).then_some(table)
    }

    fn is_sound(&self, places_end: u64) -> bool {
        let rises = |pair: &[Block]| pair[0].offset < pair[1].offset && pair[0].line <= pair[1].line && pair[0].place < pair[1].place;
        let (bytes, lines) = (self.start..self.end, self.first_line..=self.end_line);
        let within = |block: &Block| bytes.contains(&block.offset) && lines.contains(&block.line) && block.place < places_end;
        let whole = self.start <= self.end && self.first_line <= self.end_line;
        whole
            && self.blocks.windows(2).all(rises)
            && self.blocks.iter().all(within)
            && self.blocks.first().is_none_or(|first| first.offset == self.start)
    }

    /// The block that holds the byte at this offset of the log.
    pub(super) fn at_offset(&self, offset: u64) -> usize {
        self.blocks.partition_point(|block| block.offset <= offset).saturating_sub(1)
    }

    /// The block in which this line of the log begins.
    pub(super) fn at_line(&self, line: u64) -> usize {
        if line <= self.first_line {
            return 0;
        }
        self.blocks.partition_point(|block| block.line < line).saturating_sub(1)
    }

    /// How many bytes of the log a block holds.
    pub(super) fn length_of(&self, block: usize) -> u64 {
        let end = self.blocks.get(block + 1).map_or(self.end, |next| next.offset);
        self.blocks.get(block).map_or(0, |block| end - block.offset)
    }

    /// When the byte at this offset was read.
    pub(super) fn time_at(&self, offset: u64) -> i64 {
        let place = self.times.partition_point(|(from, _)| *from <= offset);
        place.checked_sub(1).and_then(|last| self.times.get(last)).map_or(0, |(_, at)| *at)
    }
}
