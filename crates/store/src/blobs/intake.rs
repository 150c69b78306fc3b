//! Packs coming in. Every block is opened and every chunk is checked against its digest before anything is kept: what is
//! in the store is what its name says, no matter who sent it.

use super::error::LARGEST_PACK;
use super::{BlobError, Blobs};
use object_store::ObjectStoreExt;
use object_store::path::Path;
use ordotaxis_content::{Block, BlockHeader, ChunkId, MAGIC, PackError, Packer, header_length, open_block};
use tokio::sync::SemaphorePermit;

/// What a pack added to the store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PackAdded {
    pub chunks: usize,
    /// As stored.
    pub bytes: u64,
}

/// A pack on its way in. Dropping it leaves nothing behind.
#[must_use]
pub struct Intake<'b> {
    blobs: &'b Blobs,
    /// What has come and is not yet a whole block.
    rest: Vec<u8>,
    begun: bool,
    pack: Vec<u8>,
    headers: Vec<u8>,
    chunks: usize,
    _permit: SemaphorePermit<'b>,
}

impl Blobs {
    /// Begins to receive a pack. Waits while as many others come in as may at once.
    pub async fn intake(&self) -> Intake<'_> {
        let permit = self.0.intakes.acquire().await.unwrap_or_else(|_| unreachable!("the semaphore is never closed"));
        Intake { blobs: self, rest: Vec::new(), begun: false, pack: MAGIC.to_vec(), headers: Vec::new(), chunks: 0, _permit: permit }
    }

    /// Stores chunks that the service itself has made.
    pub async fn put(&self, chunks: impl Iterator<Item = (ChunkId, Vec<u8>)>, now: i64) -> Result<(), BlobError> {
        let mut packer = Packer::new()?;
        for (id, bytes) in chunks {
            if !self.has(&[id], now)[0] {
                packer.add(id, &bytes)?;
            }
            if packer.length() > LARGEST_PACK / 4 {
                self.take_pack(packer.take()?, now).await?;
            }
        }
        if packer.is_empty() { Ok(()) } else { self.take_pack(packer.take()?, now).await.map(drop) }
    }

    async fn take_pack(&self, pack: Vec<u8>, now: i64) -> Result<PackAdded, BlobError> {
        let mut intake = self.intake().await;
        intake.add(pack).await?;
        intake.finish(now).await
    }
}

impl Intake<'_> {
    /// The next bytes, however they were cut on the way.
    pub async fn add(&mut self, bytes: Vec<u8>) -> Result<(), BlobError> {
        if self.rest.is_empty() {
            self.rest = bytes
        } else {
            self.rest.extend(bytes)
        }
        if self.pack.len() + self.rest.len() > LARGEST_PACK {
            return Err(BlobError::TooLarge);
        }
        if !self.begun && self.rest.len() >= MAGIC.len() {
            if !self.rest.starts_with(MAGIC) {
                return Err(PackError::Magic.into());
            }
            self.rest.drain(..MAGIC.len());
            self.begun = true;
        }
        let whole = if self.begun { whole_blocks(&self.rest)? } else { 0 };
        if whole == 0 {
            return Ok(());
        }
        let after = self.rest.split_off(whole);
        let blocks = std::mem::replace(&mut self.rest, after);
        let key = self.blobs.0.key.clone();
        let looked = tokio::task::spawn_blocking(move || look_through(&blocks, key.as_ref()));
        let (pack, headers, chunks) = looked.await.map_err(|error| BlobError::Storage(error.to_string()))??;
        self.pack.extend(pack);
        self.headers.extend(headers);
        self.chunks += chunks;
        Ok(())
    }

    /// Writes the pack, then its row.
    pub async fn finish(self, now: i64) -> Result<PackAdded, BlobError> {
        let added = self.whole()?;
        if added.chunks > 0 {
            self.blobs.keep(self.pack, self.headers, now).await?;
        }
        Ok(added)
    }

    /// Records a pack that lies in the storage already, just as it came in here.
    pub(super) async fn finish_as(self, name: &str, now: i64) -> Result<PackAdded, BlobError> {
        let added = self.whole()?;
        if added.chunks > 0 {
            self.blobs.note(name.to_owned(), added.bytes, &self.headers, now).await?;
        }
        Ok(added)
    }

    fn whole(&self) -> Result<PackAdded, BlobError> {
        if !self.begun || !self.rest.is_empty() {
            return Err(PackError::CutOff.into());
        }
        let bytes = if self.chunks == 0 { 0 } else { self.pack.len() as u64 };
        Ok(PackAdded { chunks: self.chunks, bytes })
    }
}

impl Blobs {
    /// Writes a pack to the store and records it. A crash in between leaves a stray file, which a sweep finds.
    pub(super) async fn keep(&self, pack: Vec<u8>, headers: Vec<u8>, now: i64) -> Result<(), BlobError> {
        let (name, bytes) = (format!("{:032x}", rand::random::<u128>()), pack.len() as u64);
        self.0.packs.put(&path_of(&name), pack.into()).await?;
        self.note(name, bytes, &headers, now).await
    }

    /// Records a pack that lies in the storage.
    async fn note(&self, name: String, bytes: u64, headers: &[u8], now: i64) -> Result<(), BlobError> {
        let (bytes, sealed) = (i64::try_from(bytes).unwrap_or(i64::MAX), self.0.key.is_some());
        let mut tx = self.0.records.tx_by_rule("store", now).await?;
        let id = tx.add_pack(&name, bytes, sealed, headers).await?;
        tx.commit().await?;
        self.index_mut().add(id, name, sealed, bytes, now, headers)
    }
}

/// Two letters a folder: no folder grows without bounds.
pub(crate) fn path_of(name: &str) -> Path {
    Path::from(format!("packs/{}/{name}", name.get(..2).unwrap_or("00")))
}

/// How many bytes of whole blocks there are.
fn whole_blocks(bytes: &[u8]) -> Result<usize, PackError> {
    let mut at = 0;
    while let Some(fixed) = bytes.get(at..at + BlockHeader::FIXED) {
        let header = header_length(fixed)?;
        if bytes.len() < at + header {
            break;
        }
        // Lengths that lie are refused before anyone waits for what they promise.
        let (said, _) = BlockHeader::read(&bytes[at..at + header])?;
        if bytes.len() < at + header + said.stored as usize {
            break;
        }
        at += header + said.stored as usize;
    }
    Ok(at)
}

type Looked = (Vec<u8>, Vec<u8>, usize);

/// Opens every block; gives them as they are to be stored, their headers, and how many chunks there are.
fn look_through(mut blocks: &[u8], key: Option<&super::BlobKey>) -> Result<Looked, BlobError> {
    let (mut pack, mut headers, mut chunks) = (Vec::with_capacity(blocks.len()), Vec::new(), 0);
    while !blocks.is_empty() {
        let (header, after) = BlockHeader::read(blocks)?;
        let (body, after) = after.split_at_checked(header.stored as usize).ok_or(PackError::CutOff)?;
        open_block(&header, body)?;
        chunks += header.chunks.len();
        let mut block = Block { header, body: body.to_vec() };
        if let Some(key) = key {
            block = key.seal(block)?;
        }
        let head = block.header.bytes();
        pack.extend_from_slice(&head);
        headers.extend(head);
        pack.extend(block.body);
        blocks = after;
    }
    Ok((pack, headers, chunks))
}
