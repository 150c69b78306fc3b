//! From files to a tree in the store: files are cut into chunks by what they hold, and what the store lacks is packed and
//! sent. Two threads read, hash and pack side by side; a file that lies unchanged in a layer is not even read.

use crate::archive::ArchiveError;
use crate::beneath::{Beneath, modified};
use crate::client::{CallError, Client, insist_for};
use crate::layers::Layer;
use ordotaxis_content::{ChunkId, Entry, Kind, Packer, Tree, TreeError, cut};
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;

/// Files are worked on in groups of about this much: enough to make whole blocks, little enough to keep in memory.
const GROUP: u64 = 16 * 1024 * 1024;
/// A pack is sent when it has grown to this.
const PACK: usize = 8 * 1024 * 1024;
/// Larger files are read piece by piece.
const LARGE: u64 = 32 * 1024 * 1024;
/// No more threads than this: what they send goes to one store.
const MOST_THREADS: usize = 8;
/// How often a store that cannot take something is asked: its disk may be made room on.
const TRIES: u32 = 5;

/// Why files could not be stored.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SaveError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    #[error(transparent)]
    Tree(#[from] TreeError),
    #[error(transparent)]
    Call(#[from] CallError),
    #[error("{0}")]
    Pack(#[from] ordotaxis_content::PackError),
}

/// What was saved.
pub(crate) struct Saved {
    pub(crate) id: ChunkId,
    pub(crate) tree: Tree,
    pub(crate) files: u64,
    /// Of the files.
    pub(crate) bytes: u64,
    /// What went over the wire.
    pub(crate) sent: u64,
}

/// What is saved, and from where.
pub(crate) struct Source {
    pub(crate) root: Beneath,
    /// Below the root: files, links and folders.
    pub(crate) paths: Vec<PathBuf>,
    /// Whether each file's own digest is wanted.
    pub(crate) digests: bool,
    /// Layers below the folder, uppermost first, and where changes above them are written.
    pub(crate) layers: Vec<Arc<Layer>>,
    pub(crate) upper: Option<PathBuf>,
}

/// Saves files. Blocks; calls go through the runtime that it is called from.
pub(crate) fn save(source: Source, client: &Client, leave: &CancellationToken) -> Result<Saved, SaveError> {
    let runtime = tokio::runtime::Handle::current();
    let sender = Sender { client, leave, runtime, claimed: Mutex::default(), sent: AtomicU64::new(0) };
    let (mut entries, mut open) = unchanged(&source)?;
    sender.claimed().extend(entries.iter().flat_map(Entry::chunks).map(|(id, _)| *id));
    // In order of paths: files that lie together are packed together.
    open.sort_by(|a, b| a.path.cmp(&b.path));
    let groups = groups(open);
    let next = AtomicUsize::new(0);
    let work = || -> Result<Vec<Entry>, SaveError> {
        let (mut entries, mut packer) = (Vec::new(), Packer::new()?);
        while let Some(group) = groups.get(next.fetch_add(1, Ordering::Relaxed)) {
            entries.extend(sender.group(&source, group, &mut packer)?);
        }
        sender.flush(&mut packer)?;
        Ok(entries)
    };
    // One more than there are cores: while one waits for the store the others go on.
    let threads = std::thread::available_parallelism().map_or(2, |cores| cores.get() + 1).min(MOST_THREADS);
    let done = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..threads.min(groups.len())).map(|_| scope.spawn(work)).collect();
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect::<Vec<_>>()
    });
    for part in done {
        entries.extend(part?);
    }
    let tree = Tree::new(entries)?;
    let listing = tree.listing();
    let mut packer = Packer::new()?;
    sender.pack(listing.chunks.iter().map(|(id, bytes)| (*id, bytes.as_slice())), &mut packer)?;
    sender.flush(&mut packer)?;
    let sent = sender.sent.load(Ordering::Relaxed);
    Ok(Saved { id: listing.root, files: tree.files(), bytes: tree.bytes(), sent, tree })
}

/// A file that must be read.
struct Open {
    path: PathBuf,
    size: u64,
}

