//! Makes a data folder of a copy. Everything is checked on the way, beside the place where it will be; only what is whole gets its name.

use super::back_up::schema;
use super::changes;
use super::error::BackupError;
use super::growing;
use super::shelf::{Shelf, copy, of_copy};
use super::whole::{Listed, Whole};
use crate::blobs::path_of;
use crate::key::hex;
use crate::log_id::LogId;
use crate::records::newest_schema;
use futures_util::{StreamExt, TryStreamExt};
use object_store::ObjectStoreExt;
use object_store::path::Path as At;
use sha2::{Digest, Sha256};
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection};
use sqlx::{ConnectOptions, Connection};
use std::collections::{HashMap, HashSet};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// So many packs are brought back side by side.
const AT_ONCE: usize = 4;

/// What was brought back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restored {
    pub whole: Whole,
    pub packs: u64,
    pub logs: u64,
    /// The last moment that is in it, in milliseconds since 1970.
    pub until: i64,
    /// Packs that the database names and the backup has not: they were swept away just then.
    pub swept: u64,
    /// Names of keys that were in the backup.
    pub keys: Vec<String>,
}

/// Makes the data folder `data` of a copy: the newest, or the one of this name. It must not be there, or be empty.
/// Of a copy with changes the database is brought up to the last of them, or to the last before `until`.
pub async fn restore(shelf: &Shelf, wanted: Option<&str>, until: Option<i64>, data: &Path) -> Result<Restored, BackupError> {
    let whole = choose(shelf, wanted, until).await?;
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
    let back = Back { shelf, whole: &whole, until, into: beside.path() };
    let found = back.database().await?;
    let (packs, swept) = back.packs(&found.packs).await?;
    let logs = back.logs(&found.moved).await?;
    let keys = back.folder("keys", "", &HashSet::new()).await?;
    sync(beside.path())?;
    let _ = std::fs::remove_dir(data); // an empty one makes room
    std::fs::rename(beside.path(), data).map_err(|source| BackupError::File { path: data.to_owned(), source })?;
    sync(parent)?;
    Ok(Restored { packs, logs, until: found.until, swept, keys, whole })
}

/// The copy of this name; else the newest, or the newest that was whole at the moment that is wanted.
async fn choose(shelf: &Shelf, wanted: Option<&str>, until: Option<i64>) -> Result<Whole, BackupError> {
    let mut all = shelf.copies().await?;
    let Some(wanted) = wanted else {
        all.retain(|whole| until.is_none_or(|until| whole.made_at <= until));
        return all.pop().ok_or_else(|| BackupError::None(shelf.name.clone()));
    };
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

/// What the database says.
struct Found {
    /// The last moment that is in it.
    until: i64,
    /// Packs that it names.
    packs: Vec<String>,
    /// Files of logs that have moved into the store: `RUN/FILE`.
    moved: HashSet<String>,
}

struct Back<'a> {
    shelf: &'a Shelf,
    whole: &'a Whole,
    until: Option<i64>,
    into: &'a Path,
}

