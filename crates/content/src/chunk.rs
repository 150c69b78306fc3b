//! Names of chunks, and where files are cut.

use fastcdc::v2020::FastCDC;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::ops::Range;
use std::str::FromStr;

/// Smaller pieces find more that is alike and cost more names; measured best for build trees at this size.
pub const AVERAGE_CHUNK: usize = 256 * 1024;
const SMALLEST_CHUNK: usize = 64 * 1024;
/// No chunk is larger.
pub const LARGEST_CHUNK: usize = 1024 * 1024;

/// The BLAKE3 digest of a chunk: 32 bytes, written as 64 hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ChunkId(pub [u8; 32]);

impl ChunkId {
    /// The length of a name in bytes.
    pub const BYTES: usize = 32;

    /// The name of these bytes.
    pub fn of(bytes: &[u8]) -> ChunkId {
        ChunkId(*blake3::hash(bytes).as_bytes())
    }

    /// A list of names as calls send it: one after the other. None where bytes are left over.
    ///
    /// ```
    /// use ordotaxis_content::ChunkId;
    /// let (one, two) = (ChunkId::of(b"one"), ChunkId::of(b"two"));
    /// assert_eq!(ChunkId::list(&[one.0, two.0].concat()), Some(vec![one, two]));
    /// assert_eq!(ChunkId::list(&one.0[1..]), None);
    /// assert_eq!(one.to_string().parse(), Ok(one));
    /// ```
    pub fn list(bytes: &[u8]) -> Option<Vec<ChunkId>> {
        let (names, rest) = bytes.as_chunks::<32>();
        rest.is_empty().then(|| names.iter().map(|name| ChunkId(*name)).collect())
    }
}

impl fmt::Display for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ChunkId({self})")
    }
}

/// A text that does not name a chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a chunk is named by 64 hexadecimal digits")]
pub struct BadChunkId;

impl FromStr for ChunkId {
    type Err = BadChunkId;

    fn from_str(text: &str) -> Result<ChunkId, BadChunkId> {
        let mut id = [0; 32];
        if text.len() != 64 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(BadChunkId);
        }
        for (at, byte) in id.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&text[at * 2..at * 2 + 2], 16).map_err(|_| BadChunkId)?;
        }
        Ok(ChunkId(id))
    }
}

/// Where a file is cut, by what it holds (FastCDC, 2020): what stays the same is cut the same, wherever it has moved to.
/// A small file is one chunk, an empty one has none.
///
/// ```
/// use ordotaxis_content::{LARGEST_CHUNK, cut};
/// let file: Vec<u8> = (0..3_000_000_u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
/// let whole: Vec<_> = cut(&file).collect();
/// assert!(whole.len() > 1 && whole.iter().all(|piece| piece.len() <= LARGEST_CHUNK));
/// let moved = [b"a line before", &file[..]].concat();
/// let kept = cut(&moved).filter(|piece| whole.iter().any(|other| file[other.clone()] == moved[piece.clone()])).count();
/// assert!(kept > 0, "most of what has only moved is cut as before: {kept} of {}", whole.len());
/// assert_eq!(cut(b"").count(), 0);
/// ```
pub fn cut(bytes: &[u8]) -> impl Iterator<Item = Range<usize>> {
    cut_by(bytes, SMALLEST_CHUNK, AVERAGE_CHUNK, LARGEST_CHUNK)
}

/// The same for lists of files: they change in a few places and are small.
pub(crate) fn cut_small(bytes: &[u8]) -> impl Iterator<Item = Range<usize>> {
    cut_by(bytes, 8 * 1024, 32 * 1024, 128 * 1024)
}

fn cut_by(bytes: &[u8], smallest: usize, average: usize, largest: usize) -> impl Iterator<Item = Range<usize>> {
    // Most files are smaller than the least chunk; the cutter's set-up would cost more than looking at them.
    let small = bytes.len() <= smallest;
    let whole = (small && !bytes.is_empty()).then_some(0..bytes.len());
    let cutter = (!small).then(|| FastCDC::new(bytes, smallest, average, largest));
    whole.into_iter().chain(cutter.into_iter().flatten().map(|chunk| chunk.offset..chunk.offset + chunk.length))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    fn noise(length: usize, mut seed: u64) -> Vec<u8> {
        let mut next = || {
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            seed.to_le_bytes()[0]
        };
        (0..length).map(|_| next()).collect()
    }

    #[test]
    fn a_name_reads_back_and_nonsense_does_not() {
        let id = ChunkId::of(b"gauge");
        assert_eq!(id.to_string().parse(), Ok(id));
        for bad in ["", "00", &"g".repeat(64), &"é".repeat(32), &"a".repeat(63)] {
            assert!(bad.parse::<ChunkId>().is_err(), "{bad}");
        }
        assert_eq!(ChunkId::list(&id.0), Some(vec![id]));
        assert_eq!(ChunkId::list(&[1; 33]), None);
    }

    #[test]
    fn pieces_are_whole_in_bounds_and_find_what_moved() {
        let bytes = noise(5_000_000, 7);
        let pieces: Vec<Range<usize>> = cut(&bytes).collect();
        assert_eq!(pieces.iter().flat_map(|piece| bytes[piece.clone()].to_vec()).collect::<Vec<u8>>(), bytes);
        assert!(pieces.iter().all(|piece| piece.len() <= LARGEST_CHUNK));
        let ids = |bytes: &[u8]| cut(bytes).map(|piece| ChunkId::of(&bytes[piece])).collect::<HashSet<_>>();
        let moved = [&b"a few bytes in front"[..], &bytes].concat();
        let (before, after) = (ids(&bytes), ids(&moved));
        assert!(before.intersection(&after).count() + 2 >= before.len());
        assert_eq!(cut(b"").count(), 0);
        assert_eq!(cut(b"x").count(), 1);
    }
}
