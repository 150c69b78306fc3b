//! The place for backups: a folder, or S3-compatible object storage.

use super::error::BackupError;
use super::whole::{GOES_ON, Listed, Whole, list, read_list};
use crate::blobs::{Place, storage};
use futures_util::TryStreamExt;
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt};
use std::sync::Arc;

const FORMAT: &str = "FORMAT";
const SAYS: &str = "ordotaxis backup 1\n";
const BEGINS: &str = "ordotaxis backup ";
/// The last thing that is written of a copy.
const WHOLE: &str = "whole.json";
/// Lists of packs that came after a copy, with its changes.
const MORE_PACKS: &str = "more-packs";

/// The place for backups.
#[derive(Clone)]
pub struct Shelf {
    pub(super) place: Arc<dyn ObjectStore>,
    /// The same for much at once: a folder's files are on disk only after [`Shelf::settle`].
    pub(super) bulk: Arc<dyn ObjectStore>,
    folder: Option<std::path::PathBuf>,
    pub(super) name: String,
    /// Held by who writes into a folder. Nobody else can in the meantime.
    _lock: Option<Arc<std::fs::File>>,
}

impl Shelf {
    /// Opens it. With `make` it is made where there is nothing yet; whatever holds other things is refused.
    pub async fn open(place: &Place, make: bool) -> Result<Shelf, BackupError> {
        let name = match place {
            Place::Local(folder) => folder.display().to_string(),
            Place::Objects(objects) => format!("bucket {} at {}", objects.bucket, objects.endpoint),
        };
        if let (Place::Local(folder), false) = (place, make)
            && !folder.is_dir()
        {
            return Err(BackupError::None(name));
        }
        let whole = storage(place)?;
        let (bulk, folder): (Arc<dyn ObjectStore>, _) = match place {
            Place::Local(folder) => (Arc::new(LocalFileSystem::new_with_prefix(folder)?), Some(folder.clone())),
            Place::Objects(_) => (whole.clone(), None),
        };
        let mut shelf = Shelf { place: whole, bulk, folder, name, _lock: None };
        if let Place::Local(folder) = place {
            private(folder)?;
        }
        match shelf.text(&Path::from(FORMAT)).await? {
            Some(says) if says == SAYS => {}
            Some(says) if says.starts_with(BEGINS) => return Err(BackupError::Newer(shelf.name)),
            Some(_) => return Err(BackupError::Other(shelf.name)),
            None if make && shelf.is_empty().await? => {
                shelf.place.put(&Path::from(FORMAT), SAYS.into()).await?;
            }
            None if make => return Err(BackupError::Other(shelf.name)),
            None => return Err(BackupError::None(shelf.name)),
        }
        if let (Place::Local(folder), true) = (place, make) {
            shelf._lock = Some(Arc::new(lock(folder, &shelf.name)?));
        }
        Ok(shelf)
    }

    /// What was written in bulk is on disk.
    pub(super) async fn settle(&self) -> Result<(), BackupError> {
        let Some(path) = self.folder.clone() else { return Ok(()) };
        let synced = tokio::task::spawn_blocking(move || {
            let wrong = |source| BackupError::File { path: path.clone(), source };
            let folder = std::fs::File::open(&path).map_err(wrong)?;
            nix::unistd::syncfs(&folder).map_err(|error| wrong(error.into()))
        });
        synced.await.map_err(|error| BackupError::Damaged(error.to_string()))?
    }

    async fn is_empty(&self) -> Result<bool, BackupError> {
        Ok(self.place.list(None).try_next().await?.is_none())
    }

