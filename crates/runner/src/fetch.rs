//! From the store to files: blocks are read as they arrive; two threads open them and check each chunk against its
//! digest, and write it wherever it is wanted.

use crate::beneath::{Beneath, Owner};
use crate::incoming::Incoming;
use crate::layer_error::LayerError;
use ordotaxis_content::{BlockHeader, ChunkId, Entry, HEADER_LIMIT, Kind, MAGIC, PackError, header_length, open_block};
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::fs::File;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};
use tokio::sync::mpsc;

const THREADS: usize = 2;

/// A few chunks, in memory.
#[derive(Debug, Default)]
pub(crate) struct Fetched {
    pub(crate) chunks: HashMap<ChunkId, Vec<u8>>,
    /// As they came over the wire.
    pub(crate) bytes: u64,
}

impl Fetched {
    /// Reads the blocks of an answer; chunks that nobody wanted are dropped.
    pub(crate) async fn read(answer: Incoming, wanted: &HashSet<ChunkId>) -> Result<Fetched, LayerError> {
        let mut blocks = Blocks::new(answer);
        let mut fetched = Fetched::default();
        while let Some((header, body)) = blocks.next().await? {
            let raw = open_block(&header, &body)?;
            for (id, place) in header.places().filter(|(id, _)| wanted.contains(id)) {
                fetched.chunks.insert(id, raw[place].to_vec());
            }
        }
        fetched.bytes = blocks.bytes;
        Ok(fetched)
    }
}

/// Blocks of an answer, one after the other.
struct Blocks {
    answer: Incoming,
    rest: Vec<u8>,
    begun: bool,
    bytes: u64,
}

impl Blocks {
    fn new(answer: Incoming) -> Blocks {
        Blocks { answer, rest: Vec::new(), begun: false, bytes: 0 }
    }

    /// At least so many bytes in `rest`; false at the end.
    async fn fill(&mut self, length: usize) -> Result<bool, LayerError> {
        while self.rest.len() < length {
            let Some(piece) = self.answer.next().await? else { return Ok(false) };
            self.bytes += piece.len() as u64;
            self.rest.extend_from_slice(&piece);
        }
        Ok(true)
    }

    async fn next(&mut self) -> Result<Option<(BlockHeader, Vec<u8>)>, LayerError> {
        if !self.begun {
            if !self.fill(MAGIC.len()).await? || !self.rest.starts_with(MAGIC) {
                return Err(PackError::Magic.into());
            }
            self.rest.drain(..MAGIC.len());
            self.begun = true;
        }
        if !self.fill(BlockHeader::FIXED).await? {
            return if self.rest.is_empty() { Ok(None) } else { Err(PackError::CutOff.into()) };
        }
        let length = header_length(&self.rest)?.min(HEADER_LIMIT);
        if !self.fill(length).await? {
            return Err(PackError::CutOff.into());
        }
        let (header, _) = BlockHeader::read(&self.rest[..length])?;
        let whole = length + header.stored as usize;
        if !self.fill(whole).await? {
            return Err(PackError::CutOff.into());
        }
        let rest = self.rest.split_off(whole);
        let mut block = std::mem::replace(&mut self.rest, rest);
        block.drain(..length);
        Ok(Some((header, block)))
    }
}

/// A file whose chunks have yet to come.
#[derive(Debug)]
struct Waiting {
    /// Open while only some have come.
    file: Option<File>,
    /// Which of its chunks are written.
    done: Vec<bool>,
}

#[derive(Debug)]
struct Target {
    path: PathBuf,
    entry: Entry,
    waiting: Mutex<Waiting>,
}

/// One place of a chunk: the file, the chunk's number in it, and its offset.
#[derive(Debug, Clone, Copy)]
struct Spot {
    file: usize,
    number: usize,
    offset: u64,
}

/// Files to be written, and which chunk goes where.
#[derive(Debug, Default)]
pub(crate) struct Wanted {
    files: Vec<Target>,
    places: HashMap<ChunkId, Vec<Spot>>,
    /// In order of the files.
    ids: Vec<ChunkId>,
    /// Folders get their modes last: one may be shut.
    folders: Vec<(PathBuf, u32)>,
    owner: Option<Owner>,
}