fn groups(open: Vec<Open>) -> Vec<Vec<Open>> {
    let (mut groups, mut size) = (Vec::new(), GROUP);
    for file in open {
        if size >= GROUP {
            groups.push(Vec::new());
            size = 0;
        }
        size += file.size.max(4096);
        if let Some(group) = groups.last_mut() {
            group.push(file);
        }
    }
    groups
}

/// What need not be read: folders, links, and files that a layer holds and nothing above it changed. And what must be.
fn unchanged(source: &Source) -> Result<(Vec<Entry>, Vec<Open>), SaveError> {
    let mut below: HashMap<&[u8], &Entry> = HashMap::new();
    if source.upper.is_some() {
        for layer in source.layers.iter().rev() {
            below.extend(layer.tree.entries().iter().map(|entry| (entry.path.as_slice(), entry)));
        }
    }
    let above = source.upper.as_deref().map(above).unwrap_or_default();
    let (mut entries, mut open) = (Vec::new(), Vec::new());
    for path in &source.paths {
        let bytes = path.as_os_str().as_bytes();
        if let Some(entry) = below.get(bytes).filter(|entry| matches!(entry.kind, Kind::File { .. }))
            && !above.contains(path)
            && (!source.digests || matches!(entry.kind, Kind::File { sha256: Some(_), .. }))
        {
            entries.push((*entry).clone());
            continue;
        }
        let io = |error| SaveError::Io { path: path.clone(), source: error };
        let meta = source.root.stat(path).map_err(io)?;
        if meta.is_dir() {
            entries.push(Entry { path: bytes.to_vec(), kind: Kind::Folder { mode: meta.permissions().mode() & 0o777 } });
        } else if meta.is_symlink() {
            let target = source.root.link_target(path).map_err(io)?;
            entries.push(Entry { path: bytes.to_vec(), kind: Kind::Link { target } });
        } else if meta.is_file() {
            open.push(Open { path: path.clone(), size: meta.len() });
        }
        // Sockets, pipes and devices are no content.
    }
    Ok((entries, open))
}

/// What lies above the layers: there it is not the layer's that is seen.
fn above(upper: &Path) -> HashSet<PathBuf> {
    let inside = walkdir::WalkDir::new(upper).into_iter().filter_map(Result::ok);
    inside.filter_map(|entry| entry.path().strip_prefix(upper).map(Path::to_owned).ok()).collect()
}

struct Sender<'a> {
    client: &'a Client,
    leave: &'a CancellationToken,
    runtime: tokio::runtime::Handle,
    /// Chunks that are in the store, or that one of the threads has taken on.
    claimed: Mutex<HashSet<ChunkId>>,
    sent: AtomicU64,
}

