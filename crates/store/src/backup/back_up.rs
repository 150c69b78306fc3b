//! Makes a copy. The database is copied by SQLite itself, as it was at one moment; what that names is copied after it.

use super::error::BackupError;
use super::shelf::{Shelf, of_copy};
use super::whole::{GOES_ON, Listed, Whole, list};
use crate::blobs::{Place, path_of, storage};
use crate::key::hex;
use futures_util::StreamExt;
use object_store::buffered::BufWriter;
use object_store::path::Path as At;
use object_store::{ObjectStore, ObjectStoreExt};
use sha2::{Digest, Sha256};
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection};
use sqlx::{ConnectOptions, Connection};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// So many packs are copied side by side.
const AT_ONCE: usize = 4;
/// How often the database is copied anew since a pack that it names was swept away meanwhile.
pub(super) const TRIES: usize = 4;

/// What is to be backed up.
#[derive(Debug, Clone)]
pub struct Ask {
    /// The data folder.
    pub data: PathBuf,
    /// Where its packs are.
    pub packs: Place,
    /// Files with keys, and the name that each has in the backup; none: without keys.
    pub keys: Vec<(PathBuf, String)>,
    /// The moment, in milliseconds since 1970, and its name.
    pub now: i64,
    pub name: String,
}

/// What was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    pub whole: Whole,
    /// Packs that no earlier copy had.
    pub new_packs: u64,
    pub new_bytes: u64,
}

/// Makes a copy. The service may run meanwhile.
pub async fn back_up(shelf: &Shelf, ask: &Ask) -> Result<Made, BackupError> {
    let source = ask.data.join("ordotaxis.db");
    if !source.is_file() {
        return Err(BackupError::NoData(ask.data.clone()));
    }
    clear(shelf).await?;
    let number = shelf.copies().await?.last().map_or(1, |newest| newest.number + 1);
    let copy = Copy { shelf, ask, number, known: known(shelf).await? };
    let logs = copy.logs().await?;
    for _ in 0..TRIES {
        let database = copy.database(&source).await?;
        let Some(packs) = copy.packs(&database.packs).await? else { continue };
        return copy.close(logs.len() as u64, database, packs).await;
    }
    Err(BackupError::Swept)
}

/// What broke off earlier is taken away.
pub(super) async fn clear(shelf: &Shelf) -> Result<(), BackupError> {
    for name in shelf.names().await? {
        if shelf.whole(&name).await?.is_none() {
            shelf.drop_copy(&name).await?;
        }
    }
    Ok(())
}

/// Packs that earlier copies have.
pub(super) async fn known(shelf: &Shelf) -> Result<HashMap<String, Listed>, BackupError> {
    let mut known = HashMap::new();
    for whole in shelf.copies().await?.iter().filter(|whole| !whole.packs_elsewhere) {
        known.extend(shelf.packs_of(&whole.name).await?.into_iter().map(|pack| (pack.name.clone(), pack)));
    }
    Ok(known)
}

pub(super) struct Copy<'a> {
    pub(super) shelf: &'a Shelf,
    pub(super) ask: &'a Ask,
    pub(super) number: u64,
    pub(super) known: HashMap<String, Listed>,
}

/// The database as it was copied.
pub(super) struct Database {
    pub(super) bytes: u64,
    pub(super) sha256: String,
    pub(super) schema: i64,
    /// Whether its changes are sent after it.
    pub(super) goes_on: bool,
    /// Name and size of each pack that it names.
    pub(super) packs: Vec<(String, i64)>,
}

/// Packs that a copy has, and how many of them, with how many bytes, no earlier one had.
pub(super) type Packs = (Vec<Listed>, u64, u64);

