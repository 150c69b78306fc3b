//! A data folder, looked at without changing it, whether a service runs or not.

use crate::blobs::{Place, path_of, storage};
use crate::records::newest_schema;
use futures_util::TryStreamExt;
use object_store::ObjectStore;
use object_store::path::Path as At;
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection};
use sqlx::{ConnectOptions, Connection};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// At most so many of anything are named.
const NAMED: usize = 20;
/// What is younger may be on its way.
const YOUNG: Duration = Duration::from_secs(60 * 60);

/// Why a data folder could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum InspectError {
    #[error("{} is no data folder: it has no ordotaxis.db", .0.display())]
    NoData(PathBuf),
    #[error("the database could not be read")]
    Database(#[from] sqlx::Error),
}

/// What was found in a database.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Inspected {
    /// What SQLite says is wrong; empty: it is sound.
    pub unsound: Vec<String>,
    /// The newest change of its form that it has, and that this version knows.
    pub schema: i64,
    pub knows: i64,
    /// When the newest thing in it happened, in milliseconds since 1970.
    pub newest_at: i64,
    /// Projects that cannot be read at the moment, and why.
    pub troubles: Vec<(String, String)>,
    /// How much was given up that should have been done outside.
    pub given_up: i64,
    /// Folders that belong to nothing any more, below the data folder.
    pub orphans: Vec<String>,
    pub bytes: u64,
}

/// What was found where packs are kept.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Packs {
    pub count: u64,
    pub bytes: u64,
    /// Names of packs that are gone or have another size, and how many there are.
    pub broken: (Vec<String>, u64),
    /// How many files no row names, and that are not young.
    pub strays: u64,
}

async fn open(data: &Path) -> Result<SqliteConnection, InspectError> {
    let path = data.join("ordotaxis.db");
    if !path.is_file() {
        return Err(InspectError::NoData(data.to_owned()));
    }
    let options = SqliteConnectOptions::new().filename(path).pragma("query_only", "ON").busy_timeout(Duration::from_secs(10));
    Ok(options.connect().await?)
}

/// Looks at the database, and at the folders beside it.
pub async fn inspect(data: &Path) -> Result<Inspected, InspectError> {
    let mut database = open(data).await?;
    let on = &mut database;
    let says: Vec<String> = sqlx::query_scalar("PRAGMA quick_check(5)").fetch_all(&mut *on).await?;
    let schema = sqlx::query_scalar("SELECT coalesce(max(version), 0) FROM _sqlx_migrations").fetch_one(&mut *on).await?;
    let newest_at = sqlx::query_scalar("SELECT coalesce(max(at), 0) FROM events").fetch_one(&mut *on).await?;
    let sql = "SELECT projects.name, coalesce(said, '') FROM work JOIN projects ON projects.id = project_id
               WHERE kind = 'occasion' AND state = 'waiting' AND tries > 0 GROUP BY projects.name ORDER BY projects.name LIMIT 20";
    let troubles = sqlx::query_as(sql).fetch_all(&mut *on).await?;
    let given_up = sqlx::query_scalar("SELECT count(*) FROM work WHERE state = 'given up'").fetch_one(&mut *on).await?;
    let orphans = orphans(data, on).await?;
    let bytes = std::fs::metadata(data.join("ordotaxis.db")).map_or(0, |found| found.len());
    database.close().await?;
    let unsound = says.into_iter().filter(|line| line != "ok").collect();
    Ok(Inspected { unsound, schema, knows: newest_schema(), newest_at, troubles, given_up, orphans, bytes })
}

/// Folders of logs, mirrors and pools that no row names.
async fn orphans(data: &Path, on: &mut SqliteConnection) -> Result<Vec<String>, InspectError> {
    let runs: Vec<i64> = sqlx::query_scalar("SELECT id FROM runs").fetch_all(&mut *on).await?;
    let runs: BTreeSet<String> = runs.iter().map(i64::to_string).collect();
    let projects: Vec<String> = sqlx::query_scalar("SELECT name FROM projects").fetch_all(&mut *on).await?;
    let pools: Vec<String> = sqlx::query_scalar("SELECT name FROM pools").fetch_all(&mut *on).await?;
    let mut orphans = Vec::new();
    for name in folders(&data.join("logs")).into_iter().filter(|name| !runs.contains(name)) {
        orphans.push(format!("logs/{name}"));
    }
    for name in folders(&data.join("mirrors")) {
        // A submodule's mirror is named by its project, `+` and more.
        let project = name.trim_end_matches(".git").split('+').next().unwrap_or_default().to_owned();
        if !projects.contains(&project) {
            orphans.push(format!("mirrors/{name}"));
        }
    }
    for name in folders(&data.join("pools")).into_iter().filter(|name| !pools.contains(name)) {
        orphans.push(format!("pools/{name}"));
    }
    orphans.truncate(NAMED);
    Ok(orphans)
}

/// Names of folders in one that are not young, sorted.
fn folders(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let old = |entry: &std::fs::DirEntry| {
        let found = entry.metadata().ok().filter(std::fs::Metadata::is_dir);
        found.and_then(|found| found.modified().ok()).is_some_and(is_old)
    };
    let mut names: Vec<String> = entries.filter(old).filter_map(|entry| entry.file_name().into_string().ok()).collect();
    names.sort();
    names
}

fn is_old(modified: SystemTime) -> bool {
    modified.elapsed().is_ok_and(|age| age > YOUNG)
}

/// Whether every pack that is named is there, with its size. What is in them, `store verify` reads.
pub async fn inspect_packs(data: &Path, place: &Place) -> Result<Packs, PacksError> {
    let mut database = open(data).await?;
    let rows: Vec<(String, i64)> = sqlx::query_as("SELECT name, bytes FROM packs").fetch_all(&mut database).await?;
    database.close().await?;
    let packs = storage(place)?;
    let (there, strays) = listed(&*packs, &rows).await?;
    let is_broken = |(name, bytes): &&(String, i64)| there.get(&path_of(name)) != Some(&bytes.unsigned_abs());
    let broken: Vec<String> = rows.iter().filter(is_broken).map(|(name, _)| name.clone()).collect();
    let count = broken.len() as u64;
    Ok(Packs {
        count: rows.len() as u64,
        bytes: rows.iter().map(|(_, bytes)| bytes.unsigned_abs()).sum(),
        broken: (broken.into_iter().take(NAMED).collect(), count),
        strays,
    })
}

/// Sizes of all packs that are there, and how many old ones no row names.
async fn listed(packs: &dyn ObjectStore, rows: &[(String, i64)]) -> Result<(BTreeMap<At, u64>, u64), object_store::Error> {
    let named: BTreeSet<At> = rows.iter().map(|(name, _)| path_of(name)).collect();
    let (mut there, mut strays) = (BTreeMap::new(), 0);
    let mut all = packs.list(Some(&At::from("packs")));
    while let Some(found) = all.try_next().await? {
        if !named.contains(&found.location) && is_old(found.last_modified.into()) {
            strays += 1;
        }
        there.insert(found.location, found.size);
    }
    Ok((there, strays))
}

/// Why packs could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum PacksError {
    #[error(transparent)]
    Inspect(#[from] InspectError),
    #[error("the database could not be read")]
    Database(#[from] sqlx::Error),
    #[error("the store could not be reached")]
    Store(#[from] crate::blobs::BlobError),
    #[error("the store could not be listed")]
    List(#[from] object_store::Error),
}
