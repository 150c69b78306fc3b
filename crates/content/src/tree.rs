//! Trees: which files there are, and of which chunks each is made.
//!
//! Stored as a list of entries in order of their paths (postcard), which is itself cut into chunks, so that of a large
//! tree in which little changed only little of the list is new. The **root** names the list's chunks and sums it up; its
//! own name stands for the whole tree. A tree keeps modes and times; its *content* digest leaves times out, so that the
//! same files have the same digest whenever they were made.

use crate::chunk::{ChunkId, cut_small};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::HashSet;

const LIST_MAGIC: &[u8; 8] = b"ordtree1";
const ROOT_MAGIC: &[u8; 8] = b"ordroot1";
/// The longest list of files that is read: about three million files.
const LIST_LIMIT: u64 = 512 * 1024 * 1024;

/// Why bytes are not a list of files that may be put into a folder.
#[derive(Debug, thiserror::Error)]
pub enum TreeError {
    #[error("the list of files cannot be read, or was made by a newer version")]
    Form,
    #[error("the path `{0}` leads outside, or is not one")]
    Path(String),
    #[error("`{0}` is in the list twice, or out of order")]
    Order(String),
    #[error("`{0}` lies below something that is not a folder")]
    NoFolder(String),
    #[error("the link `{0}` leads nowhere: its target is not one")]
    Link(String),
    #[error("`{0}` is not as long as its chunks")]
    Size(String),
    #[error("the list of files does not fit what is said of it")]
    Sum,
}

/// One path of a tree.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Relative, parts joined by `/`; bytes, since not every file name is UTF-8.
    pub path: Vec<u8>,
    pub kind: Kind,
}

/// What lies at a path. Owners are not kept: files belong to whoever restores them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Kind {
    File {
        /// Permission bits.
        mode: u32,
        /// Nanoseconds since 1970.
        modified: i64,
        /// In bytes.
        size: u64,
        /// Of the whole file, where someone may ask for it.
        sha256: Option<[u8; 32]>,
        /// In order, each with its length.
        chunks: Vec<(ChunkId, u32)>,
    },
    Link {
        /// Bytes, as the system has them; nothing here follows it.
        target: Vec<u8>,
    },
    Folder {
        mode: u32,
    },
}

impl Entry {
    /// The path for a person; what is not UTF-8 is replaced.
    pub fn name(&self) -> String {
        String::from_utf8_lossy(&self.path).into_owned()
    }

    /// A file's chunks with their lengths; others have none.
    pub fn chunks(&self) -> &[(ChunkId, u32)] {
        if let Kind::File { chunks, .. } = &self.kind { chunks } else { &[] }
    }

    /// Names the contents and kind, not the place and time: entries alike in this can share one file on disk.
    pub fn likeness(&self) -> [u8; 32] {
        let mut hash = blake3::Hasher::new();
        self.hash_kind(&mut hash);
        *hash.finalize().as_bytes()
    }

    fn hash_kind(&self, hash: &mut blake3::Hasher) {
        match &self.kind {
            Kind::File { mode, size, chunks, .. } => {
                hash.update(b"f").update(&mode.to_le_bytes()).update(&size.to_le_bytes());
                for (chunk, _) in chunks {
                    hash.update(&chunk.0);
                }
            }
            Kind::Link { target } => {
                hash.update(b"l").update(target);
            }
            Kind::Folder { mode } => {
                hash.update(b"d").update(&mode.to_le_bytes());
            }
        }
    }
}

/// Files in order of their paths, found to stay within their folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tree {
    entries: Vec<Entry>,
}

/// What stands for a tree: the chunks of its list, and its sums.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Root {
    pub files: u64,
    /// Of all files together.
    pub bytes: u64,
    pub content: [u8; 32],
    pub list: Vec<(ChunkId, u32)>,
}

/// A tree's chunks: the list's, and last the root's, whose name is the tree's.
#[derive(Debug, Clone)]
pub struct Listing {
    pub root: ChunkId,
    pub chunks: Vec<(ChunkId, Vec<u8>)>,
}

