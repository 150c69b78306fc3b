//! A compressed segment: blocks of bytes, each compressed by itself so that any place is reached by unpacking one, then a
//! table of the blocks and of the times. All numbers are little-endian.
//!
//! ```text
//! "OXLOGZ01"  zstd block …  zstd table  length of the table: u32  "OXLOGZ01"
//! table: start: u64  first line: u64  end: u64  end line: u64  blocks: u32  times: u32
//!        for each block: offset: u64  line: u64  place in the file: u64
//!        for each time: offset: u64  ms since 1970: i64
//! ```

use super::piece::{Index, line_ends};
use std::fs::File;
use std::io::{Error, ErrorKind, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const MAGIC: &[u8; 8] = b"OXLOGZ01";
/// How much is compressed together: more packs a little better, less is reached sooner.
const BLOCK: usize = 256 * 1024;
/// Fast, and logs pack well at any level.
const LEVEL: i32 = 3;
/// No table can be this large: a bound for files that lie.
const LARGEST_TABLE: u64 = 256 * 1024 * 1024;

pub(super) fn path_of(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".zst");
    PathBuf::from(name)
}

#[derive(Debug, Clone, Copy)]
struct Block {
    offset: u64,
    line: u64,
    place: u64,
}

pub(super) struct Packed {
    path: PathBuf,
    start: u64,
    first_line: u64,
    end: u64,
    end_line: u64,
    blocks: Vec<Block>,
    /// Where the last block ends in the file.
    blocks_end: u64,
    /// (offset, ms): bytes from there on were read then.
    times: Vec<(u64, i64)>,
}

/// A compressed segment that is written but not yet in its place.
#[must_use]
pub(super) struct Staged {
    from: PathBuf,
    to: PathBuf,
}

impl Staged {
    pub(super) fn publish(self) -> std::io::Result<()> {
        std::fs::rename(&self.from, &self.to)
    }
}

/// Compresses a growing segment beside itself.
pub(super) fn pack(path: &Path, index: &Index) -> std::io::Result<Staged> {
    let mut staging = path.as_os_str().to_owned();
    staging.push(".packing");
    let staging = PathBuf::from(staging);
    let mut file = std::io::BufWriter::new(File::create(&staging)?);
    file.write_all(MAGIC)?;
    let (mut blocks, mut place) = (Vec::new(), MAGIC.len() as u64);
    let mut piece = 0;
    let mut packer = zstd::bulk::Compressor::new(LEVEL)?;
    while piece < index.pieces.len() {
        let first = index.pieces[piece];
        let mut end = piece;
        let mut length = 0;
        while end < index.pieces.len() && (length == 0 || length + index.pieces[end].length as usize <= BLOCK) {
            length += index.pieces[end].length as usize;
            end += 1;
        }
        let bytes = index.read(piece..end)?;
        let (mut offset, mut line) = (first.offset, first.line);
        for part in bytes.chunks(BLOCK) {
            let packed = packer.compress(part)?;
            file.write_all(&packed)?;
            blocks.push(Block { offset, line, place });
            place += packed.len() as u64;
            offset += part.len() as u64;
            line += line_ends(part);
        }
        piece = end;
    }
    let table = table(index, &blocks);
    let packed = packer.compress(&table)?;
    file.write_all(&packed)?;
    file.write_all(&u32::try_from(packed.len()).unwrap_or(0).to_le_bytes())?;
    file.write_all(MAGIC)?;
    file.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_data()?;
    Ok(Staged { from: staging, to: path_of(path) })
}

