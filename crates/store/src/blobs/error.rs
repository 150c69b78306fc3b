//! Why something is not stored or not read.

use crate::records::StoreError;
use ordotaxis_content::{ChunkId, PackError, TreeError};
use std::path::PathBuf;

/// Why something is not stored or not read. [`BlobError::is_passing`] says whether trying again can help.
#[derive(Debug, thiserror::Error)]
pub enum BlobError {
    #[error("what was sent is not a pack: {0}")]
    Pack(#[from] PackError),
    #[error("a pack may have {} MiB; this one is larger", LARGEST_PACK >> 20)]
    TooLarge,
    #[error("the store does not have chunk {0}")]
    NoChunk(ChunkId),
    #[error("a tree in the store cannot be read: {0}")]
    Tree(#[from] TreeError),
    #[error("the tree holds more than {0} GiB of files")]
    Bomb(u64),
    #[error("the store cannot be reached or refuses: {0}")]
    Storage(String),
    #[error("nothing was put there")]
    NothingPut,
    #[error("a part of the store cannot be opened with its key, or was changed")]
    Sealed,
    #[error("the store's folder {} could not be made", path.display())]
    Folder {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error(transparent)]
    Records(#[from] StoreError),
}

impl From<object_store::Error> for BlobError {
    fn from(error: object_store::Error) -> BlobError {
        BlobError::Storage(plainly(&error))
    }
}

/// The chain of causes in one line: the outermost alone names only the address.
pub(super) fn plainly(error: &dyn std::error::Error) -> String {
    let mut said = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let more = error.to_string();
        if !said.contains(&more) {
            said = format!("{said}: {more}");
        }
        cause = error.source();
    }
    said.chars().take(600).collect()
}

impl BlobError {
    /// Whether the same may succeed later.
    pub fn is_passing(&self) -> bool {
        matches!(self, BlobError::Storage(_) | BlobError::Records(_))
    }
}

/// The largest pack that is taken. Runners send smaller ones.
pub(super) const LARGEST_PACK: usize = 64 * 1024 * 1024;
