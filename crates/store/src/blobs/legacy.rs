//! Artifacts of before were archives (tar, zstd) under their digests. They are brought over once, one at a time: a row
//! names its tree only when all of that is in the store, and only then the archive goes.

use super::{BlobError, Blobs};
use crate::records::StoredArtifact;
use ordotaxis_content::{ChunkId, Entry, Kind, Tree, cut};
use sha2::{Digest, Sha256};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

impl Blobs {
    /// Brings over what is in `folder`. What cannot be read is logged and stays as it is.
    pub async fn bring_over(&self, folder: &Path, now: i64) -> Result<(), BlobError> {
        for row in self.0.records.archived_artifacts().await? {
            let hex = row.digest.trim_start_matches("sha256:");
            let path = folder.join(hex.get(..2).unwrap_or_default()).join(hex.get(2..).unwrap_or_default());
            let read = path.clone();
            let unpacked = tokio::task::spawn_blocking(move || unpack(&read)).await;
            let (tree, chunks) = match unpacked {
                Ok(Ok(unpacked)) => unpacked,
                Ok(Err(error)) => {
                    tracing::warn!(artifact = %row.name, archive = %path.display(), %error, "an artifact could not be brought over");
                    continue;
                }
                Err(_) => continue,
            };
            let listing = tree.listing();
            self.put(chunks.into_iter().chain(listing.chunks), now).await?;
            let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
            let over = StoredArtifact {
                tree: Some(listing.root.to_string()),
                digest: tree.digest().unwrap_or_default(),
                content: ChunkId(tree.content()).to_string(),
                raw_bytes: number(tree.bytes()),
                files: number(tree.files()),
                ..row
            };
            let mut tx = self.0.records.tx_by_rule("upgrade", now).await?;
            tx.bring_over(&over).await?;
            tx.commit().await?;
            let _ = std::fs::remove_file(&path);
        }
        Ok(())
    }
}

type Unpacked = (Tree, Vec<(ChunkId, Vec<u8>)>);

fn unpack(path: &Path) -> std::io::Result<Unpacked> {
    let mut archive = tar::Archive::new(zstd::Decoder::new(std::fs::File::open(path)?)?);
    let (mut entries, mut kept) = (Vec::new(), Vec::new());
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = entry.path()?.as_os_str().as_bytes().to_vec();
        if let Some(target) = entry.link_name()? {
            entries.push(Entry { path, kind: Kind::Link { target: target.as_os_str().as_bytes().to_vec() } });
            continue;
        }
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes)?;
        let mode = entry.header().mode()? & 0o777;
        let mut chunks = Vec::new();
        for piece in cut(&bytes) {
            let id = ChunkId::of(&bytes[piece.clone()]);
            chunks.push((id, u32::try_from(piece.len()).unwrap_or(u32::MAX)));
            kept.push((id, bytes[piece].to_vec()));
        }
        let kind = Kind::File { mode, modified: 0, size: bytes.len() as u64, sha256: Some(Sha256::digest(&bytes).into()), chunks };
        entries.push(Entry { path, kind });
    }
    Ok((Tree::new(entries).map_err(std::io::Error::other)?, kept))
}
