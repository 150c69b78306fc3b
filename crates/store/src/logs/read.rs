//! Reading a log: by bytes, by lines, or by what is in it.

use super::piece::line_ends;
use super::{Log, Logs, Segment, lock};
use crate::log_id::LogId;
use regex::bytes::Regex;
use std::borrow::Cow;

/// Some lines of a log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lines {
    /// The number of the first, counted from 0.
    pub first: u64,
    /// Offset of the first one's first byte.
    pub offset: u64,
    /// With line ends; the last may have none.
    pub bytes: Vec<u8>,
    /// When each was printed, in milliseconds since 1970.
    pub times: Vec<i64>,
    /// How many lines there are; the last may still grow.
    pub total: u64,
}

/// A line that was searched for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Counted from 0.
    pub line: u64,
    pub offset: u64,
    pub at: i64,
    /// Without its line end.
    pub text: Vec<u8>,
}

/// The result of a search.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Searched {
    pub found: Vec<Found>,
    /// There may be more from this line on.
    pub more_from: Option<u64>,
}

/// A stretch of a log that is read at once: offset, lines before it, bytes.
struct Stretch {
    offset: u64,
    line: u64,
    bytes: Vec<u8>,
}

/// A longer line is searched and shown up to here.
const LONGEST_LINE: usize = 64 * 1024;

impl Log {
    /// The segment in which a line begins.
    fn segment_at_line(&self, line: u64) -> usize {
        self.segments.partition_point(|segment| segment.first_line() < line).saturating_sub(1)
    }

    fn segment_at(&self, offset: u64) -> usize {
        self.segments.partition_point(|segment| segment.start() <= offset).saturating_sub(1)
    }

    /// The stretch number `part` of a segment: a piece or a block.
    fn stretch(&self, segment: usize, part: usize) -> std::io::Result<Option<Stretch>> {
        match self.segments.get(segment) {
            None => Ok(None),
            Some(Segment::Growing(growing)) => {
                let index = growing.view();
                let Some(first) = index.pieces.get(part) else { return Ok(None) };
                Ok(Some(Stretch { offset: first.offset, line: first.line, bytes: index.read(part..part + 1)? }))
            }
            Some(Segment::Closed(closed)) => {
                let Some(block) = closed.table.blocks.get(part) else { return Ok(None) };
                Ok(Some(Stretch { offset: block.offset, line: block.line, bytes: closed.read(part)? }))
            }
        }
    }

    /// All stretches from one on.
    fn stretches(&self, segment: usize, part: usize) -> impl Iterator<Item = std::io::Result<Stretch>> {
        let (mut segment, mut part) = (segment, part);
        std::iter::from_fn(move || {
            loop {
                match self.stretch(segment, part).transpose() {
                    Some(stretch) => {
                        part += 1;
                        return Some(stretch);
                    }
                    None if segment + 1 < self.segments.len() => (segment, part) = (segment + 1, 0),
                    None => return None,
                }
            }
        })
    }

    fn place_of_offset(&self, offset: u64) -> (usize, usize) {
        let segment = self.segment_at(offset);
        let part = self.segments.get(segment).map_or(0, |known| match known {
            Segment::Growing(growing) => growing.view().at_offset(offset),
            Segment::Closed(closed) => closed.table.at_offset(offset),
        });
        (segment, part)
    }

    fn place_of_line(&self, line: u64) -> (usize, usize) {
        let segment = self.segment_at_line(line);
        let part = self.segments.get(segment).map_or(0, |known| match known {
            Segment::Growing(growing) => growing.view().at_line(line),
            Segment::Closed(closed) => closed.table.at_line(line),
        });
        (segment, part)
    }

    fn time_at(&self, offset: u64) -> i64 {
        match self.segments.get(self.segment_at(offset)) {
            None => 0,
            Some(Segment::Growing(growing)) => {
                let index = growing.view();
                index.pieces.get(index.at_offset(offset)).map_or(0, |piece| piece.at)
            }
            Some(Segment::Closed(closed)) => closed.table.time_at(offset),
        }
    }

    /// Lines, the last one counted though it may have no end yet.
    fn total(&self) -> u64 {
        let open = self.length() > 0 && !self.ends_with_line_end();
        self.lines() + u64::from(open)
    }

    fn ends_with_line_end(&self) -> bool {
        let (segment, part) = self.place_of_offset(self.length().saturating_sub(1));
        self.stretch(segment, part).ok().flatten().is_some_and(|stretch| stretch.bytes.last() == Some(&b'\n'))
    }
}

impl Logs {
    /// Up to `limit` bytes from `offset`, and the log's length. A log that does not exist yet is empty.
    pub fn read(&self, id: &LogId, offset: u64, limit: u64) -> std::io::Result<(Vec<u8>, u64)> {
        let log = self.log(id)?;
        let log = lock(&log);
        let length = log.length();
        let mut bytes = Vec::new();
        let limit = usize::try_from(limit.min(length.saturating_sub(offset))).unwrap_or(usize::MAX);
        if limit == 0 {
            return Ok((bytes, length));
        }
        let (segment, part) = log.place_of_offset(offset);
        for stretch in log.stretches(segment, part) {
            let stretch = stretch?;
            let skip = usize::try_from(offset.saturating_sub(stretch.offset)).unwrap_or(usize::MAX);
            bytes.extend_from_slice(stretch.bytes.get(skip..).unwrap_or_default());
            if bytes.len() >= limit {
                bytes.truncate(limit);
                break;
            }
        }
        Ok((bytes, length))
    }

