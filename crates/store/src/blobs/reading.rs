//! Chunks going out: to runners as rows of blocks, as they are stored; to the service itself one by one.

use super::index::{BlockAt, ChunkAt};
use super::intake::path_of;
use super::opened::{At, Opened};
use super::{BlobError, Blobs};
use bytes::Bytes;
use futures_util::stream::{self, Stream, StreamExt};
use object_store::ObjectStoreExt;
use ordotaxis_content::{Block, BlockHeader, BlockWriter, ChunkId, PackError, Root, Tree, open_block};
use std::collections::{BTreeSet, HashSet};
use std::ops::Range;
use std::sync::{Arc, MutexGuard, PoisonError};

/// Neighbouring blocks are read together up to about this much.
const PIECE: u64 = 4 * 1024 * 1024;
/// A tree may stand for this much on a runner's disk.
const LARGEST_TREE_GIB: u64 = 256;

/// Neighbouring blocks of one pack.
#[derive(Debug, Clone)]
pub(super) struct Piece {
    pub(super) name: String,
    pub(super) sealed: bool,
    pub(super) range: Range<u64>,
    blocks: Vec<BlockAt>,
}

impl Blobs {
    /// The blocks that hold these chunks, each once, in the order in which they are stored. Of a block that holds something
    /// else than what may be read, a new one is made without that. The first piece is read before this returns, so that
    /// storage that is away is an error before anything is sent.
    pub async fn blocks(
        &self,
        ids: &[ChunkId],
        may_read: Arc<HashSet<ChunkId>>,
    ) -> Result<impl Stream<Item = Result<Bytes, BlobError>> + Send + 'static, BlobError> {
        let mut pieces = self.pieces(ids, PIECE)?.into_iter();
        let first = match pieces.next() {
            Some(piece) => Some(Ok(self.readable(piece, may_read.clone()).await?)),
            None => None,
        };
        let blobs = self.clone();
        // The next piece is read while one is on its way.
        let rest = stream::iter(pieces).map(move |piece| {
            let (blobs, may_read) = (blobs.clone(), may_read.clone());
            async move { blobs.readable(piece, may_read).await }
        });
        Ok(stream::iter(first).chain(rest.buffered(2)))
    }

    /// Where these chunks lie; neighbouring blocks are one piece up to about `most` bytes.
    pub(super) fn pieces(&self, ids: &[ChunkId], most: u64) -> Result<Vec<Piece>, BlobError> {
        let index = self.index();
        let places: BTreeSet<At> =
            ids.iter().map(|id| index.get(id).map(|at| (at.pack, at.block)).ok_or(BlobError::NoChunk(*id))).collect::<Result<_, _>>()?;
        let mut pieces: Vec<Piece> = Vec::new();
        for (pack, block) in places {
            let Some(known) = index.packs.get(&pack) else { continue };
            let Some(&block) = known.blocks.get(block as usize) else { continue };
            let range = block.range();
            match pieces.last_mut() {
                Some(last) if last.name == known.name && last.range.end == range.start && last.range.end - last.range.start < most => {
                    last.range.end = range.end;
                    last.blocks.push(block);
                }
                _ => pieces.push(Piece { name: known.name.clone(), sealed: known.sealed, range, blocks: vec![block] }),
            }
        }
        Ok(pieces)
    }

    /// A piece without the chunks that may not be read: blocks are shared by all that was sent together.
    async fn readable(&self, piece: Piece, may_read: Arc<HashSet<ChunkId>>) -> Result<Bytes, BlobError> {
        let bytes = self.piece(piece).await?;
        if headers(&bytes)?.iter().all(|header| fits(header, &may_read)) {
            return Ok(bytes);
        }
        let made = tokio::task::spawn_blocking(move || {
            let mut open = Vec::with_capacity(bytes.len());
            for block in split(&bytes)? {
                let blocks = if fits(&block.header, &may_read) { vec![block] } else { without(&block, &may_read)? };
                for block in blocks {
                    open.extend(block.header.bytes());
                    open.extend(block.body);
                }
            }
            Ok::<_, BlobError>(Bytes::from(open))
        });
        made.await.map_err(|_| BlobError::Pack(PackError::Body))?
    }

    /// As it goes over the wire: sealed blocks are opened.
    async fn piece(&self, piece: Piece) -> Result<Bytes, BlobError> {
        let bytes = self.stored(&piece).await?;
        if !piece.sealed {
            return Ok(bytes);
        }
        let key = self.0.key.clone().ok_or(BlobError::Sealed)?;
        let mut open = Vec::with_capacity(bytes.len());
        for block in split(&bytes)? {
            let block = key.open(&block)?;
            open.extend(block.header.bytes());
            open.extend(block.body);
        }
        Ok(open.into())
    }

    async fn stored(&self, piece: &Piece) -> Result<Bytes, BlobError> {
        let wanted = piece.range.end - piece.range.start;
        let bytes = self.0.packs.get_range(&path_of(&piece.name), piece.range.clone()).await?;
        if bytes.len() as u64 == wanted {
            return Ok(bytes);
        }
        Err(BlobError::Storage(format!("pack {} gave {} bytes in place of {wanted}", piece.name, bytes.len())))
    }

    /// One chunk, checked against its digest.
    pub async fn chunk(&self, id: &ChunkId) -> Result<Vec<u8>, BlobError> {
        let at = self.index().get(id).ok_or(BlobError::NoChunk(*id))?;
        let block = self.opened(id, at).await?;
        let place = at.from as usize..(at.from + at.length) as usize;
        block.get(place).map(<[u8]>::to_vec).ok_or(BlobError::Pack(PackError::Body))
    }

    async fn opened(&self, id: &ChunkId, at: ChunkAt) -> Result<Arc<Vec<u8>>, BlobError> {
        let key = (at.pack, at.block);
        let known = self.opened_lately().get(key);
        if let Some(block) = known {
            return Ok(block);
        }
        let piece = self.pieces(&[*id], PIECE)?.pop().ok_or(BlobError::NoChunk(*id))?;
        let bytes = self.piece(piece).await?;
        let block = split(&bytes)?.pop().ok_or(BlobError::NoChunk(*id))?;
        let raw = Arc::new(open_block(&block.header, &block.body)?);
        self.opened_lately().keep(key, raw.clone());
        Ok(raw)
    }

    fn opened_lately(&self) -> MutexGuard<'_, Opened> {
        self.0.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The sums of a tree.
    pub async fn root(&self, tree: &ChunkId) -> Result<Root, BlobError> {
        Ok(Root::read(&self.chunk(tree).await?)?)
    }

    /// Every chunk of a tree, and of the list that says what is in it.
    pub async fn chunks_of(&self, id: &ChunkId) -> Result<HashSet<ChunkId>, BlobError> {
        let root = self.root(id).await?;
        let tree = self.listed(&root).await?;
        let list = root.list.iter().map(|(chunk, _)| *chunk);
        let files = tree.entries().iter().flat_map(|entry| entry.chunks()).map(|(chunk, _)| *chunk);
        Ok([*id].into_iter().chain(list).chain(files).collect())
    }

    /// A whole tree, looked through.
    pub async fn tree(&self, tree: &ChunkId) -> Result<Tree, BlobError> {
        self.listed(&self.root(tree).await?).await
    }

    async fn listed(&self, root: &Root) -> Result<Tree, BlobError> {
        let mut list = Vec::new();
        for (id, length) in &root.list {
            let chunk = self.chunk(id).await?;
            if chunk.len() != *length as usize {
                return Err(BlobError::Tree(ordotaxis_content::TreeError::Sum));
            }
            list.extend(chunk);
        }
        Ok(Tree::read(root, &list)?)
    }

    /// Looks through a tree that is to be named: all its chunks must be there, as long together as its files say, and it
    /// must not be a bomb. Call it while [`Blobs::naming`] is held.
    pub async fn complete(&self, tree: &ChunkId, now: i64) -> Result<Tree, BlobError> {
        let tree = self.tree(tree).await?;
        if tree.bytes() > LARGEST_TREE_GIB << 30 {
            return Err(BlobError::Bomb(LARGEST_TREE_GIB));
        }
        let index = self.index();
        for entry in tree.entries() {
            for (chunk, length) in entry.chunks() {
                let at = index.get(chunk).filter(|_| index.promise(chunk, now)).ok_or(BlobError::NoChunk(*chunk))?;
                if at.length != *length {
                    return Err(BlobError::Tree(ordotaxis_content::TreeError::Size(entry.name())));
                }
            }
        }
        Ok(tree)
    }
}