fn table(index: &Index, blocks: &[Block]) -> Vec<u8> {
    let count = |count: usize| u32::try_from(count).unwrap_or(0).to_le_bytes();
    let mut table: Vec<u8> = Vec::new();
    for number in [index.start, index.first_line, index.start + index.length(), index.end_line] {
        table.extend(number.to_le_bytes());
    }
    table.extend(count(blocks.len()));
    table.extend(count(index.pieces.len()));
    for block in blocks {
        [block.offset, block.line, block.place].iter().for_each(|number| table.extend(number.to_le_bytes()));
    }
    for piece in &index.pieces {
        table.extend(piece.offset.to_le_bytes());
        table.extend(piece.at.to_le_bytes());
    }
    table
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

impl Packed {
    /// Reads the table.
    pub(super) fn open(path: &Path) -> std::io::Result<Packed> {
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
        let table_at = tail_at.checked_sub(table_length).ok_or_else(broken)?;
        let mut table = vec![0; usize::try_from(table_length).map_err(|_| broken())?];
        file.read_exact_at(&mut table, table_at)?;
        let mut unpacked = Vec::new();
        zstd::stream::Decoder::new(&table[..])?.take(LARGEST_TABLE).read_to_end(&mut unpacked)?;
        let table = unpacked;
        Packed::of_table(path, table_at, &mut Numbers(&table)).ok_or_else(broken)
    }

    fn of_table(path: &Path, blocks_end: u64, numbers: &mut Numbers<'_>) -> Option<Packed> {
        let (start, first_line, end, end_line) = (numbers.long()?, numbers.long()?, numbers.long()?, numbers.long()?);
        let (blocks, times) = (numbers.count()?, numbers.count()?);
        if numbers.0.len() < blocks.saturating_mul(24).saturating_add(times.saturating_mul(16)) {
            return None;
        }
        let block = |_| Some(Block { offset: numbers.long()?, line: numbers.long()?, place: numbers.long()? });
        let blocks = (0..blocks).map(block).collect::<Option<Vec<_>>>()?;
        let time = |_| Some((numbers.long()?, numbers.bytes().map(i64::from_le_bytes)?));
        let times = (0..times).map(time).collect::<Option<Vec<_>>>()?;
        // A table that contradicts itself is no table.
        let rises =
            blocks.windows(2).all(|pair| pair[0].offset < pair[1].offset && pair[0].line <= pair[1].line && pair[0].place < pair[1].place);
        let within = blocks
            .iter()
            .all(|block| (start..end).contains(&block.offset) && (first_line..=end_line).contains(&block.line) && block.place < blocks_end);
        let whole = start <= end && first_line <= end_line && blocks.first().is_none_or(|first| first.offset == start);
        if !(rises && within && whole) {
            return None;
        }
        Some(Packed { path: path.to_owned(), start, first_line, end, end_line, blocks, blocks_end, times })
    }

    pub(super) fn start(&self) -> u64 {
        self.start
    }

    pub(super) fn length(&self) -> u64 {
        self.end - self.start
    }

    pub(super) fn first_line(&self) -> u64 {
        self.first_line
    }

    pub(super) fn end_line(&self) -> u64 {
        self.end_line
    }

    pub(super) fn blocks(&self) -> usize {
        self.blocks.len()
    }

    pub(super) fn at_offset(&self, offset: u64) -> usize {
        self.blocks.partition_point(|block| block.offset <= offset).saturating_sub(1)
    }

    pub(super) fn at_line(&self, line: u64) -> usize {
        if line <= self.first_line {
            return 0;
        }
        self.blocks.partition_point(|block| block.line < line).saturating_sub(1)
    }

    /// Offset of a block's first byte in the log, and line ends before it.
    pub(super) fn block_start(&self, block: usize) -> (u64, u64) {
        self.blocks.get(block).map_or((self.end, self.end_line), |block| (block.offset, block.line))
    }

    pub(super) fn read(&self, block: usize) -> std::io::Result<Vec<u8>> {
        let Some(known) = self.blocks.get(block) else { return Ok(Vec::new()) };
        let end = self.blocks.get(block + 1).map_or(self.blocks_end, |next| next.place);
        let mut packed = vec![0; usize::try_from(end.saturating_sub(known.place)).unwrap_or(0)];
        File::open(&self.path)?.read_exact_at(&mut packed, known.place)?;
        zstd::bulk::decompress(&packed, BLOCK)
    }

    /// When the byte at this offset was read.
    pub(super) fn time_at(&self, offset: u64) -> i64 {
        let place = self.times.partition_point(|(from, _)| *from <= offset);
        place.checked_sub(1).and_then(|last| self.times.get(last)).map_or(0, |(_, at)| *at)
    }
}
