//! What is stored and sent once: files cut into chunks that are named by what they hold, packed into compressed blocks.
//!
//! Service and runner speak in these: a **tree** lists files with their chunks; a **chunk** is a piece of a file, named
//! by its BLAKE3 digest; a **pack** is a row of blocks, each some chunks compressed together. Nothing here does I/O but
//! on what it is handed. Data from elsewhere is never believed: blocks are checked chunk by chunk, trees entry by entry.

mod chunk;
mod export;
mod pack;
mod tree;

pub use chunk::{AVERAGE_CHUNK, ChunkId, LARGEST_CHUNK, cut};
pub use export::{ExportError, ReadChunks, export_file, export_tar, export_zip};
pub use pack::{
    BLOCK_RAW, Block, BlockHeader, BlockWriter, HEADER_LIMIT, LARGEST_BLOCK, MAGIC, PackError, Packer, header_length, open_block,
};
pub use tree::{Entry, Kind, Listing, Root, Tree, TreeError, digest_text, hex, leads_outside};
