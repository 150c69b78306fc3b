//! The chunks of trees that are being fetched, kept for a while: runners ask for a tree in several calls, and several
//! runners for the same one.

use ordotaxis_content::ChunkId;
use ordotaxis_store::{BlobError, Blobs};
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

/// How many chunks are remembered in all: about 150 MB.
const MOST: usize = 2_000_000;

type Chunks = Arc<HashSet<ChunkId>>;

/// The chunks of the trees that were asked for last, kept since each job asks for the same tree several times.
#[derive(Default, Clone)]
pub(crate) struct Trees(Arc<Mutex<VecDeque<(ChunkId, Chunks)>>>);

impl Trees {
    /// Every chunk that a tree is made of, its list included. An error when the store does not have it whole.
    pub(crate) async fn chunks_of(&self, blobs: &Blobs, tree: ChunkId) -> Result<Chunks, BlobError> {
        if let Some(known) = self.known(tree) {
            return Ok(known);
        }
        let chunks = Arc::new(blobs.chunks_of(&tree).await?);
        self.keep(tree, chunks.clone(), MOST);
        Ok(chunks)
    }

    /// Keeps it as the newest; the oldest go while all have more than `most` chunks.
    fn keep(&self, tree: ChunkId, chunks: Chunks, most: usize) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push_back((tree, chunks));
        while kept.len() > 1 && kept.iter().map(|(_, chunks)| chunks.len()).sum::<usize>() > most {
            kept.pop_front();
        }
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

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_store::{Place, Records};

    #[tokio::test]
    async fn what_is_not_there_is_told_and_not_kept() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let blobs = Blobs::open(&Place::Local(folder.path().join("blobs")), None, records).await.unwrap();
        let trees = Trees::default();
        let nothing = ChunkId::of(b"never sent");
        assert!(matches!(trees.chunks_of(&blobs, nothing).await, Err(BlobError::NoChunk(id)) if id == nothing));
        assert!(trees.known(nothing).is_none(), "an error is not kept");
    }

    #[test]
    fn the_trees_that_were_asked_for_last_are_kept() {
        let trees = Trees::default();
        let id = |n: u8| ChunkId::of(&[n]);
        for n in 0..3 {
            trees.keep(id(n), Arc::new((0..=n).map(id).collect()), 5);
        }
        assert!(trees.known(id(0)).is_none(), "one, two and three are more than five: the oldest goes");
        assert_eq!(trees.known(id(1)).map(|chunks| chunks.len()), Some(2));
        trees.keep(id(3), Arc::new(HashSet::from([id(3)])), 3);
        assert!(trees.known(id(2)).is_none() && trees.known(id(1)).is_some(), "it was asked for lately");
        trees.keep(id(4), Arc::new((0..9).map(id).collect()), 3);
        assert!(trees.known(id(4)).is_some(), "the newest stays, however large");
    }
}
