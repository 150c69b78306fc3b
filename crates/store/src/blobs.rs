//! Blobs by digest. A blob is written to a staging name while it is hashed, and published by rename only when the
//! digest is the promised one: what stands under a digest is whole, also after a crash.

use crate::key::hex;
use sha2::{Digest, Sha256};
use std::path::PathBuf;
use tokio::io::AsyncWriteExt;

#[derive(Debug, thiserror::Error)]
pub enum BlobError {
    #[error("`{0}` is not a digest: sha256: and 64 hexadecimal digits")]
    BadDigest(String),
    #[error("the bytes have another digest than the promised one: {got}")]
    Different { got: String },
    #[error("the blob store could not write {}", path.display())]
    Io {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
}

#[derive(Clone)]
pub struct Blobs {
    folder: PathBuf,
    staging: PathBuf,
}

impl Blobs {
    /// Opens the store below `folder`; staging files that a crash left are removed.
    pub fn open(folder: PathBuf) -> std::io::Result<Blobs> {
        let staging = folder.join("staging");
        if staging.exists() {
            std::fs::remove_dir_all(&staging)?;
        }
        std::fs::create_dir_all(&staging)?;
        Ok(Blobs { folder, staging })
    }

    /// Where a blob is or would be.
    pub fn path(&self, digest: &str) -> Result<PathBuf, BlobError> {
        let hex = digest
            .strip_prefix("sha256:")
            .filter(|hex| hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b)))
            .ok_or_else(|| BlobError::BadDigest(digest.to_owned()))?;
        Ok(self.folder.join(&hex[..2]).join(&hex[2..]))
    }

    pub fn has(&self, digest: &str) -> Result<bool, BlobError> {
        Ok(self.path(digest)?.exists())
    }

    /// Begins an upload; dropping it unfinished removes what was written.
    pub async fn upload(&self, digest: &str) -> Result<Upload, BlobError> {
        let target = self.path(digest)?;
        let name = format!("{:032x}", rand::random::<u128>());
        let path = self.staging.join(name);
        let file = tokio::fs::File::create(&path).await.map_err(|source| BlobError::Io { path: path.clone(), source })?;
        Ok(Upload { path, target, digest: digest.to_owned(), file, hash: Sha256::new(), bytes: 0 })
    }
}

/// A blob on its way in.
#[must_use]
pub struct Upload {
    path: PathBuf,
    target: PathBuf,
    digest: String,
    file: tokio::fs::File,
    hash: Sha256,
    bytes: u64,
}

impl Upload {
    pub async fn write(&mut self, bytes: &[u8]) -> Result<(), BlobError> {
        self.hash.update(bytes);
        self.bytes += bytes.len() as u64;
        self.file.write_all(bytes).await.map_err(|source| BlobError::Io { path: self.path.clone(), source })
    }

    /// Publishes the blob if its digest is the promised one. A blob that is already there stays.
    pub async fn finish(mut self) -> Result<u64, BlobError> {
        let got = format!("sha256:{}", hex(&std::mem::take(&mut self.hash).finalize()));
        if got != self.digest {
            return Err(BlobError::Different { got });
        }
        let fail = |source| BlobError::Io { path: self.target.clone(), source };
        self.file.flush().await.map_err(fail)?;
        self.file.sync_all().await.map_err(fail)?;
        if let Some(folder) = self.target.parent() {
            tokio::fs::create_dir_all(folder).await.map_err(fail)?;
        }
        tokio::fs::rename(&self.path, &self.target).await.map_err(fail)?;
        Ok(self.bytes)
    }
}

impl Drop for Upload {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn only_whole_and_right_blobs_are_published() {
        let folder = tempfile::tempdir().unwrap();
        let blobs = Blobs::open(folder.path().join("blobs")).unwrap();
        let digest = "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"; // of "abc"
        let mut upload = blobs.upload(digest).await.unwrap();
        upload.write(b"abd").await.unwrap();
        assert!(matches!(upload.finish().await, Err(BlobError::Different { .. })));
        assert!(!blobs.has(digest).unwrap());
        let mut upload = blobs.upload(digest).await.unwrap();
        upload.write(b"ab").await.unwrap();
        drop(upload);
        assert!(!blobs.has(digest).unwrap());
        let mut upload = blobs.upload(digest).await.unwrap();
        upload.write(b"ab").await.unwrap();
        upload.write(b"c").await.unwrap();
        assert_eq!(upload.finish().await.unwrap(), 3);
        assert!(blobs.has(digest).unwrap());
        assert_eq!(std::fs::read_dir(folder.path().join("blobs/staging")).unwrap().count(), 0);
        assert!(blobs.has("sha256:../../etc/passwd").is_err());
    }
}
