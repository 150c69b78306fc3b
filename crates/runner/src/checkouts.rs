//! Commits' files, each unpacked once and kept while jobs use it.
//!
//! What there is of a commit the service says; git's objects come in packs, large files one by one, each from the service
//! alone. Submodules lie within, each with a store and a `.git` of its own. A checkout is never changed: a job has it below
//! an overlay, or a copy.

use crate::aside::discard;
use crate::beneath::{Beneath, Owner};
use crate::client::{CallError, Client, insist, insist_for};
use crate::workspace_error::{WorkspaceError, io};
use ordotaxis_core::language::{Depth, GitFiles};
use ordotaxis_git::{Layout, Store, Tag};
use ordotaxis_wire::runner::{AskFiles, AskLarge, AskPack, FilesAbout, LargeFile, Lease};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};
use tokio::io::{AsyncWriteExt, BufReader};
use tokio::sync::OnceCell;
use tokio_util::io::StreamReader;
use tokio_util::sync::CancellationToken;

/// How many unpacked commits are kept while no job uses them.
const KEPT: usize = 8;
/// What nobody asked for in so long is deleted when the runner starts.
const UNUSED: Duration = Duration::from_secs(14 * 24 * 3600);
/// No pack is larger.
const LARGEST_PACK: u64 = 64 << 30;
/// How often what broke off is asked for again.
const TRIES: u32 = 5;
/// The most submodules, those within others counted.
const MODULES: usize = 256;

/// A commit's files; none until they are unpacked.
pub(crate) type Checkout = Arc<OnceCell<PathBuf>>;

/// The unpacked commits of a runner, and what they are made of.
pub(crate) struct Checkouts {
    folder: PathBuf,
    /// Whom the files of jobs belong to; None: this runner's user.
    owner: Option<Owner>,
    kept: Mutex<HashMap<String, Checkout>>,
    stores: Mutex<HashMap<String, Arc<Store>>>,
}

/// One job's question for its files.
pub(crate) struct Wanted<'a> {
    pub(crate) client: &'a Client,
    pub(crate) lease: &'a Lease,
    pub(crate) git: &'a GitFiles,
    /// Cancelled when the runner must leave at once.
    pub(crate) leave: &'a CancellationToken,
}

impl Checkouts {
    /// Below a runner's folder. What an earlier life left unpacked is discarded; what it received is kept.
    pub(crate) fn open(folder: PathBuf, owner: Option<Owner>) -> Result<Checkouts, WorkspaceError> {
        for name in ["trees", "mirrors"] {
            discard(&folder, &folder.join(name))?;
        }
        for name in ["trees", "stores", "large"] {
            let path = folder.join(name);
            std::fs::create_dir_all(&path).map_err(io(&path))?;
            if name != "trees" {
                forget_unused(&folder, &path);
            }
        }
        Ok(Checkouts { folder, owner, kept: Mutex::default(), stores: Mutex::default() })
    }

    /// The files of a lease's commit.
    pub(crate) async fn get(&self, wanted: &Wanted<'_>) -> Result<Checkout, WorkspaceError> {
        let name = name(wanted);
        let checkout = {
            let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            self.forget(&mut kept, &name);
            kept.entry(name.clone()).or_default().clone()
        };
        checkout.get_or_try_init(|| self.unpack(wanted, &name)).await?;
        Ok(checkout)
    }

    fn forget(&self, kept: &mut HashMap<String, Checkout>, wanted: &str) {
        if kept.len() < KEPT || kept.contains_key(wanted) {
            return;
        }
        let unused: Vec<String> = kept.iter().filter(|(_, one)| Arc::strong_count(one) == 1).map(|(name, _)| name.clone()).collect();
        for name in unused {
            kept.remove(&name);
            let _ = discard(&self.folder, &self.folder.join("trees").join(&name));
        }
    }

    async fn unpack(&self, wanted: &Wanted<'_>, name: &str) -> Result<PathBuf, WorkspaceError> {
        let path = self.folder.join("trees").join(name);
        discard(&self.folder, &path)?;
        std::fs::create_dir_all(&path).map_err(io(&path))?;
        let mut modules = 0;
        self.fill(wanted, Vec::new(), path.clone(), &mut modules).await?;
        if let Some(owner) = self.owner {
            let all = path.clone();
            let given = tokio::task::spawn_blocking(move || give_all(&all, owner)).await;
            given.map_err(std::io::Error::other).and_then(|done| done).map_err(io(&path))?;
        }
        Ok(path)
    }