/// Whether all of a block may be read.
fn fits(header: &BlockHeader, may_read: &HashSet<ChunkId>) -> bool {
    header.chunks.iter().all(|(id, _)| may_read.contains(id))
}

/// Those of a block's chunks that may be read, in blocks of their own.
fn without(block: &Block, may_read: &HashSet<ChunkId>) -> Result<Vec<Block>, BlobError> {
    let raw = open_block(&block.header, &block.body)?;
    let mut writer = BlockWriter::new()?;
    let mut made = Vec::new();
    for (id, place) in block.header.places().filter(|(id, _)| may_read.contains(id)) {
        made.extend(writer.add(id, &raw[place])?);
    }
    made.extend(writer.close()?);
    Ok(made)
}

/// What rows of blocks say of themselves.
fn headers(mut bytes: &[u8]) -> Result<Vec<BlockHeader>, BlobError> {
    let mut headers = Vec::new();
    while !bytes.is_empty() {
        let (header, after) = BlockHeader::read(bytes)?;
        bytes = after.get(header.stored as usize..).ok_or(PackError::CutOff)?;
        headers.push(header);
    }
    Ok(headers)
}

/// Rows of blocks as they are stored.
pub(super) fn split(mut bytes: &[u8]) -> Result<Vec<Block>, BlobError> {
    let mut blocks = Vec::new();
    while !bytes.is_empty() {
        let (header, after) = BlockHeader::read(bytes)?;
        let (body, after) = after.split_at_checked(header.stored as usize).ok_or(PackError::CutOff)?;
        blocks.push(Block { header, body: body.to_vec() });
        bytes = after;
    }
    Ok(blocks)
}
