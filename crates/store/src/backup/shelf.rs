//! The place for backups: a folder, or S3-compatible object storage.

use super::error::BackupError;
use super::whole::{Listed, Whole, read_list};
use crate::blobs::{Place, storage};
use futures_util::TryStreamExt;
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt};
use std::sync::Arc;

const FORMAT: &str = "FORMAT";
const SAYS: &str = "ordotaxis backup 1\n";
const BEGINS: &str = "ordotaxis backup ";
/// The last thing that is written of a copy.
const WHOLE: &str = "whole.json";

/// The place for backups.
#[derive(Clone)]
pub struct Shelf {
    pub(super) place: Arc<dyn ObjectStore>,
    pub(super) name: String,
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
        let shelf = Shelf { place: storage(place)?, name };
        if let Place::Local(folder) = place {
            private(folder)?;
        }
        match shelf.text(&Path::from(FORMAT)).await? {
            Some(says) if says == SAYS => Ok(shelf),
            Some(says) if says.starts_with(BEGINS) => Err(BackupError::Newer(shelf.name)),
            Some(_) => Err(BackupError::Other(shelf.name)),
            None if make && shelf.is_empty().await? => {
                shelf.place.put(&Path::from(FORMAT), SAYS.into()).await?;
                Ok(shelf)
            }
            None if make => Err(BackupError::Other(shelf.name)),
            None => Err(BackupError::None(shelf.name)),
        }
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
        if whole.format > 1 {
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

    /// Packs of a copy.
    pub(super) async fn packs_of(&self, name: &str) -> Result<Vec<Listed>, BackupError> {
        let broken = || BackupError::Damaged(format!("the list of packs of {name} is gone or cannot be read"));
        read_list(&self.text(&of_copy(name, "packs")).await?.ok_or_else(broken)?).ok_or_else(broken)
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