impl Tree {
    /// Puts entries in order and looks at each.
    ///
    /// ```
    /// use ordotaxis_content::{Entry, Kind, Tree};
    /// let folder = |path: &str| Entry { path: path.into(), kind: Kind::Folder { mode: 0o755 } };
    /// let tree = Tree::new(vec![folder("out/bin"), folder("out")]).expect("a tree");
    /// assert_eq!(tree.entries()[0].name(), "out", "in the order of paths");
    /// for outside in ["../out", "/etc", "out/./bin", ""] {
    ///     assert!(Tree::new(vec![folder(outside)]).is_err(), "{outside}");
    /// }
    /// ```
    pub fn new(mut entries: Vec<Entry>) -> Result<Tree, TreeError> {
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        Tree::checked(entries)
    }

    fn checked(entries: Vec<Entry>) -> Result<Tree, TreeError> {
        let mut others: HashSet<&[u8]> = HashSet::new();
        let (mut before, mut looked_at): (Option<&[u8]>, &[u8]) = (None, &[]);
        for entry in &entries {
            if !is_inside(&entry.path) {
                return Err(TreeError::Path(entry.name()));
            }
            if before.is_some_and(|before| before >= entry.path.as_slice()) {
                return Err(TreeError::Order(entry.name()));
            }
            before = Some(&entry.path);
            let folder = entry.path.iter().rposition(|byte| *byte == b'/').map_or(&[][..], |at| &entry.path[..at]);
            // Byte order puts a folder before all that lies in it; what lies in the same as the last was looked at with it.
            if folder != looked_at {
                let mut above = folder.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| &folder[..at]);
                if others.contains(folder) || above.any(|folder| others.contains(folder)) {
                    return Err(TreeError::NoFolder(entry.name()));
                }
                looked_at = folder;
            }
            match &entry.kind {
                Kind::Folder { .. } => continue,
                Kind::Link { target } if target.is_empty() || target.contains(&0) => return Err(TreeError::Link(entry.name())),
                Kind::File { size, chunks, .. } if chunks.iter().map(|(_, length)| u64::from(*length)).sum::<u64>() != *size => {
                    return Err(TreeError::Size(entry.name()));
                }
                _ => {}
            }
            others.insert(&entry.path);
        }
        Ok(Tree { entries })
    }

    /// All paths in ascending order of their bytes, each once.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// Every chunk of every file, in order of paths; some come more than once.
    pub fn chunks(&self) -> impl Iterator<Item = ChunkId> + '_ {
        self.entries.iter().flat_map(Entry::chunks).map(|(id, _)| *id)
    }

    /// Files and links, folders left out.
    pub fn files(&self) -> u64 {
        self.entries.iter().filter(|entry| !matches!(entry.kind, Kind::Folder { .. })).count() as u64
    }

    /// The lengths of all files together.
    pub fn bytes(&self) -> u64 {
        let size = |entry: &Entry| if let Kind::File { size, .. } = entry.kind { size } else { 0 };
        self.entries.iter().map(size).fold(0, u64::saturating_add)
    }

    /// Names paths, kinds, modes and contents, but no times.
    pub fn content(&self) -> [u8; 32] {
        let mut hash = blake3::Hasher::new();
        for entry in &self.entries {
            hash.update(&(entry.path.len() as u64).to_le_bytes()).update(&entry.path);
            hash.update(&entry.likeness());
        }
        *hash.finalize().as_bytes()
    }

    /// `sha256:…` of what `sha256sum` prints for the files in order of their paths; a link's line has `link ` and its target
    /// in place of the digest. None where files have no digest of their own.
    pub fn digest(&self) -> Option<String> {
        let mut hash = Sha256::new();
        for entry in &self.entries {
            match &entry.kind {
                Kind::File { sha256, .. } => hash.update(hex(&(*sha256)?)),
                Kind::Link { target } => {
                    hash.update(b"link ");
                    hash.update(target);
                }
                Kind::Folder { .. } => continue,
            }
            hash.update(b"  ");
            hash.update(&entry.path);
            hash.update(b"\n");
        }
        Some(digest_text(&hash.finalize().into()))
    }

    /// The chunks that the tree itself is stored in.
    pub fn listing(&self) -> Listing {
        let list = [&LIST_MAGIC[..], &postcard::to_stdvec(&self.entries).unwrap_or_default()].concat();
        let mut chunks: Vec<(ChunkId, Vec<u8>)> =
            cut_small(&list).map(|piece| (ChunkId::of(&list[piece.clone()]), list[piece].to_vec())).collect();
        let lengths = chunks.iter().map(|(id, bytes)| (*id, u32::try_from(bytes.len()).unwrap_or(u32::MAX)));
        let root = Root { files: self.files(), bytes: self.bytes(), content: self.content(), list: lengths.collect() };
        let bytes = [&ROOT_MAGIC[..], &postcard::to_stdvec(&root).unwrap_or_default()].concat();
        let root = ChunkId::of(&bytes);
        chunks.push((root, bytes));
        Listing { root, chunks }
    }

    /// A tree from its root and the bytes of its list.
    pub fn read(root: &Root, list: &[u8]) -> Result<Tree, TreeError> {
        let entries = list.strip_prefix(LIST_MAGIC).and_then(|list| postcard::from_bytes(list).ok()).ok_or(TreeError::Form)?;
        let tree = Tree::checked(entries)?;
        let fits = tree.files() == root.files && tree.bytes() == root.bytes && tree.content() == root.content;
        if fits { Ok(tree) } else { Err(TreeError::Sum) }
    }
}

