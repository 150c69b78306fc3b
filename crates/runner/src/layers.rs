//! The runner's own store: trees that jobs took or restored, unpacked once, to lie below the folders of any number of jobs.
//!
//! A layer is never written again: jobs see it through an overlay, or get a copy where mounts are not allowed. A new layer
//! is made of what is already here where it can be: whole when only a little differs (it then holds just that, and lies
//! over the other), file by file (hard links, since none is ever written), chunk by chunk, and the rest is fetched.

use crate::beneath::{Beneath, Owner};
use crate::client::{Client, insist_for};
use crate::fetch::{Fetched, Wanted, write_files};
use crate::layer_error::{LayerError, io};
use ordotaxis_content::{ChunkId, Entry, Kind, Root, Tree, TreeError};
use ordotaxis_wire::runner::AttemptId;
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;

/// How many layers are kept while no job uses them.
const KEPT: usize = 24;
/// How many of them are looked at for what a new one could be made of.
const LOOKED_AT: usize = 6;
/// A layer lies over another when at least this share of its files is the same, in percent.
const ALIKE: usize = 70;
/// How often a store that cannot give something is asked.
const TRIES: u32 = 5;

/// An unpacked tree.
#[derive(Debug)]
pub(crate) struct Layer {
    pub(crate) tree: Tree,
    /// Its files.
    folder: PathBuf,
    /// What lies below them, when it holds only what differs.
    base: Option<Arc<Layer>>,
    /// Paths that it holds itself; all of them without a base.
    own: Option<HashSet<Vec<u8>>>,
}

impl Layer {
    /// Its folders, uppermost first.
    pub(crate) fn folders(&self) -> Vec<&Path> {
        let base = self.base.iter().map(|base| base.folder.as_path());
        std::iter::once(self.folder.as_path()).chain(base).collect()
    }

    /// Copies it into a folder that a job may have filled with links: they are never followed, and one where a folder or file
    /// of the layer belongs gives way. Blocks are shared where the file system can.
    pub(crate) fn copy_into(&self, into: &Beneath, owner: Option<Owner>) -> Result<(), LayerError> {
        let mut made = HashSet::new();
        let mut folders = Vec::new();
        for entry in self.tree.entries() {
            let path = Path::new(OsStr::from_bytes(&entry.path));
            let above = path.parent().filter(|above| !above.as_os_str().is_empty());
            if let Some(above) = above.filter(|above| made.insert(above.to_path_buf())) {
                into.lay_folder(above, owner).map_err(io(path))?;
            }
            match &entry.kind {
                Kind::Folder { mode } => {
                    folders.push((into.lay_folder(path, owner).map_err(io(path))?, *mode));
                    // Only so many may be open at once; a shut one is shut after all.
                    if folders.len() > 64 {
                        folders.drain(..32).try_for_each(|(folder, mode)| shut(&folder, mode)).map_err(io(path))?;
                    }
                }
                Kind::Link { target } => into.create_link(path, OsStr::from_bytes(target), owner).map_err(io(path))?,
                Kind::File { mode, .. } => {
                    let mut file = into.create(path, mode | 0o600, owner).map_err(io(path))?;
                    let mut from = std::fs::File::open(self.place(&entry.path)).map_err(io(path))?;
                    std::io::copy(&mut from, &mut file).map_err(io(path))?;
                    crate::fetch::dress(&file, entry).map_err(io(path))?;
                }
            }
        }
        folders.into_iter().try_for_each(|(folder, mode)| shut(&folder, mode)).map_err(io(Path::new(".")))
    }

    /// Where a file of it lies.
    fn place(&self, path: &[u8]) -> PathBuf {
        let holder = match (&self.own, &self.base) {
            (Some(own), Some(base)) if !own.contains(path) => base,
            _ => return self.folder.join(OsStr::from_bytes(path)),
        };
        holder.folder.join(OsStr::from_bytes(path))
    }
}

/// What bringing a tree here took.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Brought {
    /// Over the wire.
    pub(crate) fetched: u64,
}

/// Trees that were fetched, each as a folder that many jobs read at the same time and none writes.
pub(crate) struct Layers {
    folder: PathBuf,
    /// Whether layers may lie over each other: overlays work, and so does the mark for what is not there.
    thin: bool,
    /// Whom the files belong to.
    owner: Option<Owner>,
    known: Mutex<Vec<(ChunkId, Arc<Layer>)>>,
}