    /// Fills a folder with a repository's files, then those of its submodules.
    fn fill<'a>(
        &'a self,
        wanted: &'a Wanted<'_>,
        within: Vec<String>,
        into: PathBuf,
        modules: &'a mut usize,
    ) -> Pin<Box<dyn Future<Output = Result<(), WorkspaceError>> + Send + 'a>> {
        Box::pin(async move {
            let GitFiles { depth, submodules, lfs, .. } = *wanted.git;
            let ask = AskFiles { within: within.clone(), depth, submodules, lfs };
            let about = insist(wanted.leave, || wanted.client.files_about(wanted.lease.attempt, &ask)).await?;
            let store = self.store(wanted, &within, &about);
            let tags: Vec<Tag> =
                about.tags.iter().map(|tag| Tag { name: tag.name.clone(), id: tag.id.clone(), commit: tag.commit.clone() }).collect();
            let large = self.folder.join("large");
            for file in &about.large {
                fetch_large(wanted, &within, file, &large).await?;
            }
            // Paths are said of the repository itself; a submodule that is there is there as a whole.
            let paths: &[String] = if within.is_empty() { &wanted.git.paths } else { &[] };
            let inner: Vec<_> = about.submodules.iter().map(|one| (one.name.clone(), one.path.clone(), one.address.clone())).collect();
            let layout = Layout {
                commit: &about.commit,
                address: &about.address,
                tags: &tags,
                paths,
                large: lfs.then_some(large.as_path()),
                submodules: &inner,
            };
            receive(wanted, &store, &within, &about, &tags).await?;
            if let Err(error) = store.check_out(&layout, &into).await {
                tracing::warn!(%error, "what was received before is of no use; it is fetched again");
                empty(&into)?;
                store.clear().await?;
                receive(wanted, &store, &within, &about, &tags).await?;
                store.check_out(&layout, &into).await?;
            }
            for (_, path, _) in &inner {
                // Where a sparse checkout has left it out there is no folder. No link leads elsewhere.
                let Ok(folder) = Beneath::open(&into).and_then(|root| root.folder(Path::new(path))) else { continue };
                drop(folder);
                *modules += 1;
                if *modules > MODULES {
                    return Err(WorkspaceError::Modules(MODULES));
                }
                let within = within.iter().chain([path]).cloned().collect();
                self.fill(wanted, within, into.join(path), modules).await?;
            }
            Ok(())
        })
    }

    /// One store for each repository and depth. What is known of a proposal from outside lies apart.
    fn store(&self, wanted: &Wanted<'_>, within: &[String], about: &FilesAbout) -> Arc<Store> {
        let told = format!("{}\n{}\n{}", wanted.lease.project, about.address, about.apart);
        let inner = if within.is_empty() { "" } else { "+" };
        let name = format!("{}{inner}-{}-{}.git", wanted.lease.project, wanted.git.depth, digest(&told));
        let mut stores = self.stores.lock().unwrap_or_else(PoisonError::into_inner);
        stores.entry(name.clone()).or_insert_with(|| Arc::new(Store::new(self.folder.join("stores").join(&name)))).clone()
    }
}

/// Removes what is in a folder.
fn empty(folder: &Path) -> Result<(), WorkspaceError> {
    for entry in std::fs::read_dir(folder).map_err(io(folder))? {
        let entry = entry.map_err(io(folder))?;
        let path = entry.path();
        let is_folder = entry.file_type().map_err(io(&path))?.is_dir();
        let done = if is_folder { std::fs::remove_dir_all(&path) } else { std::fs::remove_file(&path) };
        done.map_err(io(&path))?;
    }
    Ok(())
}

/// The pack with what the store lacks.
async fn receive(wanted: &Wanted<'_>, store: &Store, within: &[String], about: &FilesAbout, tags: &[Tag]) -> Result<(), WorkspaceError> {
    // A tag that is an object of its own may have been set after the commit was received.
    let own: Vec<&str> =
        tags.iter().filter(|tag| tag.id != tag.commit && within_reach(wanted, tag, about)).map(|tag| tag.id.as_str()).collect();
    let mut broke_off = None;
    for _ in 0..TRIES {
        if store.has(&about.commit) && own.iter().all(|id| store.has(id)) {
            return Ok(());
        }
        let (haves, shallows) = store.known();
        let ask = AskPack { within: within.to_vec(), depth: wanted.git.depth, haves, shallows };
        let answer = insist_for(TRIES, wanted.leave, || wanted.client.files_pack(wanted.lease.attempt, &ask)).await?;
        let stream = tokio_stream::StreamExt::map(answer.bytes_stream(), |piece| piece.map_err(std::io::Error::other));
        let mut reader = BufReader::with_capacity(1 << 16, StreamReader::new(stream));
        match store.take(&about.commit, &own, &mut reader, LARGEST_PACK).await {
            Ok(()) => return Ok(()),
            Err(error) => broke_off = Some(error),
        }
    }
    broke_off.map_or(Ok(()), |error| Err(error.into()))
}