impl Copy<'_> {
    pub(super) fn at(&self, file: &str) -> At {
        of_copy(&self.ask.name, file)
    }

    /// Logs that are not in the store yet, each with how much of it was copied. Those that grow meanwhile are as long as they
    /// were when they were read.
    pub(super) async fn logs(&self) -> Result<Vec<(String, u64)>, BackupError> {
        let folder = self.ask.data.join("logs");
        let mut copied = Vec::new();
        for (path, name) in files(&folder)? {
            if let Some(bytes) = unless_gone(std::fs::read(&path)).map_err(|source| BackupError::File { path, source })? {
                let length = bytes.len() as u64;
                self.shelf.place.put(&self.at(&format!("logs/{name}")), bytes.into()).await?;
                copied.push((name, length));
            }
        }
        Ok(copied)
    }

    /// Copies the database as it is at one moment, by way of a file beside it.
    async fn database(&self, source: &Path) -> Result<Database, BackupError> {
        let beside = tempfile::Builder::new().prefix(".backup").tempdir_in(&self.ask.data);
        let beside = beside.map_err(|source| BackupError::File { path: self.ask.data.clone(), source })?;
        let file = beside.path().join("database");
        let mut from = SqliteConnectOptions::new().filename(source).connect().await?;
        sqlx::query("VACUUM INTO ?").bind(file.to_string_lossy().into_owned()).execute(&mut from).await?;
        from.close().await?;
        let mut copied = SqliteConnectOptions::new().filename(&file).pragma("query_only", "ON").connect().await?;
        let (schema, packs) =
            (schema(&mut copied).await?, sqlx::query_as("SELECT name, bytes FROM packs ORDER BY id").fetch_all(&mut copied).await?);
        copied.close().await?;
        let (bytes, sha256) = self.send_file(&file, &self.at("database")).await?;
        Ok(Database { bytes, sha256, schema, goes_on: false, packs })
    }

    /// Sends a file of any size, and gives its size and digest.
    pub(super) async fn send_file(&self, file: &Path, to: &At) -> Result<(u64, String), BackupError> {
        let wrong = |source| BackupError::File { path: file.to_owned(), source };
        let mut from = tokio::fs::File::open(file).await.map_err(wrong)?;
        let mut into = BufWriter::new(self.shelf.place.clone(), to.clone());
        let (mut digest, mut bytes) = (Sha256::new(), 0);
        let mut part = vec![0; 1 << 20];
        loop {
            let read = from.read(&mut part).await.map_err(wrong)?;
            if read == 0 {
                break;
            }
            digest.update(&part[..read]);
            bytes += read as u64;
            into.write_all(&part[..read]).await.map_err(|error| full(error, &self.shelf.name))?;
        }
        into.shutdown().await.map_err(|error| full(error, &self.shelf.name))?;
        Ok((bytes, hex(&digest.finalize())))
    }

    /// Copies the packs that are not there yet. None: one was swept away since the database was copied.
    pub(super) async fn packs(&self, named: &[(String, i64)]) -> Result<Option<Packs>, BackupError> {
        if matches!(self.ask.packs, Place::Objects(_)) {
            return Ok(Some((Vec::new(), 0, 0)));
        }
        let from = storage(&self.ask.packs)?;
        let each = named.iter().map(|(name, _)| (name.clone(), self.known.get(name).cloned())).collect::<Vec<_>>();
        let shelf = self.shelf.clone();
        let tasks = futures_util::stream::iter(each).map(move |(name, known)| tokio::spawn(pack(from.clone(), shelf.clone(), name, known)));
        let mut tasks = tasks.buffered(AT_ONCE);
        let (mut listed, mut count, mut bytes) = (Vec::with_capacity(named.len()), 0, 0);
        while let Some(copied) = tasks.next().await {
            let Some((pack, new)) = copied.map_err(|error| BackupError::Damaged(error.to_string()))?? else { return Ok(None) };
            if new {
                (count, bytes) = (count + 1, bytes + pack.bytes);
            }
            listed.push(pack);
        }
        self.shelf.settle().await?;
        Ok(Some((listed, count, bytes)))
    }

    async fn keys(&self) -> Result<bool, BackupError> {
        for (path, name) in &self.ask.keys {
            let read = unless_gone(std::fs::read(path)).map_err(|source| BackupError::File { path: path.clone(), source })?;
            if let Some(bytes) = read {
                self.shelf.place.put(&self.at(&format!("keys/{name}")), bytes.into()).await?;
            }
        }
        Ok(!self.ask.keys.is_empty())
    }

    /// The list of packs, the keys, and last what makes it count.
    pub(super) async fn close(&self, logs: u64, database: Database, packs: Packs) -> Result<Made, BackupError> {
        let (packs, new_packs, new_bytes) = packs;
        self.shelf.place.put(&self.at("packs"), list(&packs).into()).await?;
        let keys = self.keys().await?;
        let whole = Whole {
            format: if database.goes_on { GOES_ON } else { 1 },
            number: self.number,
            name: self.ask.name.clone(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            made_at: self.ask.now,
            schema: database.schema,
            database_bytes: database.bytes,
            database_sha256: database.sha256,
            packs: packs.len() as u64,
            pack_bytes: packs.iter().map(|pack| pack.bytes).sum(),
            packs_elsewhere: matches!(self.ask.packs, Place::Objects(_)),
            logs,
            keys,
        };
        self.shelf.close(&whole).await?;
        Ok(Made { whole, new_packs, new_bytes })
    }
}