impl Wanted {
    pub(crate) fn of(owner: Option<Owner>) -> Wanted {
        Wanted { owner, ..Wanted::default() }
    }

    /// A folder that is to be there, with its permission bits.
    pub(crate) fn folder(&mut self, path: PathBuf, mode: u32) {
        self.folders.push((path, mode));
    }

    /// A file that is written when all of its chunks have come; an empty one at once.
    pub(crate) fn file(&mut self, path: PathBuf, entry: &Entry) -> Result<(), LayerError> {
        let chunks = entry.chunks();
        if chunks.is_empty() {
            let file = create(&path, entry, self.owner)?;
            return dress(&file, entry).map_err(|source| LayerError::Io { path, source });
        }
        let mut offset = 0;
        for (number, (id, length)) in chunks.iter().enumerate() {
            let spots = self.places.entry(*id).or_default();
            if spots.is_empty() {
                self.ids.push(*id);
            }
            spots.push(Spot { file: self.files.len(), number, offset });
            offset += u64::from(*length);
        }
        let waiting = Mutex::new(Waiting { file: None, done: vec![false; chunks.len()] });
        self.files.push(Target { path, entry: entry.clone(), waiting });
        Ok(())
    }

    /// Every chunk that is wanted, each once, in order of the files.
    pub(crate) fn ids(&self) -> &[ChunkId] {
        &self.ids
    }

