//! Packs that runners send to object storage, and read from it, by themselves: the service gives out addresses that are
//! signed for one request and a while (AWS Signature Version 4 in the query). An address reads one range of one pack, or
//! writes one object apart from the packs; nobody outside can ever write to what was checked.

use super::error::LARGEST_PACK;
use super::{BlobError, Blobs, PackAdded, path_of};
use futures_util::StreamExt;
use object_store::ObjectStoreExt;
use object_store::aws::AmazonS3;
use object_store::path::Path;
use object_store::signer::{HeaderName, HeaderValue, Method, SignedUrlOptions, Signer};
use ordotaxis_content::{BlockHeader, ChunkId, PackError};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::time::Duration;

/// How long an address can be used.
pub const DIRECT_FOR: Duration = Duration::from_secs(15 * 60);
/// Less than this is as quick by way of the service, in one call.
const DIRECT_FROM: u64 = 256 * 1024;
/// More addresses than this are not given out for one answer.
const MOST_PIECES: usize = 2048;
/// Neighbouring blocks are read by one request up to about this much.
const PIECE: u64 = 32 * 1024 * 1024;

/// An address at which a pack can be put.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PutAt {
    pub name: String,
    pub url: String,
}

/// A part of a pack and the address that reads it, with the header `Range: bytes=FROM-LAST`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PieceAt {
    pub url: String,
    /// In bytes, from the pack's beginning.
    pub range: Range<u64>,
}

impl Blobs {
    /// Whether runners can be sent to the storage. Not where packs are sealed: only the service has the key.
    pub fn is_direct(&self) -> bool {
        self.0.direct.is_some() && self.0.key.is_none()
    }

    /// Where a pack of so many bytes can be put. None where it is to be sent to the service.
    pub async fn put_at(&self, bytes: u64) -> Result<Option<PutAt>, BlobError> {
        let Some(signer) = self.0.direct.as_ref().filter(|_| self.is_direct() && bytes >= DIRECT_FROM) else { return Ok(None) };
        if bytes > LARGEST_PACK as u64 {
            return Err(BlobError::TooLarge);
        }
        let name = format!("{:032x}", rand::random::<u128>());
        let url = signer.signed_url(Method::PUT, &arrived(&name), DIRECT_FOR).await?.to_string();
        Ok(Some(PutAt { name, url }))
    }

    /// Takes in a pack of so many bytes that was put at an address. It is first copied to a name of its own, which the sender does not
    /// know, and then every chunk is checked there; so what was checked is what stays.
    pub async fn take_put(&self, name: &str, bytes: u64, now: i64) -> Result<PackAdded, BlobError> {
        let from = arrived(name);
        let there = match self.0.packs.head(&from).await {
            Err(object_store::Error::NotFound { .. }) => return Err(BlobError::NothingPut),
            other => other?,
        };
        if there.size != bytes {
            self.forget(&from).await;
            return Err(PackError::CutOff.into());
        }
        let own = format!("{:032x}", rand::random::<u128>());
        self.0.packs.copy(&from, &path_of(&own)).await?;
        self.forget(&from).await;
        let added = self.take_copy(&own, now).await;
        if !matches!(added, Ok(PackAdded { chunks: 1.., .. })) {
            self.forget(&path_of(&own)).await;
        }
        added
    }

    async fn take_copy(&self, name: &str, now: i64) -> Result<PackAdded, BlobError> {
        let mut intake = self.intake().await;
        let mut pieces = self.0.packs.get(&path_of(name)).await?.into_stream();
        while let Some(piece) = pieces.next().await {
            intake.add(piece?.into()).await?;
        }
        intake.finish_as(name, now).await
    }

    /// What stays though it could not be deleted is a stray, which a sweep finds.
    async fn forget(&self, path: &Path) {
        if let Err(error) = self.0.packs.delete(path).await {
            tracing::warn!(%path, error = %super::error::plainly(&error), "what was put in the storage could not be deleted; a sweep tries again");
        }
    }

    /// Addresses that read the blocks of these chunks. None where the service must read them: one of the blocks holds
    /// something else than what may be read, or it is little.
    pub async fn pieces_at(&self, ids: &[ChunkId], may_read: &HashSet<ChunkId>) -> Result<Option<Vec<PieceAt>>, BlobError> {
        let Some(signer) = self.0.direct.as_ref().filter(|_| self.is_direct()) else { return Ok(None) };
        let pieces = self.pieces(ids, PIECE)?;
        let bytes: u64 = pieces.iter().map(|piece| piece.range.end - piece.range.start).sum();
        if bytes < DIRECT_FROM || pieces.len() > MOST_PIECES || pieces.iter().any(|piece| piece.sealed) {
            return Ok(None);
        }
        let names: HashSet<&str> = pieces.iter().map(|piece| piece.name.as_str()).collect();
        let mut headers = HashMap::with_capacity(names.len());
        for name in names {
            headers.insert(name.to_owned(), self.records().pack_headers(name).await?);
        }
        let mut at = Vec::with_capacity(pieces.len());
        for piece in pieces {
            let known = headers.get(&piece.name).map(Vec::as_slice).unwrap_or_default();
            if !all_within(known, &piece.range, may_read)? {
                return Ok(None);
            }
            let range = format!("bytes={}-{}", piece.range.start, piece.range.end - 1);
            let url = readable(signer, &path_of(&piece.name), &range).await?;
            at.push(PieceAt { url, range: piece.range });
        }
        Ok(Some(at))
    }
}

/// Where what runners put lies until it is taken in: apart from the packs.
pub(super) fn arrived(name: &str) -> Path {
    Path::from(format!("arrived/{name}"))
}

/// An address that reads just this range.
async fn readable(signer: &AmazonS3, path: &Path, range: &str) -> Result<String, BlobError> {
    let mut options = SignedUrlOptions::default();
    let value = HeaderValue::from_str(range).map_err(|error| BlobError::Storage(error.to_string()))?;
    options.signed_headers.insert(HeaderName::from_static("range"), value);
    Ok(signer.signed_url_opts(Method::GET, path, DIRECT_FOR, &options).await?.to_string())
}

/// Whether all chunks of a pack's blocks in a range may be read. `headers` are those of all its blocks, in their order.
fn all_within(headers: &[u8], range: &Range<u64>, may_read: &HashSet<ChunkId>) -> Result<bool, PackError> {
    let (mut rest, mut offset) = (headers, ordotaxis_content::MAGIC.len() as u64);
    let mut seen = 0;
    while !rest.is_empty() && offset < range.end {
        let (header, after) = BlockHeader::read(rest)?;
        let length = (rest.len() - after.len()) as u64 + u64::from(header.stored);
        if offset >= range.start {
            if !header.chunks.iter().all(|(id, _)| may_read.contains(id)) {
                return Ok(false);
            }
            seen += length;
        }
        (rest, offset) = (after, offset + length);
    }
    Ok(seen == range.end - range.start)
}