/// Where layers come from, and for which attempt: it is given what its job may read.
pub(crate) struct Store<'a> {
    pub(crate) client: &'a Client,
    pub(crate) attempt: AttemptId,
    pub(crate) leave: &'a CancellationToken,
}

impl Layers {
    /// An empty store below `folder`; what an earlier life left is removed: after a crash of the machine nobody knows
    /// whether it was written.
    pub(crate) fn open(folder: PathBuf, overlay: bool, owner: Option<Owner>) -> std::io::Result<Layers> {
        std::fs::create_dir_all(&folder)?;
        let thin = overlay && can_whiteout(&folder);
        Ok(Layers { folder, thin, owner, known: Mutex::default() })
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Vec<(ChunkId, Arc<Layer>)>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The layer of a tree: the one that is here, or a new one. A `whole` one lies over no other.
    pub(crate) async fn bring(&self, tree: &str, whole: bool, from: &Store<'_>) -> Result<(Arc<Layer>, Brought), LayerError> {
        let id: ChunkId = tree.parse().map_err(|_| TreeError::Form)?;
        if let Some(layer) = self.used(&id, whole) {
            return Ok((layer, Brought::default()));
        }
        let (tree, listed) = self.listed(&id, from).await?;
        let candidates = self.candidates();
        let thin = self.thin && !whole;
        let plan = tokio::task::spawn_blocking(move || Plan::new(tree, &candidates, thin)).await.map_err(|_| LayerError::Short)?;
        let staging = self.folder.join(format!("new-{:032x}", rand::random::<u128>()));
        let written = self.write(&id, &plan, &staging, from).await;
        let fetched = match written {
            Ok(fetched) => fetched,
            Err(error) => {
                let _ = std::fs::remove_dir_all(&staging);
                return Err(error);
            }
        };
        let layer = self.enter(id, plan, &staging)?;
        Ok((layer, Brought { fetched: fetched + listed }))
    }

    /// Makes a layer of a tree that a job has saved, out of the files that it left: the next job here need not fetch them.
    /// Where one of them is no longer what was saved there is no layer. Blocks.
    pub(crate) fn adopt(&self, id: ChunkId, tree: Tree, left: &Path) -> Result<bool, LayerError> {
        let left = Beneath::open(left).map_err(io(left))?;
        if self.used(&id, false).is_some() {
            return Ok(true);
        }
        let plan = Plan::new(tree, &self.candidates(), self.thin);
        let staging = self.folder.join(format!("new-{:032x}", rand::random::<u128>()));
        std::fs::create_dir_all(&staging).map_err(io(&staging))?;
        let made = plan.lay(&staging, self.owner).and_then(|wanted| Ok(wanted.take_from(&left)? && wanted.close().is_ok()));
        if let Ok(true) = made {
            self.enter(id, plan, &staging)?;
        } else {
            let _ = std::fs::remove_dir_all(&staging);
        }
        made
    }

    fn candidates(&self) -> Vec<Arc<Layer>> {
        self.known().iter().rev().take(LOOKED_AT).map(|(_, layer)| layer.clone()).collect()
    }

    /// What was written is a layer from now on.
    fn enter(&self, id: ChunkId, plan: Plan, staging: &Path) -> Result<Arc<Layer>, LayerError> {
        // Two slots may make the same at once: each has a folder of its own.
        let folder = self.folder.join(format!("{}-{:08x}", &id.to_string()[..24], rand::random::<u32>()));
        std::fs::rename(staging, &folder).map_err(io(&folder))?;
        let own = plan.base.is_some().then(|| plan.own.iter().map(|&at| plan.tree.entries()[at].path.clone()).collect());
        let layer = Arc::new(Layer { folder, base: plan.base, own, tree: plan.tree });
        self.keep(id, layer.clone());
        Ok(layer)
    }

    fn used(&self, id: &ChunkId, whole: bool) -> Option<Arc<Layer>> {
        let mut known = self.known();
        let at = known.iter().position(|(known, layer)| known == id && !(whole && layer.base.is_some()))?;
        let found = known.remove(at);
        known.push(found.clone());
        Some(found.1)
    }

    fn keep(&self, id: ChunkId, layer: Arc<Layer>) {
        let mut known = self.known();
        known.push((id, layer));
        // The oldest that nobody uses: a job under way holds its layers, and a layer what lies below it.
        while known.len() > KEPT
            && let Some(at) = known.iter().position(|(_, layer)| Arc::strong_count(layer) == 1)
        {
            let (_, gone) = known.remove(at);
            let aside = self.folder.join(format!("old-{:032x}", rand::random::<u128>()));
            if std::fs::rename(&gone.folder, &aside).is_ok() {
                std::thread::spawn(move || drop(std::fs::remove_dir_all(aside)));
            }
        }
    }

    /// A tree's list from the store.
    async fn listed(&self, id: &ChunkId, from: &Store<'_>) -> Result<(Tree, u64), LayerError> {
        let mut first = self.chunks(id, &[*id], from).await?;
        let root = Root::read(&first.chunks.remove(id).ok_or(LayerError::Short)?)?;
        let ids: Vec<ChunkId> = root.list.iter().map(|(id, _)| *id).collect();
        let rest = self.chunks(id, &ids, from).await?;
        let mut list = Vec::new();
        for id in &ids {
            list.extend(rest.chunks.get(id).or_else(|| first.chunks.get(id)).ok_or(LayerError::Short)?);
        }
        let tree = tokio::task::spawn_blocking(move || Tree::read(&root, &list)).await.map_err(|_| LayerError::Short)??;
        Ok((tree, first.bytes + rest.bytes))
    }

    async fn chunks(&self, tree: &ChunkId, ids: &[ChunkId], from: &Store<'_>) -> Result<Fetched, LayerError> {
        if ids.is_empty() {
            return Ok(Fetched::default());
        }
        let names: Vec<u8> = ids.iter().flat_map(|id| id.0).collect();
        let wanted: HashSet<ChunkId> = ids.iter().copied().collect();
        let got = insist_for(TRIES, from.leave, || async {
            let answer = from.client.chunks(from.attempt, tree, names.clone()).await?;
            // Broken data does not get better by asking again: it is reported.
            match Fetched::read(answer, &wanted).await {
                Err(LayerError::Call(error)) => Err(error),
                other => Ok(other),
            }
        });
        got.await?
    }

    async fn write(&self, tree: &ChunkId, plan: &Plan, staging: &Path, from: &Store<'_>) -> Result<u64, LayerError> {
        std::fs::create_dir_all(staging).map_err(io(staging))?;
        let mut wanted = {
            let (plan, staging, owner) = (plan.clone(), staging.to_owned(), self.owner);
            tokio::task::spawn_blocking(move || plan.lay(&staging, owner)).await.map_err(|_| LayerError::Short)??
        };
        if wanted.ids().is_empty() {
            wanted.close()?;
            return Ok(0);
        }
        let names: Vec<u8> = wanted.ids().iter().flat_map(|id| id.0).collect();
        // A broken answer is asked for once more, for what has not come.
        let mut tries = 0;
        loop {
            let answer = insist_for(TRIES, from.leave, || from.client.chunks(from.attempt, tree, names.clone())).await?;
            match write_files(answer, wanted).await {
                (Ok(bytes), _) => return Ok(bytes),
                (Err(LayerError::Call(error)), left) if error.is_passing() && tries < 5 => {
                    tracing::warn!(%error, "a fetch broke off; asking once more");
                    tries += 1;
                    wanted = left;
                }
                (Err(error), _) => return Err(error),
            }
        }
    }
}

/// How a new layer is made.
#[derive(Clone)]
struct Plan {
    tree: Tree,
    base: Option<Arc<Layer>>,
    /// Entries that it holds itself, by number.
    own: Vec<usize>,
    /// Paths of the base that are not in it: they get the overlay's mark for what is not there.
    gone: Vec<Vec<u8>>,
    /// Files that lie here already, by what they hold.
    here: HashMap<[u8; 32], (PathBuf, i64)>,
}

impl Plan {
    fn new(tree: Tree, candidates: &[Arc<Layer>], thin: bool) -> Plan {
        let wanted: HashSet<[u8; 32]> = tree.entries().iter().map(Entry::likeness).collect();
        let mut here = HashMap::new();
        for layer in candidates {
            for entry in layer.tree.entries() {
                let Kind::File { modified, size: 1.., .. } = entry.kind else { continue };
                let likeness = entry.likeness();
                if wanted.contains(&likeness) {
                    here.entry(likeness).or_insert_with(|| (layer.place(&entry.path), modified));
                }
            }
        }
        let whole = Plan { own: (0..tree.entries().len()).collect(), gone: Vec::new(), base: None, here, tree };
        if !thin {
            return whole;
        }
        // A layer lies over one other at most: paths through many folders are slow, and all of them must be kept.
        let bases = candidates.iter().filter(|layer| layer.base.is_none());
        let over = bases.map(|base| whole.over(base)).min_by_key(|plan| plan.own.len() + plan.gone.len());
        let all = whole.tree.entries().len();
        over.filter(|plan| (plan.own.len() + plan.gone.len()) * 100 <= all * (100 - ALIKE)).unwrap_or(whole)
    }