/// Copies one pack, and says whether it is new. None: it is not in the store any more.
pub(super) async fn pack(
    from: Arc<dyn ObjectStore>,
    shelf: Shelf,
    name: String,
    known: Option<Listed>,
) -> Result<Option<(Listed, bool)>, BackupError> {
    let at = path_of(&name);
    if let Some(known) = known {
        let there = shelf.place.head(&at).await;
        if there.is_ok_and(|there| there.size == known.bytes) {
            return Ok(Some((known, false)));
        }
    }
    let wrong = |source| BackupError::Pack { name: name.clone(), source };
    let bytes = match from.get(&at).await {
        Ok(answer) => answer.bytes().await.map_err(wrong)?,
        Err(object_store::Error::NotFound { .. }) => return Ok(None),
        Err(source) => return Err(wrong(source)),
    };
    let held = bytes.clone();
    let digest = tokio::task::spawn_blocking(move || hex(&Sha256::digest(&held)));
    let (length, sent) = (bytes.len() as u64, shelf.bulk.put(&at, bytes.into()));
    let (digest, sent) = tokio::join!(digest, sent);
    sent?;
    let sha256 = digest.map_err(|error| BackupError::Damaged(error.to_string()))?;
    Ok(Some((Listed { name, bytes: length, sha256 }, true)))
}

/// The newest change of its form that a database has.
pub(super) async fn schema(database: &mut SqliteConnection) -> Result<i64, sqlx::Error> {
    sqlx::query_scalar("SELECT coalesce(max(version), 0) FROM _sqlx_migrations").fetch_one(database).await
}

fn full(source: std::io::Error, place: &str) -> BackupError {
    BackupError::File { path: place.into(), source }
}

pub(super) fn unless_gone<T>(read: std::io::Result<T>) -> std::io::Result<Option<T>> {
    match read {
        Ok(read) => Ok(Some(read)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// All files of the folders below one, each with its name below it: `RUN/FILE`.
pub(super) fn files(folder: &Path) -> Result<Vec<(PathBuf, String)>, BackupError> {
    let wrong = |source| BackupError::File { path: folder.to_owned(), source };
    let Some(runs) = unless_gone(std::fs::read_dir(folder)).map_err(wrong)? else { return Ok(Vec::new()) };
    let mut all = Vec::new();
    for run in runs {
        let run = run.map_err(wrong)?;
        let Some(inside) = unless_gone(std::fs::read_dir(run.path())).map_err(wrong)? else { continue };
        for file in inside {
            let file = file.map_err(wrong)?;
            let (Ok(run), Ok(name)) = (run.file_name().into_string(), file.file_name().into_string()) else { continue };
            all.push((file.path(), format!("{run}/{name}")));
        }
    }
    Ok(all)
}