    /// Up to `count` lines from one on.
    pub fn lines(&self, id: &LogId, first: u64, count: u64) -> std::io::Result<Lines> {
        self.lines_within(id, first, count, usize::MAX)
    }

    /// The same; once there are so many bytes, no more is read. Then the last line may be cut.
    pub fn lines_within(&self, id: &LogId, first: u64, count: u64, most: usize) -> std::io::Result<Lines> {
        let log = self.log(id)?;
        let log = lock(&log);
        let mut lines = Lines { first, offset: log.length(), bytes: Vec::new(), times: Vec::new(), total: log.total() };
        if first >= lines.total || count == 0 {
            return Ok(lines);
        }
        let (segment, part) = log.place_of_line(first);
        let mut begun = false;
        let mut starts: Vec<u64> = Vec::new();
        'all: for stretch in log.stretches(segment, part) {
            let stretch = stretch?;
            let skip = if begun { Some(0) } else { start_of(&stretch, first) };
            let Some(skip) = skip else { continue };
            if !begun {
                begun = true;
                lines.offset = stretch.offset + skip as u64;
                starts.push(lines.offset);
            }
            let mut from = skip;
            for end in memchr::memchr_iter(b'\n', &stretch.bytes[skip..]).map(|at| skip + at + 1) {
                lines.bytes.extend_from_slice(&stretch.bytes[from..end]);
                from = end;
                if starts.len() as u64 == count {
                    break 'all;
                }
                starts.push(stretch.offset + end as u64);
            }
            lines.bytes.extend_from_slice(&stretch.bytes[from..]);
            if lines.bytes.len() >= most {
                // A line that begins where reading stopped is not among these.
                starts.retain(|start| *start < lines.offset + lines.bytes.len() as u64);
                break;
            }
        }
        // What begins at the very end is no line yet.
        starts.retain(|start| *start < log.length());
        lines.times = starts.iter().map(|start| log.time_at(*start)).collect();
        Ok(lines)
    }

    /// The line that a byte is in.
    pub fn line_of(&self, id: &LogId, offset: u64) -> std::io::Result<u64> {
        let log = self.log(id)?;
        let log = lock(&log);
        let (segment, part) = log.place_of_offset(offset);
        let Some(stretch) = log.stretch(segment, part)? else { return Ok(0) };
        let within = usize::try_from(offset.saturating_sub(stretch.offset)).unwrap_or(usize::MAX).min(stretch.bytes.len());
        Ok(stretch.line + line_ends(&stretch.bytes[..within]))
    }

    /// Lines from one on in which the pattern is found, colours left out, at most `most`. Blocking; a long log is read whole.
    pub fn search(&self, id: &LogId, pattern: &Regex, first: u64, most: usize) -> std::io::Result<Searched> {
        let log = self.log(id)?;
        let log = lock(&log);
        let mut searched = Searched::default();
        let (segment, part) = log.place_of_line(first);
        // The beginning of a line whose end is in the next stretch.
        let mut open: Vec<u8> = Vec::new();
        let mut line = None;
        let mut look = |number: u64, offset: u64, text: &[u8]| {
            let text = text.strip_suffix(b"\n").unwrap_or(text);
            let text = &text[..text.len().min(LONGEST_LINE)];
            if number < first || !pattern.is_match(&shown(text)) {
                return false;
            }
            if searched.found.len() == most {
                searched.more_from = Some(number);
                return true;
            }
            searched.found.push(Found { line: number, offset, at: log.time_at(offset), text: text.to_vec() });
            false
        };
        for stretch in log.stretches(segment, part) {
            let stretch = stretch?;
            let mut number = *line.get_or_insert(stretch.line);
            let mut from = 0;
            for end in memchr::memchr_iter(b'\n', &stretch.bytes).map(|at| at + 1) {
                let done = if open.is_empty() {
                    look(number, stretch.offset + from as u64, &stretch.bytes[from..end])
                } else {
                    let before = open.len() as u64;
                    open.extend_from_slice(&stretch.bytes[from..end]);
                    let done = look(number, stretch.offset + from as u64 - before, &open);
                    open.clear();
                    done
                };
                if done {
                    return Ok(searched);
                }
                number += 1;
                from = end;
            }
            open.extend_from_slice(&stretch.bytes[from..]);
            open.truncate(16 * LONGEST_LINE);
            line = Some(number);
        }
        if let Some(number) = line.filter(|_| !open.is_empty()) {
            look(number, log.length() - open.len() as u64, &open);
        }
        Ok(searched)
    }
}

/// A line as a terminal shows it: a word is found also where colours begin or end within it.
fn shown(line: &[u8]) -> Cow<'_, [u8]> {
    if !line.contains(&0x1b) {
        return Cow::Borrowed(line);
    }
    Cow::Owned(anstream::adapter::strip_bytes(line).into_vec())
}

/// Where in a stretch a line begins; None when it begins in a later one.
fn start_of(stretch: &Stretch, line: u64) -> Option<usize> {
    if line <= stretch.line {
        return Some(0);
    }
    let ends = usize::try_from(line - stretch.line).ok()?;
    memchr::memchr_iter(b'\n', &stretch.bytes).nth(ends - 1).map(|at| at + 1).filter(|start| *start < stretch.bytes.len())
}
