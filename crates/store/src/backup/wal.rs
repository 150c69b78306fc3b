//! Reads what SQLite has written to its write-ahead log since the last look: whole transactions only. The log's form is
//! described at sqlite.org/fileformat2.html, section 4 ("The Write-Ahead Log"): a header of 32 bytes, then frames, each with
//! a header of 24 bytes and one page. Every frame repeats the header's two salts and goes on with one checksum over all that
//! is before it; a frame that ends a transaction says how many pages the database has. When all of a log has been written
//! back, SQLite begins it anew from the front, with other salts.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

const HEAD: usize = 32;
const FRAME: usize = 24;
/// The first four bytes, but for the last bit: it says whether checksums read numbers as big-endian.
const MAGIC: u32 = 0x377f_0682;

/// How far a log was read.
#[derive(Debug, Default)]
pub(super) struct Wal {
    head: Option<Head>,
    at: u64,
    sums: Sums,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Head {
    bytes: [u8; HEAD],
    page: usize,
    big: bool,
}

type Sums = (u32, u32);

/// What was written since the last look.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Taken {
    /// Where it lies in the log; 0 where the log was begun anew.
    pub(super) at: u64,
    pub(super) bytes: Vec<u8>,
}

impl Wal {
    /// What follows what was read so far, to the end of the last transaction that is whole. None: nothing new.
    pub(super) fn next(&mut self, file: &File) -> io::Result<Option<Taken>> {
        let Some(head) = read_head(file)? else { return Ok(None) };
        let mut bytes = Vec::new();
        if self.head.is_none_or(|known| known != head) {
            let Some(sums) = head.sums() else { return Ok(None) };
            *self = Wal { head: Some(head), at: HEAD as u64, sums };
            bytes.extend(head.bytes);
        }
        let (begin, from) = (bytes.len(), self.at - bytes.len() as u64);
        read_from(file, self.at, &mut bytes)?;
        let (whole, sums) = head.whole(&bytes[begin..], self.sums);
        bytes.truncate(begin + whole);
        (self.at, self.sums) = (self.at + whole as u64, sums);
        Ok(if bytes.is_empty() { None } else { Some(Taken { at: from, bytes }) })
    }

    /// How long the log is as far as it was read.
    pub(super) fn length(&self) -> u64 {
        self.at
    }
}

/// None while there is none, or it is just being written.
fn read_head(file: &File) -> io::Result<Option<Head>> {
    let mut bytes = [0; HEAD];
    match file.read_exact_at(&mut bytes, 0) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    let (magic, page) = (word(&bytes, 0), word(&bytes, 8) as usize);
    let fits = magic & !1 == MAGIC && page.is_power_of_two() && (512..=65_536).contains(&page);
    Ok(fits.then_some(Head { bytes, page, big: magic & 1 == 1 }))
}

fn read_from(file: &File, at: u64, into: &mut Vec<u8>) -> io::Result<()> {
    let there = file.metadata()?.len().saturating_sub(at);
    let begin = into.len();
    into.resize(begin + usize::try_from(there).unwrap_or(0), 0);
    let mut read = begin;
    while read < into.len() {
        match file.read_at(&mut into[read..], at + (read - begin) as u64)? {
            0 => break,
            more => read += more,
        }
    }
    into.truncate(read);
    Ok(())
}

impl Head {
    /// The checksum of the header; none when it is not what the header says.
    fn sums(&self) -> Option<Sums> {
        let sums = self.sum(&self.bytes[..24], (0, 0));
        (sums == (word(&self.bytes, 24), word(&self.bytes, 28))).then_some(sums)
    }

    /// The length of all whole transactions at the front of `frames`, and the checksum at their end.
    fn whole(&self, frames: &[u8], mut sums: Sums) -> (usize, Sums) {
        let length = FRAME + self.page;
        let mut done = (0, sums);
        for (number, frame) in frames.chunks_exact(length).enumerate() {
            let (head, page) = frame.split_at(FRAME);
            if head[8..16] != self.bytes[16..24] {
                break;
            }
            sums = self.sum(page, self.sum(&head[..8], sums));
            if sums != (word(head, 16), word(head, 20)) {
                break;
            }
            let ends = word(head, 4) != 0;
            if ends {
                done = ((number + 1) * length, sums);
            }
        }
        done
    }

    /// The checksum of more bytes, whose number is a multiple of eight.
    fn sum(&self, bytes: &[u8], (mut one, mut two): Sums) -> Sums {
        let number = |four: &[u8]| {
            let four = four.try_into().unwrap_or([0; 4]);
            if self.big { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) }
        };
        for eight in bytes.chunks_exact(8) {
            one = one.wrapping_add(number(&eight[..4])).wrapping_add(two);
            two = two.wrapping_add(number(&eight[4..])).wrapping_add(one);
        }
        (one, two)
    }
}

fn word(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|four| four.try_into().ok()).map_or(0, u32::from_be_bytes)
}

/// How many frames a log of so many bytes has.
pub(super) fn frames(log: &[u8]) -> u64 {
    let page = word(log, 8) as usize;
    (log.len().saturating_sub(HEAD) / (FRAME + page).max(1)) as u64
}