    fn over(&self, base: &Arc<Layer>) -> Plan {
        let known: HashMap<&[u8], &Entry> = base.tree.entries().iter().map(|entry| (entry.path.as_slice(), entry)).collect();
        let entries = self.tree.entries();
        let own =
            (0..entries.len()).filter(|&at| known.get(entries[at].path.as_slice()).is_none_or(|other| other.kind != entries[at].kind));
        let ours: HashSet<&[u8]> = entries.iter().map(|entry| entry.path.as_slice()).collect();
        let gone = base.tree.entries().iter().filter(|entry| !ours.contains(entry.path.as_slice()));
        Plan { own: own.collect(), gone: gone.map(|entry| entry.path.clone()).collect(), base: Some(base.clone()), ..self.clone() }
    }

    /// Makes everything that needs nothing from elsewhere; gives what does.
    fn lay(&self, staging: &Path, owner: Option<Owner>) -> Result<Wanted, LayerError> {
        let root = Beneath::open(staging).map_err(io(staging))?;
        let mut made = HashSet::new();
        let mut folder = |path: &Path| -> Result<(), LayerError> {
            if !made.insert(path.to_owned()) {
                return Ok(());
            }
            let inside = path.strip_prefix(staging).unwrap_or(Path::new("."));
            root.make_folder(inside, owner).map(drop).map_err(io(path))
        };
        let mut wanted = Wanted::of(owner);
        for &at in &self.own {
            let entry = &self.tree.entries()[at];
            let path = staging.join(OsStr::from_bytes(&entry.path));
            match &entry.kind {
                Kind::Folder { mode } => {
                    folder(&path)?;
                    wanted.folder(path, *mode);
                    continue;
                }
                _ => folder(path.parent().unwrap_or(staging))?,
            }
            match &entry.kind {
                Kind::Folder { .. } => {}
                Kind::Link { target } => {
                    let inside = Path::new(OsStr::from_bytes(&entry.path));
                    root.create_link(inside, OsStr::from_bytes(target), owner).map_err(io(&path))?;
                }
                Kind::File { modified, .. } => match self.here.get(&entry.likeness()) {
                    Some((from, time)) if time == modified && std::fs::hard_link(from, &path).is_ok() => {}
                    Some((from, _)) if copy(from, &path, entry, owner).is_ok() => {}
                    _ => wanted.file(path, entry)?,
                },
            }
        }
        for path in &self.gone {
            let path = staging.join(OsStr::from_bytes(path));
            let parent = path.parent().unwrap_or(staging);
            // A folder that was deleted as a whole has only its own deletion mark.
            if is_whiteout(parent) {
                continue;
            }
            folder(parent)?;
            whiteout(&path).map_err(io(&path))?;
        }
        Ok(wanted)
    }
}

fn shut(folder: &Beneath, mode: u32) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(mode | 0o700))
}

