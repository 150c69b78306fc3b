//! Makes a data folder of a copy. Everything is checked on the way, beside the place where it will be; only what is whole gets its name.

use super::back_up::schema;
use super::error::BackupError;
use super::shelf::{Shelf, copy, of_copy};
use super::whole::{Listed, Whole};
use crate::blobs::path_of;
use crate::key::hex;
use crate::records::newest_schema;
use futures_util::{StreamExt, TryStreamExt};
use object_store::ObjectStoreExt;
use object_store::path::Path as At;
use sha2::{Digest, Sha256};
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// So many packs are brought back side by side.
const AT_ONCE: usize = 4;

/// What was brought back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restored {
    pub whole: Whole,
    pub packs: u64,
    pub logs: u64,
    /// Names of keys that were in the backup.
    pub keys: Vec<String>,
}

/// Makes the data folder `data` of a copy: the newest, or the one of this name. It must not be there, or be empty.
pub async fn restore(shelf: &Shelf, wanted: Option<&str>, data: &Path) -> Result<Restored, BackupError> {
    let whole = choose(shelf, wanted).await?;
    if !is_free(data)? {
        return Err(BackupError::InUse(data.to_owned()));
    }
    if whole.schema > newest_schema() {
        return Err(BackupError::Newer(shelf.name.clone()));
    }
    let parent = data.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    std::fs::create_dir_all(parent).map_err(|source| BackupError::File { path: parent.to_owned(), source })?;
    let beside = tempfile::Builder::new().prefix(".restoring").tempdir_in(parent);
    let beside = beside.map_err(|source| BackupError::File { path: parent.to_owned(), source })?;
    let back = Back { shelf, whole: &whole, into: beside.path() };
    back.database().await?;
    let packs = back.packs().await?;
    let logs = back.folder("logs", "logs").await?.len() as u64;
    let keys = back.folder("keys", "").await?;
    sync(beside.path())?;
    let _ = std::fs::remove_dir(data); // an empty one makes room
    std::fs::rename(beside.path(), data).map_err(|source| BackupError::File { path: data.to_owned(), source })?;
    sync(parent)?;
    Ok(Restored { packs, logs, keys, whole })
}

async fn choose(shelf: &Shelf, wanted: Option<&str>) -> Result<Whole, BackupError> {
    let mut all = shelf.copies().await?;
    let Some(wanted) = wanted else { return all.pop().ok_or_else(|| BackupError::None(shelf.name.clone())) };
    let there: Vec<String> = all.iter().map(|whole| whole.name.clone()).collect();
    let found = all.into_iter().find(|whole| whole.name == wanted);
    found.ok_or_else(|| BackupError::NoSuch { wanted: wanted.to_owned(), place: shelf.name.clone(), there: there.join(", ") })
}

/// Whether nothing is there.
fn is_free(data: &Path) -> Result<bool, BackupError> {
    match std::fs::read_dir(data) {
        Ok(mut inside) => Ok(inside.next().is_none()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(true),
        Err(source) => Err(BackupError::File { path: data.to_owned(), source }),
    }
}

struct Back<'a> {
    shelf: &'a Shelf,
    whole: &'a Whole,
    into: &'a Path,
}

impl Back<'_> {
    /// The database, read by SQLite from its first page to its last.
    async fn database(&self) -> Result<(), BackupError> {
        let path = self.into.join("ordotaxis.db");
        let (bytes, sha256) = self.fetch(&of_copy(&self.whole.name, "database"), &path).await?;
        if (bytes, sha256.as_str()) != (self.whole.database_bytes, &*self.whole.database_sha256) {
            return Err(BackupError::Damaged("its database is not the one that was written".into()));
        }
        let mut opened = SqliteConnectOptions::new().filename(&path).connect().await?;
        let says: Vec<String> = sqlx::query_scalar("PRAGMA integrity_check(5)").fetch_all(&mut opened).await?;
        let schema = schema(&mut opened).await?;
        opened.close().await?;
        if says != ["ok"] || schema != self.whole.schema {
            return Err(BackupError::Damaged(format!("its database is not sound: {}", says.join("; "))));
        }
        Ok(())
    }

    /// Every pack, with the digest that it was written with.
    async fn packs(&self) -> Result<u64, BackupError> {
        if self.whole.packs_elsewhere {
            return Ok(0);
        }
        let packs = self.shelf.packs_of(&self.whole.name).await?;
        let done = futures_util::stream::iter(&packs).map(|pack| self.pack(pack)).buffer_unordered(AT_ONCE);
        done.try_collect::<Vec<()>>().await?;
        Ok(packs.len() as u64)
    }

    async fn pack(&self, pack: &Listed) -> Result<(), BackupError> {
        let at = path_of(&pack.name);
        let (bytes, sha256) = self.fetch(&at, &self.into.join("blobs").join(at.as_ref())).await?;
        if (bytes, &sha256) != (pack.bytes, &pack.sha256) {
            return Err(BackupError::Damaged(format!("pack {} is not the one that was written", pack.name)));
        }
        Ok(())
    }

    /// All files below a folder of the copy, into one of the data folder. Gives their names.
    async fn folder(&self, from: &str, to: &str) -> Result<Vec<String>, BackupError> {
        let at = of_copy(&self.whole.name, from);
        let mut all: Vec<At> = self.shelf.place.list(Some(&at)).map_ok(|found| found.location).try_collect().await?;
        all.sort();
        let skipped = copy(&self.whole.name).parts().count() + 1;
        let mut names = Vec::new();
        for path in all {
            let parts: Vec<String> = path.parts().skip(skipped).map(|part| part.as_ref().to_owned()).collect();
            let name = parts.join("/");
            self.fetch(&path, &self.into.join(to).join(&name)).await?;
            names.push(name);
        }
        Ok(names)
    }

    /// One file, written for its owner alone and flushed; its size and digest.
    async fn fetch(&self, from: &At, to: &Path) -> Result<(u64, String), BackupError> {
        let wrong = |source| BackupError::File { path: to.to_owned(), source };
        let gone = |error| match error {
            object_store::Error::NotFound { path, .. } => BackupError::Damaged(format!("{path} is gone")),
            other => other.into(),
        };
        if let Some(parent) = to.parent() {
            std::fs::DirBuilder::new().recursive(true).mode(0o700).create(parent).map_err(wrong)?;
        }
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(to).map_err(wrong)?;
        let mut parts = self.shelf.place.get(from).await.map_err(gone)?.into_stream();
        let (mut digest, mut bytes) = (Sha256::new(), 0);
        while let Some(part) = parts.next().await {
            let part = part?;
            digest.update(&part);
            bytes += part.len() as u64;
            file.write_all(&part).map_err(wrong)?;
        }
        file.sync_all().map_err(wrong)?;
        Ok((bytes, hex(&digest.finalize())))
    }
}

/// What stands in a folder is on disk.
fn sync(folder: &Path) -> Result<(), BackupError> {
    let wrong = |source| BackupError::File { path: PathBuf::from(folder), source };
    std::fs::File::open(folder).and_then(|folder| folder.sync_all()).map_err(wrong)
}