impl Sender<'_> {
    fn claimed(&self) -> std::sync::MutexGuard<'_, HashSet<ChunkId>> {
        self.claimed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads a group of files and packs what is new of them.
    fn group(&self, source: &Source, group: &[Open], packer: &mut Packer) -> Result<Vec<Entry>, SaveError> {
        let (mut entries, mut pieces): (Vec<Entry>, Vec<(ChunkId, Vec<u8>)>) = (Vec::new(), Vec::new());
        for file in group {
            if file.size > LARGE {
                self.pack(pieces.iter().map(|(id, bytes)| (*id, bytes.as_slice())), packer)?;
                pieces.clear();
                entries.push(self.large(source, file, packer)?);
                continue;
            }
            let io = |error| SaveError::Io { path: file.path.clone(), source: error };
            let mut opened = source.root.file(&file.path).map_err(io)?;
            let mut bytes = Vec::with_capacity(usize::try_from(file.size).unwrap_or(0) + 1);
            // Not past what it was found to have: a job that goes on writing must not fill the memory.
            opened.by_ref().take(LARGE).read_to_end(&mut bytes).map_err(io)?;
            let mut chunks = Vec::new();
            for piece in cut(&bytes) {
                let id = ChunkId::of(&bytes[piece.clone()]);
                chunks.push((id, length(&piece)));
                pieces.push((id, if piece.len() == bytes.len() { Vec::new() } else { bytes[piece].to_vec() }));
            }
            let meta = opened.metadata().map_err(io)?;
            let sha256 = source.digests.then(|| Sha256::digest(&bytes).into());
            let size = bytes.len() as u64;
            if let [only] = chunks.as_slice()
                && let Some(last) = pieces.last_mut()
                && last.0 == only.0
            {
                last.1 = bytes; // not copied where the file is one piece
            }
            entries.push(file_entry(&file.path, &meta, size, sha256, chunks));
        }
        self.pack(pieces.iter().map(|(id, bytes)| (*id, bytes.as_slice())), packer)?;
        Ok(entries)
    }

    /// A file too large to be in memory.
    fn large(&self, source: &Source, file: &Open, packer: &mut Packer) -> Result<Entry, SaveError> {
        let io = |error| SaveError::Io { path: file.path.clone(), source: error };
        let mut opened = source.root.file(&file.path).map_err(io)?;
        let (mut chunks, mut size, mut hash) = (Vec::new(), 0, Sha256::new());
        let mut window = Vec::new();
        loop {
            let wanted = usize::try_from(GROUP).unwrap_or(usize::MAX) - window.len();
            let read = opened.by_ref().take(wanted as u64).read_to_end(&mut window).map_err(io)?;
            let end = read < wanted;
            let mut places: Vec<_> = cut(&window).collect();
            if !end && places.len() > 1 {
                places.pop(); // where the last one ends is not known yet
            }
            let pieces: Vec<(ChunkId, &[u8])> =
                places.iter().map(|place| (ChunkId::of(&window[place.clone()]), &window[place.clone()])).collect();
            let done = places.last().map_or(0, |place| place.end);
            chunks.extend(pieces.iter().map(|(id, bytes)| (*id, length(&(0..bytes.len())))));
            size += done as u64;
            if source.digests {
                hash.update(&window[..done]);
            }
            self.pack(pieces.into_iter(), packer)?;
            window.drain(..done);
            if end {
                break;
            }
        }
        let meta = opened.metadata().map_err(io)?;
        let sha256 = source.digests.then(|| hash.finalize().into());
        Ok(file_entry(&file.path, &meta, size, sha256, chunks))
    }

    /// Packs those of the chunks that the store lacks.
    fn pack<'b>(&self, chunks: impl Iterator<Item = (ChunkId, &'b [u8])>, packer: &mut Packer) -> Result<(), SaveError> {
        let chunks: Vec<(ChunkId, &[u8])> = {
            let mut claimed = self.claimed();
            chunks.filter(|(id, _)| claimed.insert(*id)).collect()
        };
        if chunks.is_empty() {
            return Ok(());
        }
        let ids: Vec<u8> = chunks.iter().flat_map(|(id, _)| id.0).collect();
        let missing = self.call(|| self.client.missing(ids.clone()))?;
        for ((id, bytes), missing) in chunks.into_iter().zip(missing) {
            if missing {
                packer.add(id, bytes)?;
            }
            if packer.length() >= PACK {
                self.flush(packer)?;
            }
        }
        Ok(())
    }

    fn flush(&self, packer: &mut Packer) -> Result<(), SaveError> {
        if packer.is_empty() {
            return Ok(());
        }
        let pack = bytes::Bytes::from(packer.take()?);
        self.sent.fetch_add(pack.len() as u64, Ordering::Relaxed);
        self.call(|| self.client.put_pack(pack.clone()))
    }

    fn call<T, F: Future<Output = Result<T, CallError>>>(&self, call: impl FnMut() -> F) -> Result<T, SaveError> {
        Ok(self.runtime.block_on(insist_for(TRIES, self.leave, call))?)
    }
}

fn length(piece: &std::ops::Range<usize>) -> u32 {
    u32::try_from(piece.len()).unwrap_or(u32::MAX)
}

fn file_entry(path: &Path, meta: &std::fs::Metadata, size: u64, sha256: Option<[u8; 32]>, chunks: Vec<(ChunkId, u32)>) -> Entry {
    let kind = Kind::File { mode: meta.permissions().mode() & 0o777, modified: modified(meta), size, sha256, chunks };
    Entry { path: path.as_os_str().as_bytes().to_vec(), kind }
}