impl Root {
    pub fn read(bytes: &[u8]) -> Result<Root, TreeError> {
        let root: Root = bytes.strip_prefix(ROOT_MAGIC).and_then(|root| postcard::from_bytes(root).ok()).ok_or(TreeError::Form)?;
        let length: u64 = root.list.iter().map(|(_, size)| u64::from(*size)).sum();
        if length > LIST_LIMIT { Err(TreeError::Form) } else { Ok(root) }
    }
}

fn is_inside(path: &[u8]) -> bool {
    let plain = |part: &[u8]| !part.is_empty() && part != b"." && part != b"..";
    !path.contains(&0) && path.len() < 4096 && path.split(|byte| *byte == b'/').all(plain)
}

/// Whether a link at this path leads out of the tree it is in. Such a link is kept like any other, and followed by nobody here.
///
/// ```
/// use ordotaxis_content::leads_outside;
/// assert!(!leads_outside(b"out/latest", b"../bin/gauge"));
/// assert!(leads_outside(b"out/latest", b"../../etc/passwd"));
/// assert!(leads_outside(b"out/latest", b"/etc/passwd"));
/// ```
pub fn leads_outside(path: &[u8], target: &[u8]) -> bool {
    if target.first() == Some(&b'/') {
        return true;
    }
    let mut depth = path.iter().filter(|byte| **byte == b'/').count();
    target.split(|byte| *byte == b'/').any(|part| {
        match part {
            b"" | b"." => {}
            b".." if depth == 0 => return true,
            b".." => depth -= 1,
            _ => depth += 1,
        }
        false
    })
}

/// `sha256:` and 64 hexadecimal digits.
pub fn digest_text(digest: &[u8; 32]) -> String {
    format!("sha256:{}", hex(digest))
}