    /// A small file; none where there is none.
    pub(super) async fn text(&self, path: &Path) -> Result<Option<String>, BackupError> {
        match self.place.get(path).await {
            Ok(answer) => Ok(Some(String::from_utf8_lossy(&answer.bytes().await?).into_owned())),
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// A moment, in milliseconds since 1970, as a copy's name; with a number where another of the same second is there.
    pub async fn free_name(&self, now: i64) -> Result<String, BackupError> {
        let there = self.names().await?;
        let moment = jiff::Timestamp::from_millisecond(now).unwrap_or_default().strftime("%Y-%m-%dT%H%M%SZ").to_string();
        let names = std::iter::once(moment.clone()).chain((2..).map(|number| format!("{moment}.{number}")));
        Ok(names.into_iter().find(|name| !there.contains(name)).unwrap_or(moment))
    }

    /// Names of copies, whole or not.
    pub(super) async fn names(&self) -> Result<Vec<String>, BackupError> {
        let found = self.place.list_with_delimiter(Some(&Path::from("copies"))).await?;
        let mut names: Vec<String> = found.common_prefixes.iter().filter_map(|path| path.filename().map(str::to_owned)).collect();
        names.sort();
        Ok(names)
    }

    /// What a copy holds; none when it is not whole.
    pub(super) async fn whole(&self, name: &str) -> Result<Option<Whole>, BackupError> {
        let Some(text) = self.text(&of_copy(name, WHOLE)).await? else { return Ok(None) };
        let broken = || BackupError::Damaged(format!("what stands in {name}/{WHOLE} cannot be read"));
        let whole: Whole = serde_json::from_str(&text).map_err(|_| broken())?;
        if whole.format > GOES_ON {
            return Err(BackupError::Newer(self.name.clone()));
        }
        Ok(Some(whole))
    }

    /// Copies that are whole, in the order in which they were made.
    pub async fn copies(&self) -> Result<Vec<Whole>, BackupError> {
        let mut copies = Vec::new();
        for name in self.names().await? {
            copies.extend(self.whole(&name).await?);
        }
        copies.sort_by_key(|whole| whole.number);
        Ok(copies)
    }

    pub(super) async fn close(&self, whole: &Whole) -> Result<(), BackupError> {
        let text = serde_json::to_string_pretty(whole).unwrap_or_default();
        self.place.put(&of_copy(&whole.name, WHOLE), (text + "\n").into()).await?;
        Ok(())
    }

    /// Packs of a copy, and those that came with its changes.
    pub(super) async fn packs_of(&self, name: &str) -> Result<Vec<Listed>, BackupError> {
        let broken = || BackupError::Damaged(format!("a list of packs of {name} is gone or cannot be read"));
        let more = self.place.list(Some(&of_copy(name, MORE_PACKS))).map_ok(|found| found.location).try_collect::<Vec<_>>().await?;
        let mut all = Vec::new();
        for list in std::iter::once(of_copy(name, "packs")).chain(more) {
            all.extend(read_list(&self.text(&list).await?.ok_or_else(broken)?).ok_or_else(broken)?);
        }
        Ok(all)
    }

    /// Notes packs that come with a copy's changes.
    pub(super) async fn add_packs(&self, name: &str, number: u64, packs: &[Listed]) -> Result<(), BackupError> {
        self.place.put(&of_copy(name, &format!("{MORE_PACKS}/{number:08}")), list(packs).into()).await?;
        Ok(())
    }

    /// Drops a copy: first what makes it count.
    pub(super) async fn drop_copy(&self, name: &str) -> Result<(), BackupError> {
        let gone = |done: Result<(), object_store::Error>| match done {
            Err(object_store::Error::NotFound { .. }) => Ok(()),
            other => other,
        };
        gone(self.place.delete(&of_copy(name, WHOLE)).await)?;
        let all: Vec<Path> = self.place.list(Some(&copy(name))).map_ok(|found| found.location).try_collect().await?;
        for path in all {
            gone(self.place.delete(&path).await)?;
        }
        Ok(())
    }
}

pub(super) fn copy(name: &str) -> Path {
    Path::from(format!("copies/{name}"))
}

pub(super) fn of_copy(name: &str, file: &str) -> Path {
    Path::from(format!("copies/{name}/{file}"))
}

/// Nobody else on the machine looks into backups.
fn private(folder: &std::path::Path) -> Result<(), BackupError> {
    use std::os::unix::fs::PermissionsExt;
    let private = std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700));
    private.map_err(|source| BackupError::File { path: folder.to_owned(), source })
}

/// Locks a folder of backups against others who would write there.
fn lock(folder: &std::path::Path, name: &str) -> Result<std::fs::File, BackupError> {
    let path = folder.join("lock");
    let file = std::fs::File::create(&path).map_err(|source| BackupError::File { path: path.clone(), source })?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(std::fs::TryLockError::WouldBlock) => Err(BackupError::Busy(name.to_owned())),
        Err(std::fs::TryLockError::Error(source)) => Err(BackupError::File { path, source }),
    }
}
