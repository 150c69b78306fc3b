//! Everything large, stored once: chunks by what they hold, in packs, on local disk or in S3-compatible object storage.
//!
//! - `intake`: packs come in, are looked through and written;
//! - `index`: which chunk lies where, in memory, made from the rows of `packs`;
//! - `direct`: runners send packs to object storage and read them there, by addresses that the service signs;
//! - `reading`: chunks, trees and whole rows of blocks go out;
//! - `seal`: encryption at rest;
//! - `care`: what is damaged, what nobody needs any more.
//!
//! A pack is written whole and flushed to disk before its row is, and its row before the call is answered: what the
//! index knows is there, whatever crashed. What is to be deleted goes in the other order.

mod care;
mod direct;
mod error;
mod index;
mod intake;
mod legacy;
mod opened;
mod reading;
mod seal;
#[cfg(test)]
mod tests;

pub use care::{Damage, SweepPlan, Verified, YOUNG_MS};
pub use direct::{DIRECT_FOR, PieceAt, PutAt};
pub use error::BlobError;
pub use intake::{Intake, PackAdded};
pub use seal::BlobKey;

use crate::records::Records;
pub(crate) use intake::path_of;

use index::Index;
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::local::LocalFileSystem;
use object_store::{ClientOptions, ObjectStore, RetryConfig};
use opened::Opened;
use ordotaxis_content::ChunkId;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::Duration;
use tokio::sync::Semaphore;

/// Where packs are kept.
#[derive(Debug, Clone)]
pub enum Place {
    Local(PathBuf),
    Objects(Objects),
}

/// S3-compatible object storage.
#[derive(Clone)]
pub struct Objects {
    pub endpoint: String,
    pub bucket: String,
    pub region: String,
    pub key_id: String,
    pub secret: String,
    /// The address at which runners reach the same storage; none: they send everything to the service.
    pub direct: Option<String>,
}

impl std::fmt::Debug for Objects {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Objects({} {})", self.endpoint, self.bucket)
    }
}

/// The store of chunks. Cloning gives another handle to the same store.
#[derive(Clone)]
pub struct Blobs(Arc<Inner>);

struct Inner {
    packs: Arc<dyn ObjectStore>,
    /// Signs addresses for runners.
    direct: Option<AmazonS3>,
    records: Records,
    index: RwLock<Index>,
    key: Option<BlobKey>,
    /// Whole packs are in memory while they come in: this bounds how many.
    intakes: Semaphore,
    /// Sweeping and naming what is in the store exclude each other.
    sweeping: tokio::sync::RwLock<()>,
    /// Blocks that were opened lately.
    opened: Mutex<Opened>,
}

/// How many packs may come in at once.
const INTAKES: usize = 6;

impl Blobs {
    /// Opens the store; `key` seals what is written from now on and opens what was sealed with it.
    pub async fn open(place: &Place, key: Option<BlobKey>, records: Records) -> Result<Blobs, BlobError> {
        let packs = storage(place)?;
        let direct = match place {
            Place::Objects(objects) => objects.direct.as_deref().map(|address| bucket(objects, address)).transpose()?,
            Place::Local(_) => None,
        };
        let mut index = Index::default();
        for row in records.packs().await? {
            index.add(row.id, row.name, row.sealed, row.bytes, row.made_at, &row.blocks)?;
        }
        let inner = Inner {
            packs,
            direct,
            records,
            index: RwLock::new(index),
            key,
            intakes: Semaphore::new(INTAKES),
            sweeping: tokio::sync::RwLock::default(),
            opened: Mutex::default(),
        };
        Ok(Blobs(Arc::new(inner)))
    }

    /// For each chunk whether the store has it. Those it has are not swept for a while.
    pub fn has(&self, ids: &[ChunkId], now: i64) -> Vec<bool> {
        let index = self.index();
        ids.iter().map(|id| index.promise(id, now)).collect()
    }

    fn index(&self) -> std::sync::RwLockReadGuard<'_, Index> {
        self.0.index.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn index_mut(&self) -> std::sync::RwLockWriteGuard<'_, Index> {
        self.0.index.write().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn records(&self) -> &Records {
        &self.0.records
    }

    /// How many packs and chunks there are, and bytes as stored.
    pub fn sums(&self) -> (usize, usize, u64) {
        self.index().sums()
    }

    /// Held while something in the store gets its name, so that no sweep comes between the look and the word.
    pub async fn naming(&self) -> tokio::sync::RwLockReadGuard<'_, ()> {
        self.0.sweeping.read().await
    }
}

pub(crate) fn storage(place: &Place) -> Result<Arc<dyn ObjectStore>, BlobError> {
    match place {
        Place::Local(folder) => {
            std::fs::create_dir_all(folder).map_err(|source| BlobError::Folder { path: folder.clone(), source })?;
            Ok(Arc::new(LocalFileSystem::new_with_prefix(folder)?.with_fsync(true)))
        }
        Place::Objects(objects) => Ok(Arc::new(bucket(objects, &objects.endpoint)?)),
    }
}

/// The bucket, as it is reached at an address.
fn bucket(objects: &Objects, endpoint: &str) -> Result<AmazonS3, BlobError> {
    let patience = Duration::from_secs(30);
    let retry = RetryConfig { max_retries: 4, retry_timeout: patience, ..RetryConfig::default() };
    let options = ClientOptions::new().with_timeout(patience).with_connect_timeout(Duration::from_secs(5)).with_allow_http(true);
    // Without TLS no authorities are needed, and this machine may know none.
    let is_plain = endpoint.get(..7).is_some_and(|scheme| scheme.eq_ignore_ascii_case("http://"));
    let options = options.with_no_system_certificates(is_plain);
    let builder = AmazonS3Builder::new()
        .with_endpoint(endpoint)
        .with_bucket_name(&objects.bucket)
        .with_region(&objects.region)
        .with_access_key_id(&objects.key_id)
        .with_secret_access_key(&objects.secret)
        .with_allow_http(true)
        .with_client_options(options)
        .with_retry(retry);
    Ok(builder.build()?)
}
