//! A growing segment: a head, then pieces, each with a head of its own. All numbers are little-endian.
//!
//! ```text
//! "OXLOG001"  offset of the first byte: u64  lines before it: u64
//! length: u32  line ends in it: u32  read at, ms since 1970: i64  bytes …      (again and again)
//! ```
//!
//! A piece that was cut off by a crash is cut away when the segment is loaded.

use std::fs::File;
use std::io::{Error, ErrorKind, IoSlice, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const MAGIC: &[u8; 8] = b"OXLOG001";
const HEAD: u64 = 24;
const HEAD_BYTES: usize = 24;
const PIECE_HEAD: u64 = 16;
const PIECE_HEAD_BYTES: usize = 16;

/// Where a piece lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Piece {
    /// Of its first byte in the log.
    pub(super) offset: u64,
    /// Line ends before it in the log.
    pub(super) line: u64,
    pub(super) at: i64,
    pub(super) length: u32,
    /// Of its first byte in the file.
    place: u64,
}

/// What is known of a segment's pieces.
#[derive(Debug)]
pub(super) struct Index {
    pub(super) start: u64,
    pub(super) first_line: u64,
    pub(super) end_line: u64,
    pub(super) pieces: Vec<Piece>,
    path: PathBuf,
}

/// A segment that is written to.
pub(super) struct Growing {
    index: Index,
    /// Open while it is written to.
    file: Option<File>,
    /// The file's length.
    end: u64,
    /// It is on its way into the store: what comes next goes into another.
    frozen: bool,
}

/// How many line ends there are.
pub(super) fn line_ends(bytes: &[u8]) -> u64 {
    bytecount::count(bytes, b'\n') as u64
}

fn number(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 8).and_then(|eight| eight.try_into().ok()).map_or(0, u64::from_le_bytes)
}

fn small(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|four| four.try_into().ok()).map_or(0, u32::from_le_bytes)
}

impl Growing {
    /// Makes the file of a segment that begins at this offset and line of the log.
    pub(super) fn create(path: &Path, start: u64, first_line: u64) -> std::io::Result<Growing> {
        let mut file = std::fs::OpenOptions::new().create_new(true).read(true).append(true).open(path)?;
        let head = [&MAGIC[..], &start.to_le_bytes(), &first_line.to_le_bytes()].concat();
        if let Err(error) = file.write_all(&head) {
            // Without its head the file could never be read or replaced.
            let _ = std::fs::remove_file(path);
            return Err(error);
        }
        let index = Index { start, first_line, end_line: first_line, pieces: Vec::new(), path: path.to_owned() };
        Ok(Growing { index, file: Some(file), end: HEAD, frozen: false })
    }

    /// Reads the heads of all pieces.
    pub(super) fn load(path: &Path) -> std::io::Result<Growing> {
        let mut file = std::fs::OpenOptions::new().read(true).append(true).open(path)?;
        let length = file.metadata()?.len();
        let mut head = [0; HEAD_BYTES];
        if length < HEAD {
            // Made, but its head was never written: nothing was answered for.
            drop(file);
            std::fs::remove_file(path)?;
            return Err(ErrorKind::NotFound.into());
        }
        file.read_exact(&mut head)?;
        if &head[..8] != MAGIC {
            return Err(Error::new(ErrorKind::InvalidData, format!("{} is no log", path.display())));
        }
        let (start, first_line) = (number(&head, 8), number(&head, 16));
        let mut index = Index { start, first_line, end_line: first_line, pieces: Vec::new(), path: path.to_owned() };
        let (mut place, mut offset) = (HEAD, start);
        let mut piece_head = [0; PIECE_HEAD_BYTES];
        while place + PIECE_HEAD <= length {
            file.read_exact_at(&mut piece_head, place)?;
            let bytes = small(&piece_head, 0);
            if place + PIECE_HEAD + u64::from(bytes) > length {
                break;
            }
            let at = i64::from_le_bytes(number(&piece_head, 8).to_le_bytes());
            index.pieces.push(Piece { offset, line: index.end_line, at, length: bytes, place: place + PIECE_HEAD });
            index.end_line += u64::from(small(&piece_head, 4));
            offset += u64::from(bytes);
            place += PIECE_HEAD + u64::from(bytes);
        }
        if place < length {
            file.set_len(place)?;
        }
        file.seek(SeekFrom::End(0))?;
        Ok(Growing { index, file: None, end: place, frozen: false })
    }

