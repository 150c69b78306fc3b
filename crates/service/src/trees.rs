//! The chunks of trees that are being fetched, kept for a while: runners ask for a tree in several calls, and several
//! runners for the same one.

use ordotaxis_content::ChunkId;
use ordotaxis_store::{BlobError, Blobs};
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

/// How many chunks are kept in mind in all: about 150 MB.
const MOST: usize = 2_000_000;

type Chunks = Arc<HashSet<ChunkId>>;

#[derive(Default, Clone)]
pub(crate) struct Trees(Arc<Mutex<VecDeque<(ChunkId, Chunks)>>>);

impl Trees {
    pub(crate) async fn chunks_of(&self, blobs: &Blobs, tree: ChunkId) -> Result<Chunks, BlobError> {
        if let Some(known) = self.known(tree) {
            return Ok(known);
        }
        let chunks = Arc::new(blobs.chunks_of(&tree).await?);
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push_back((tree, chunks.clone()));
        while kept.len() > 1 && kept.iter().map(|(_, chunks)| chunks.len()).sum::<usize>() > MOST {
            kept.pop_front();
        }
        Ok(chunks)
    }

    /// One that is kept; it becomes the newest.
    fn known(&self, tree: ChunkId) -> Option<Chunks> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(known, _)| *known == tree)?;
        let found = kept.remove(at)?;
        kept.push_back(found.clone());
        Some(found.1)
    }
}