    /// Fills every file from one of the same path below `left`, which is emptied by that. False when one is not, to the
    /// last byte, what it should be.
    pub(crate) fn take_from(&self, left: &Beneath) -> Result<bool, LayerError> {
        for target in &self.files {
            let from = Path::new(OsStr::from_bytes(&target.entry.path));
            let Some(seen) = same(left, from, target, self.owner).unwrap_or(None) else { return Ok(false) };
            let failed = |source| LayerError::Io { path: target.path.clone(), source };
            left.move_out(from, &target.path).map_err(failed)?;
            // What was moved must be what was looked at.
            let moved = std::fs::symlink_metadata(&target.path).map_err(failed)?;
            if (moved.dev(), moved.ino()) != (seen.dev(), seen.ino()) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What is left to do when everything has come.
    pub(crate) fn close(&self) -> Result<(), LayerError> {
        for (path, mode) in self.folders.iter().rev() {
            let mode = std::fs::Permissions::from_mode(mode | 0o700);
            std::fs::set_permissions(path, mode).map_err(|source| LayerError::Io { path: path.clone(), source })?;
        }
        Ok(())
    }
}

/// A file that a job left, if it is this one: mode, time and owner as a runner would give it, and every chunk.
fn same(left: &Beneath, path: &Path, target: &Target, owner: Option<Owner>) -> std::io::Result<Option<std::fs::Metadata>> {
    let Kind::File { mode, modified, size, chunks, .. } = &target.entry.kind else { return Ok(None) };
    let mut file = left.file(path)?;
    let meta = file.metadata()?;
    let runner = || Owner { uid: nix::unistd::geteuid().as_raw(), gid: nix::unistd::getegid().as_raw() };
    let Owner { uid: own, gid: group } = owner.unwrap_or_else(runner);
    let dressed = meta.permissions().mode() & 0o7777 == *mode
        && crate::beneath::modified(&meta) == *modified
        && (meta.uid(), meta.gid()) == (own, group);
    if !dressed || meta.len() != *size {
        return Ok(None);
    }
    let mut bytes = Vec::new();
    for (id, length) in chunks {
        bytes.clear();
        file.by_ref().take(u64::from(*length)).read_to_end(&mut bytes)?;
        if ChunkId::of(&bytes) != *id {
            return Ok(None);
        }
    }
    Ok(Some(meta))
}

fn create(path: &Path, entry: &Entry, owner: Option<Owner>) -> Result<File, LayerError> {
    let Kind::File { mode, .. } = entry.kind else { return Err(LayerError::Short) };
    let failed = |source| LayerError::Io { path: path.to_owned(), source };
    let file = File::options().write(true).create(true).truncate(false).mode(mode | 0o600).open(path).map_err(failed)?;
    if let Some(Owner { uid, gid }) = owner {
        std::os::unix::fs::fchown(&file, Some(uid), Some(gid)).map_err(failed)?;
    }
    Ok(file)
}

/// Gives a file its mode and time.
pub(crate) fn dress(file: &File, entry: &Entry) -> std::io::Result<()> {
    let Kind::File { mode, modified, .. } = entry.kind else { return Ok(()) };
    if file.metadata()?.permissions().mode() & 0o777 != mode {
        file.set_permissions(std::fs::Permissions::from_mode(mode))?;
    }
    let since = Duration::from_nanos(modified.unsigned_abs());
    let time = if modified >= 0 { SystemTime::UNIX_EPOCH.checked_add(since) } else { SystemTime::UNIX_EPOCH.checked_sub(since) };
    match time {
        Some(time) => file.set_modified(time),
        None => Ok(()),
    }
}

/// Writes all files from an answer's blocks. Gives the bytes that came, or what was still wanted when it broke off.
pub(crate) async fn write_files(answer: Incoming, wanted: Wanted) -> (Result<u64, LayerError>, Wanted) {
    let wanted = Arc::new(wanted);
    let (sender, receiver) = mpsc::channel::<(BlockHeader, Vec<u8>)>(8);
    let receiver = Arc::new(Mutex::new(receiver));
    let workers: Vec<_> = (0..THREADS)
        .map(|_| {
            let (receiver, wanted) = (receiver.clone(), wanted.clone());
            tokio::task::spawn_blocking(move || {
                loop {
                    let block = receiver.lock().unwrap_or_else(PoisonError::into_inner).blocking_recv();
                    match block {
                        Some((header, body)) => wanted.write(&header, &body)?,
                        None => return Ok::<(), LayerError>(()),
                    }
                }
            })
        })
        .collect();
    let mut blocks = Blocks::new(answer);
    let mut read = Ok(());
    loop {
        match blocks.next().await {
            Ok(Some(block)) => {
                // A closed channel means that a worker found something wrong; it says what.
                if sender.send(block).await.is_err() {
                    break;
                }
            }
            Ok(None) => break,
            Err(error) => {
                read = Err(error);
                break;
            }
        }
    }
    drop(sender);
    drop(receiver);
    for worker in workers {
        let done = worker.await.unwrap_or(Err(LayerError::Short));
        read = read.and(done);
    }
    let bytes = blocks.bytes;
    let done = read.and_then(|()| if wanted.is_done() { wanted.close().map(|()| bytes) } else { Err(LayerError::Short) });
    (done, Arc::try_unwrap(wanted).unwrap_or_default())
}

impl Wanted {
    fn is_done(&self) -> bool {
        let done = |file: &Target| file.waiting.lock().unwrap_or_else(PoisonError::into_inner).done.iter().all(|done| *done);
        self.files.iter().all(done)
    }

    fn write(&self, header: &BlockHeader, body: &[u8]) -> Result<(), LayerError> {
        let raw = open_block(header, body)?;
        for (id, place) in header.places() {
            for spot in self.places.get(&id).map(Vec::as_slice).unwrap_or_default() {
                let target = &self.files[spot.file];
                target.chunk(spot, &raw[place.clone()], self.owner)?;
            }
        }
        Ok(())
    }
}

impl Target {
    fn chunk(&self, spot: &Spot, bytes: &[u8], owner: Option<Owner>) -> Result<(), LayerError> {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        // A fetch that broke off brings some chunks twice.
        if std::mem::replace(&mut waiting.done[spot.number], true) {
            return Ok(());
        }
        let file = match waiting.file.take() {
            Some(file) => file,
            None => create(&self.path, &self.entry, owner)?,
        };
        let failed = |source| LayerError::Io { path: self.path.clone(), source };
        file.write_all_at(bytes, spot.offset).map_err(failed)?;
        if waiting.done.iter().all(|done| *done) {
            return dress(&file, &self.entry).map_err(failed);
        }
        waiting.file = Some(file);
        Ok(())
    }
}