/// Two hexadecimal digits a byte.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn file(path: &str, text: &str, modified: i64) -> Entry {
        let chunks = if text.is_empty() { vec![] } else { vec![(ChunkId::of(text.as_bytes()), u32::try_from(text.len()).unwrap())] };
        let sha256 = Some(Sha256::digest(text).into());
        Entry { path: path.into(), kind: Kind::File { mode: 0o644, modified, size: text.len() as u64, sha256, chunks } }
    }

    fn link(path: &str, target: &str) -> Entry {
        Entry { path: path.into(), kind: Kind::Link { target: target.into() } }
    }

    fn again(tree: &Tree) -> Result<Tree, TreeError> {
        let listing = tree.listing();
        let (id, bytes) = listing.chunks.last().unwrap();
        assert_eq!(*id, listing.root);
        let list: Vec<u8> = listing.chunks[..listing.chunks.len() - 1].iter().flat_map(|(_, bytes)| bytes.clone()).collect();
        Tree::read(&Root::read(bytes)?, &list)
    }

    #[test]
    fn a_tree_comes_back_and_times_change_only_its_name() {
        let tree = |time| {
            Tree::new(vec![file("out/b", "two", time), link("out/l", "../src"), file("out/a", "", time), file("src", "s", time)]).unwrap()
        };
        let (early, late) = (tree(1), tree(2));
        assert_eq!(again(&early).unwrap(), early);
        assert_eq!(early.content(), late.content());
        assert_eq!(early.digest(), late.digest());
        assert_ne!(early.listing().root, late.listing().root);
        assert_eq!((early.files(), early.bytes()), (4, 4));
    }

    /// What the guide says: anyone can make the digest with a standard tool.
    #[test]
    fn the_digest_is_that_of_what_sha256sum_prints() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("out")).unwrap();
        std::fs::write(folder.path().join("out/a"), "one").unwrap();
        std::fs::write(folder.path().join("b"), "two").unwrap();
        let command = "find * -type f | LC_ALL=C sort | xargs sha256sum | sha256sum";
        let output = std::process::Command::new("sh").args(["-c", command]).current_dir(folder.path()).output().unwrap();
        let printed = String::from_utf8(output.stdout).unwrap();
        let tree = Tree::new(vec![file("b", "two", 0), file("out/a", "one", 0)]).unwrap();
        assert_eq!(tree.digest().unwrap(), format!("sha256:{}", printed.split_whitespace().next().unwrap()));
    }

    #[test]
    fn trees_that_lie_are_refused() {
        let name = |entries: Vec<Entry>| Tree::new(entries).map(drop).unwrap_err().to_string();
        for path in ["../up", "/root", "a//b", "a/./b", "a/..", "", "nul\0"] {
            assert!(name(vec![file(path, "x", 0)]).contains("leads outside"), "{path}");
        }
        assert!(name(vec![file("a", "x", 0), file("a", "y", 0)]).contains("twice"));
        assert!(name(vec![link("a", "b"), file("a/b", "x", 0)]).contains("below something"));
        assert!(name(vec![link("a", "b"), file("a.c", "", 0), file("a/b/c", "x", 0)]).contains("below something"));
        for target in ["", "nul\0"] {
            assert!(name(vec![link("d", target)]).contains("link"), "{target}");
        }
        // Where a link leads is its own affair: a Python environment's leads to the system's interpreter.
        for (target, outside) in
            [("/etc/passwd", true), ("..", false), ("../../x", true), ("b/../../../c", true), ("b/../../c", false), ("./b", false)]
        {
            assert!(Tree::new(vec![link("deep/l", target)]).is_ok());
            assert_eq!(leads_outside(b"deep/l", target.as_bytes()), outside, "{target}");
        }
        let mut empty = file("a", "x", 0);
        if let Kind::File { chunks, .. } = &mut empty.kind {
            chunks.clear();
        }
        assert!(name(vec![empty]).contains("as long as"));
        let tree = Tree::new(vec![file("a", "x", 0)]).unwrap();
        let listing = tree.listing();
        let mut root = Root::read(&listing.chunks.last().unwrap().1).unwrap();
        root.bytes = 7;
        assert!(matches!(Tree::read(&root, &listing.chunks[0].1), Err(TreeError::Sum)));
    }

    proptest! {
        /// No bytes make a list or a root that panics or that holds what was never checked.
        #[test]
        fn nonsense_is_refused(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = Root::read(&[&ROOT_MAGIC[..], &bytes].concat());
            let root = Root { files: 1, bytes: 1, content: [0; 32], list: vec![] };
            prop_assert!(Tree::read(&root, &[&LIST_MAGIC[..], &bytes].concat()).is_err());
        }
    }
}