/// A file of another layer with times of its own; shares its blocks where the file system can.
fn copy(from: &Path, to: &Path, entry: &Entry, owner: Option<Owner>) -> std::io::Result<()> {
    std::fs::copy(from, to)?;
    let file = std::fs::File::options().write(true).open(to)?;
    if let Some(Owner { uid, gid }) = owner {
        std::os::unix::fs::fchown(&file, Some(uid), Some(gid))?;
    }
    crate::fetch::dress(&file, entry)
}

/// The overlay's mark for something that is not there: a character device 0, 0.
fn whiteout(path: &Path) -> std::io::Result<()> {
    use nix::sys::stat::{Mode, SFlag, makedev, mknod};
    match mknod(path, SFlag::S_IFCHR, Mode::empty(), makedev(0, 0)) {
        Ok(()) => Ok(()),
        Err(nix::errno::Errno::EEXIST) => Ok(()),
        Err(error) => Err(error.into()),
    }
}

fn is_whiteout(path: &Path) -> bool {
    use std::os::unix::fs::{FileTypeExt, MetadataExt};
    std::fs::symlink_metadata(path).is_ok_and(|meta| meta.file_type().is_char_device() && meta.rdev() == 0)
}

fn can_whiteout(folder: &Path) -> bool {
    let probe = folder.join("probe");
    let can = whiteout(&probe).is_ok();
    let _ = std::fs::remove_file(&probe);
    can
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_content::cut;
    use std::os::unix::fs::{MetadataExt, PermissionsExt};

    fn tree_of(folder: &Path, names: &[&str]) -> Tree {
        let entry = |name: &&str| {
            let (bytes, meta) = (std::fs::read(folder.join(name)).unwrap(), std::fs::metadata(folder.join(name)).unwrap());
            let chunks = cut(&bytes).map(|piece| (ChunkId::of(&bytes[piece.clone()]), u32::try_from(piece.len()).unwrap())).collect();
            let (mode, size) = (meta.permissions().mode() & 0o777, meta.size());
            let modified = crate::beneath::modified(&meta);
            Entry { path: name.as_bytes().to_vec(), kind: Kind::File { mode, modified, size, sha256: None, chunks } }
        };
        Tree::new(names.iter().map(entry).collect()).unwrap()
    }

    /// What a job left: two files, one of several chunks.
    fn left(folder: &Path) -> Tree {
        std::fs::create_dir_all(folder.join("objects")).unwrap();
        let large: Vec<u8> = (0u32..300_000).flat_map(|n| (n.wrapping_mul(n) / 7).to_le_bytes()).collect();
        std::fs::write(folder.join("objects/gauge.o"), large).unwrap();
        std::fs::write(folder.join("objects/note"), "high water").unwrap();
        tree_of(folder, &["objects/gauge.o", "objects/note"])
    }

    #[test]
    fn what_a_job_saved_and_left_becomes_a_layer_unless_it_was_changed_since() {
        let folder = tempfile::tempdir().unwrap();
        let layers = Layers::open(folder.path().join("layers"), false, None).unwrap();
        let place = folder.path().join("left");
        let tree = left(&place);
        let id = tree.listing().root;
        assert!(layers.adopt(id, tree.clone(), &place).unwrap());
        let layer = layers.used(&id, false).unwrap();
        assert_eq!(tree_of(layer.folders()[0], &["objects/gauge.o", "objects/note"]), tree);
        // One more, of which a part lies in the layer already.
        std::fs::write(place.join("objects/new"), "low water").unwrap();
        let new = tree_of(&place, &["objects/new"]);
        let both = Tree::new([tree.entries(), new.entries()].concat()).unwrap();
        assert!(layers.adopt(both.listing().root, both, &place).unwrap());
        let changes: [fn(&Path); 4] = [
            |place| std::fs::write(place.join("objects/note"), "low  water").unwrap(),
            |place| std::fs::remove_file(place.join("objects/note")).unwrap(),
            |place| std::fs::set_permissions(place.join("objects/note"), std::fs::Permissions::from_mode(0o4755)).unwrap(),
            |place| {
                // The time says nothing: what is in it does.
                let time = std::fs::metadata(place.join("objects/note")).unwrap().modified().unwrap();
                std::fs::write(place.join("objects/note"), "ebb, flood").unwrap();
                std::fs::File::options().write(true).open(place.join("objects/note")).unwrap().set_modified(time).unwrap();
            },
        ];
        for (at, change) in changes.iter().enumerate() {
            let place = folder.path().join(format!("left{at}"));
            std::fs::create_dir_all(&place).unwrap();
            let fresh = Layers::open(folder.path().join(format!("layers{at}")), false, None).unwrap();
            let tree = left(&place);
            let id = tree.listing().root;
            change(&place);
            assert!(!fresh.adopt(id, tree, &place).unwrap(), "change {at}");
            assert!(fresh.used(&id, false).is_none(), "change {at}");
        }
    }
}