impl Back<'_> {
    /// The database, with its changes, read by SQLite from its first page to its last.
    async fn database(&self) -> Result<Found, BackupError> {
        let path = self.into.join("ordotaxis.db");
        let (bytes, sha256) = self.fetch(&of_copy(&self.whole.name, "database"), &path).await?;
        if (bytes, sha256.as_str()) != (self.whole.database_bytes, &*self.whole.database_sha256) {
            return Err(BackupError::Damaged("its database is not the one that was written".into()));
        }
        let applied = if self.whole.goes_on() {
            changes::apply(self.shelf, &self.whole.name, &path, self.until).await?
        } else {
            changes::Applied::default()
        };
        let mut opened = SqliteConnectOptions::new().filename(&path).connect().await?;
        let says: Vec<String> = sqlx::query_scalar("PRAGMA integrity_check(5)").fetch_all(&mut opened).await?;
        let schema = schema(&mut opened).await?;
        let packs = sqlx::query_scalar("SELECT name FROM packs").fetch_all(&mut opened).await?;
        let moved = moved_logs(&mut opened).await?;
        opened.close().await?;
        if says != ["ok"] || schema != self.whole.schema {
            return Err(BackupError::Damaged(format!("its database is not sound: {}", says.join("; "))));
        }
        Ok(Found { until: applied.until.unwrap_or(self.whole.made_at), packs, moved })
    }

    /// Every pack that the database names, with the digest that it was written with; and how many of them are not there.
    async fn packs(&self, named: &[String]) -> Result<(u64, u64), BackupError> {
        if self.whole.packs_elsewhere {
            return Ok((0, 0));
        }
        let listed = self.shelf.packs_of(&self.whole.name).await?;
        let listed: HashMap<&str, &Listed> = listed.iter().map(|pack| (pack.name.as_str(), pack)).collect();
        let wanted: Vec<&Listed> = named.iter().filter_map(|name| listed.get(name.as_str()).copied()).collect();
        let swept = (named.len() - wanted.len()) as u64;
        if swept > 0 && !self.whole.goes_on() {
            return Err(BackupError::Damaged(format!("{swept} packs that its database names are not in its list")));
        }
        let done = futures_util::stream::iter(&wanted).map(|pack| self.pack(pack)).buffer_unordered(AT_ONCE);
        done.try_collect::<Vec<()>>().await?;
        Ok((wanted.len() as u64, swept))
    }

    async fn pack(&self, pack: &Listed) -> Result<(), BackupError> {
        let at = path_of(&pack.name);
        let (bytes, sha256) = self.fetch(&at, &self.into.join("blobs").join(at.as_ref())).await?;
        if (bytes, &sha256) != (pack.bytes, &pack.sha256) {
            return Err(BackupError::Damaged(format!("pack {} is not the one that was written", pack.name)));
        }
        Ok(())
    }

    /// Logs that are not in the store, each with what it has grown by. Gives how many.
    async fn logs(&self, moved: &HashSet<String>) -> Result<u64, BackupError> {
        let mut all: HashSet<String> = self.folder("logs", "logs", moved).await?.into_iter().collect();
        for (path, parts) in self.listed(growing::FOLDER).await? {
            let [run, file, offset] = parts.as_slice() else { continue };
            let (name, offset) = (format!("{run}/{file}"), offset.parse::<u64>().unwrap_or(u64::MAX));
            if moved.contains(&name) {
                continue;
            }
            let to = self.into.join("logs").join(&name);
            let bytes = self.shelf.place.get(&path).await?.bytes().await?;
            append(&to, offset, &bytes).map_err(|source| BackupError::File { path: to.clone(), source })?;
            all.insert(name);
        }
        Ok(all.len() as u64)
    }

    /// All files below a folder of the copy, in order, each with the parts of its path below that.
    async fn listed(&self, folder: &str) -> Result<Vec<(At, Vec<String>)>, BackupError> {
        let at = of_copy(&self.whole.name, folder);
        let mut all: Vec<At> = self.shelf.place.list(Some(&at)).map_ok(|found| found.location).try_collect().await?;
        all.sort();
        let skipped = copy(&self.whole.name).parts().count() + 1;
        let parts = |path: &At| path.parts().skip(skipped).map(|part| part.as_ref().to_owned()).collect();
        Ok(all.into_iter().map(|path| (path.clone(), parts(&path))).collect())
    }

    /// All files below a folder of the copy, but for some, into one of the data folder. Gives their names.
    async fn folder(&self, from: &str, to: &str, without: &HashSet<String>) -> Result<Vec<String>, BackupError> {
        let mut names = Vec::new();
        for (path, parts) in self.listed(from).await? {
            let name = parts.join("/");
            if without.contains(&name) {
                continue;
            }
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

/// Logs that have moved into the store, as the files that they were.
async fn moved_logs(database: &mut SqliteConnection) -> Result<HashSet<String>, sqlx::Error> {
    let rows: Vec<(i64, u32, u32, String, u32)> =
        sqlx::query_as("SELECT run_id, job, attempt, beside, segment FROM log_segments").fetch_all(database).await?;
    let file = |(run, job, attempt, beside, segment): (i64, u32, u32, String, u32)| {
        let id = LogId { run, job: job as usize, attempt, beside: Some(beside).filter(|name| !name.is_empty()) };
        format!("{run}/{}", id.file(segment as usize))
    };
    Ok(rows.into_iter().map(file).collect())
}

/// Adds bytes to a file at an offset that is no further than its end; what would leave a hole is left out.
fn append(path: &Path, offset: u64, bytes: &[u8]) -> std::io::Result<()> {
    if let Some(parent) = path.parent() {
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(parent)?;
    }
    let file = std::fs::OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path)?;
    if offset <= file.metadata()?.len() {
        file.write_all_at(bytes, offset)?;
    }
    file.sync_all()
}

/// What stands in a folder is on disk.
fn sync(folder: &Path) -> Result<(), BackupError> {
    let wrong = |source| BackupError::File { path: PathBuf::from(folder), source };
    std::fs::File::open(folder).and_then(|folder| folder.sync_all()).map_err(wrong)
}