/// Whether the pack brings a tag's own object.
fn within_reach(wanted: &Wanted<'_>, tag: &Tag, about: &FilesAbout) -> bool {
    wanted.git.depth == Depth::All || tag.commit == about.commit
}

/// A large file by its name, which is the digest of its content: one that is here already is not asked for.
async fn fetch_large(wanted: &Wanted<'_>, within: &[String], file: &LargeFile, folder: &Path) -> Result<(), WorkspaceError> {
    let is_name = file.oid.len() == 64 && file.oid.bytes().all(|byte| byte.is_ascii_hexdigit());
    let path = folder.join(if is_name { file.oid.as_str() } else { "none" });
    if is_name && path.metadata().is_ok_and(|meta| meta.len() == file.bytes) {
        // Its age is that of its last use.
        let _ = std::fs::File::open(&path).and_then(|open| open.set_modified(SystemTime::now()));
        return Ok(());
    }
    let ask = AskLarge { within: within.to_vec(), oid: file.oid.clone() };
    let mut answer = insist_for(TRIES, wanted.leave, || wanted.client.files_large(wanted.lease.attempt, &ask)).await?;
    let aside = tempfile::Builder::new().prefix(".coming-").tempfile_in(folder).map_err(io(folder))?;
    let mut writer = tokio::fs::File::from_std(aside.reopen().map_err(io(folder))?);
    let (mut digest, mut left) = (Sha256::new(), file.bytes);
    while let Some(piece) = answer.chunk().await.map_err(CallError::broke_off)? {
        left = left.checked_sub(piece.len() as u64).ok_or_else(|| WorkspaceError::Large(file.oid.clone()))?;
        digest.update(&piece);
        writer.write_all(&piece).await.map_err(io(&path))?;
    }
    writer.flush().await.map_err(io(&path))?;
    let found: String = digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    if !is_name || left > 0 || found != file.oid {
        return Err(WorkspaceError::Large(file.oid.clone()));
    }
    aside.persist(&path).map_err(|error| io(&path)(error.error))?;
    Ok(())
}

/// What a checkout is called: others have other files, another history or other tags.
fn name(wanted: &Wanted<'_>) -> String {
    let git = serde_json::to_string(wanted.git).unwrap_or_default();
    format!("{}-{}-{}", wanted.lease.project, wanted.lease.commit, digest(&format!("{git}\n{}", wanted.lease.tags_mark)))
}

fn digest(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}

/// Deletes what was not used for long, by the time of its last change.
fn forget_unused(folder: &Path, within: &Path) {
    let entries = std::fs::read_dir(within).into_iter().flatten().flatten();
    for path in entries.map(|entry| entry.path()) {
        let used = [path.join("refs/kept"), path.clone()].iter().find_map(|path| path.metadata().ok()?.modified().ok());
        if used.and_then(|used| used.elapsed().ok()).is_some_and(|since| since > UNUSED) {
            let _ = discard(folder, &path);
        }
    }
}

/// Everything at and below a path.
fn give_all(path: &Path, Owner { uid, gid }: Owner) -> std::io::Result<()> {
    for entry in walkdir::WalkDir::new(path) {
        std::os::unix::fs::lchown(entry?.path(), Some(uid), Some(gid))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_not_used_for_long_goes() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("stores/old.git/refs/kept")).unwrap();
        std::fs::create_dir_all(folder.path().join("stores/new.git/refs/kept")).unwrap();
        std::fs::create_dir_all(folder.path().join("mirrors/before.git")).unwrap();
        let long_ago = SystemTime::now() - UNUSED - Duration::from_secs(1);
        std::fs::File::open(folder.path().join("stores/old.git/refs/kept")).unwrap().set_modified(long_ago).unwrap();
        Checkouts::open(folder.path().to_owned(), None).unwrap();
        let there = |name: &str| folder.path().join(name).exists();
        assert!(there("stores/new.git") && !there("stores/old.git") && !there("mirrors"));
    }
}