    /// Writes a piece whole, or leaves the segment as it was.
    pub(super) fn append(&mut self, at: i64, bytes: &[u8]) -> std::io::Result<()> {
        let length = u32::try_from(bytes.len()).map_err(|_| Error::new(ErrorKind::InvalidInput, "the piece is too long"))?;
        let ends = line_ends(bytes);
        if self.file.is_none() {
            self.file = Some(std::fs::OpenOptions::new().append(true).open(&self.index.path)?);
        }
        let Some(file) = &mut self.file else { return Err(ErrorKind::NotFound.into()) };
        let head = [&length.to_le_bytes()[..], &u32::try_from(ends).unwrap_or(0).to_le_bytes(), &at.to_le_bytes()].concat();
        if let Err(error) = write_both(file, &head, bytes) {
            // A full disk: what was half written is taken back, so that the next try stands where it should.
            file.set_len(self.end)?;
            return Err(error);
        }
        let offset = self.index.start + self.length();
        self.index.pieces.push(Piece { offset, line: self.index.end_line, at, length, place: self.end + PIECE_HEAD });
        self.index.end_line += ends;
        self.end += PIECE_HEAD + u64::from(length);
        Ok(())
    }

    /// Nothing more is expected: the file need not stay open.
    pub(super) fn rest(&mut self) {
        self.file = None;
    }

    /// Whether its file is open.
    pub(super) fn is_open(&self) -> bool {
        self.file.is_some()
    }

    /// Nothing more is appended.
    pub(super) fn freeze(&mut self) {
        self.file = None;
        self.frozen = true;
    }

    /// Whether it was frozen.
    pub(super) fn is_frozen(&self) -> bool {
        self.frozen
    }

    /// Which piece of it lies where.
    pub(super) fn view(&self) -> &Index {
        &self.index
    }

    /// The offset of its first byte in the log.
    pub(super) fn start(&self) -> u64 {
        self.index.start
    }

    /// How many bytes of the log it holds.
    pub(super) fn length(&self) -> u64 {
        self.index.length()
    }

    /// The number of its first line, from 0.
    pub(super) fn first_line(&self) -> u64 {
        self.index.first_line
    }

    /// Line ends up to its end, in the whole log.
    pub(super) fn end_line(&self) -> u64 {
        self.index.end_line
    }
}

fn write_both(file: &mut File, head: &[u8], bytes: &[u8]) -> std::io::Result<()> {
    let written = file.write_vectored(&[IoSlice::new(head), IoSlice::new(bytes)])?;
    match written.checked_sub(head.len()) {
        Some(of_bytes) => file.write_all(&bytes[of_bytes..]),
        None => file.write_all(&head[written..]).and_then(|()| file.write_all(bytes)),
    }
}

impl Index {
    pub(super) fn length(&self) -> u64 {
        self.pieces.last().map_or(0, |last| last.offset + u64::from(last.length) - self.start)
    }

    /// The number of the piece that holds this byte.
    pub(super) fn at_offset(&self, offset: u64) -> usize {
        self.pieces.partition_point(|piece| piece.offset <= offset).saturating_sub(1)
    }

    /// The number of the piece in which this line begins: the last that has fewer line ends before it, since a line begins
    /// after the end of the one before.
    pub(super) fn at_line(&self, line: u64) -> usize {
        if line <= self.first_line {
            return 0;
        }
        self.pieces.partition_point(|piece| piece.line < line).saturating_sub(1)
    }

    /// The bytes of some pieces, one after the other.
    pub(super) fn read(&self, pieces: std::ops::Range<usize>) -> std::io::Result<Vec<u8>> {
        let chosen = self.pieces.get(pieces).unwrap_or_default();
        let total: u64 = chosen.iter().map(|piece| u64::from(piece.length)).sum();
        let mut bytes = vec![0; usize::try_from(total).unwrap_or(0)];
        let file = File::open(&self.path)?;
        let mut from = 0;
        for piece in chosen {
            let upto = from + piece.length as usize;
            file.read_exact_at(&mut bytes[from..upto], piece.place)?;
            from = upto;
        }
        Ok(bytes)
    }
}
