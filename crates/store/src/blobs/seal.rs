//! Encryption at rest. The body of each block is sealed with XChaCha20-Poly1305 (an AEAD; draft-irtf-cfrg-xchacha): 24
//! random bytes of nonce, then the sealed body. What the block says of its chunks is sealed in, so that bodies cannot be
//! exchanged. The names of chunks stay readable; they are digests and reveal only which chunks are equal.

use super::error::BlobError;
use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{Key, KeyInit, XChaCha20Poly1305, XNonce};
use ordotaxis_content::{Block, BlockHeader};
use std::path::Path;

const NONCE: usize = 24;

/// Seals and opens. Never shown.
#[derive(Clone)]
pub struct BlobKey(XChaCha20Poly1305);

impl std::fmt::Debug for BlobKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BlobKey(…)")
    }
}

impl BlobKey {
    /// From a file of 32 bytes.
    pub fn read(path: &Path) -> std::io::Result<BlobKey> {
        let bytes: [u8; 32] = std::fs::read(path)?
            .try_into()
            .map_err(|_| std::io::Error::other("a key file holds 32 bytes; `head -c 32 /dev/urandom > FILE` makes one"))?;
        Ok(BlobKey(XChaCha20Poly1305::new(&Key::from(bytes))))
    }

    /// Encrypts a block's body; its header is authenticated with it.
    pub(super) fn seal(&self, block: Block) -> Result<Block, BlobError> {
        let nonce: [u8; NONCE] = rand::random();
        let about = about(&block.header);
        let sealed = self.0.encrypt(&XNonce::from(nonce), Payload { msg: &block.body, aad: &about }).map_err(|_| BlobError::Sealed)?;
        let body = [&nonce[..], &sealed].concat();
        let stored = u32::try_from(body.len()).map_err(|_| BlobError::Sealed)?;
        Ok(Block { header: BlockHeader { stored, ..block.header }, body })
    }

    /// The reverse. An error when block, header or key is another.
    pub(super) fn open(&self, block: &Block) -> Result<Block, BlobError> {
        let (nonce, sealed) = block.body.split_at_checked(NONCE).ok_or(BlobError::Sealed)?;
        let nonce: [u8; NONCE] = nonce.try_into().map_err(|_| BlobError::Sealed)?;
        let about = about(&block.header);
        let body = self.0.decrypt(&XNonce::from(nonce), Payload { msg: sealed, aad: &about }).map_err(|_| BlobError::Sealed)?;
        let stored = u32::try_from(body.len()).map_err(|_| BlobError::Sealed)?;
        Ok(Block { header: BlockHeader { stored, ..block.header.clone() }, body })
    }
}

/// The header without the stored length, which sealing changes.
fn about(header: &BlockHeader) -> Vec<u8> {
    BlockHeader { stored: 0, ..header.clone() }.bytes()
}
