//! What is sent elsewhere: a file whole, or several as a layer; and why it could not be sent, in words.

use crate::beneath::Beneath;
use sha2::{Digest, Sha256};
use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// How much a registry's client is asked to hold in memory.
const LARGEST: u64 = 2 * 1024 * 1024 * 1024;

/// User and password.
pub(crate) type Login = Option<(String, String)>;

/// An error with its causes, within what fits into a line.
pub(crate) fn chain(error: &dyn std::error::Error) -> String {
    let mut said = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        said = format!("{said}: {error}");
        cause = error.source();
    }
    said.chars().take(400).collect()
}

/// Files as a layer: gzip over tar, the same bytes for the same files.
pub(crate) struct Layer {
    pub(crate) bytes: Vec<u8>,
    /// The digest of the tar within.
    pub(crate) plain: String,
}

impl Layer {
    pub(crate) fn pack(root: &Beneath, paths: &[PathBuf]) -> Result<Layer, String> {
        let size: u64 = paths.iter().filter_map(|path| root.stat(path).ok()).map(|meta| meta.len()).sum();
        if size > LARGEST {
            return Err(format!("it has {} MiB; at most {} are sent to a registry", size >> 20, LARGEST >> 20));
        }
        let hashing = Hashing { inner: flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()), hash: Sha256::new() };
        let mut builder = tar::Builder::new(hashing);
        builder.mode(tar::HeaderMode::Deterministic);
        builder.follow_symlinks(false);
        let said = |error: io::Error| error.to_string();
        for path in paths {
            append(&mut builder, root, path).map_err(said)?;
        }
        let hashing = builder.into_inner().map_err(said)?;
        let bytes = hashing.inner.finish().map_err(said)?;
        Ok(Layer { bytes, plain: ordotaxis_content::digest_text(&hashing.hash.finalize().into()) })
    }
}

/// One file or link, as it is at this moment.
fn append<W: Write>(builder: &mut tar::Builder<W>, root: &Beneath, path: &Path) -> io::Result<()> {
    let meta = root.stat(path)?;
    let mut header = tar::Header::new_gnu();
    header.set_metadata_in_mode(&meta, tar::HeaderMode::Deterministic);
    if meta.is_symlink() {
        header.set_size(0);
        let target = root.link_target(path)?;
        return builder.append_link(&mut header, path, Path::new(std::ffi::OsStr::from_bytes(&target)));
    }
    let file = root.file(path)?;
    // A file that grows or shrinks meanwhile would break the archive: it gets the length that it has now.
    let size = file.metadata()?.len();
    header.set_size(size);
    builder.append_data(&mut header, path, file.take(size).chain(io::repeat(0)).take(size))
}

/// The file to be sent, within what is held in memory.
pub(crate) fn whole(root: &Beneath, path: &Path) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    root.file(path)?.take(LARGEST + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > LARGEST {
        return Err(io::Error::other(format!("it is larger than {} MiB", LARGEST >> 20)));
    }
    Ok(bytes)
}

struct Hashing<W> {
    inner: W,
    hash: Sha256,
}

impl<W: Write> Write for Hashing<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.hash.update(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
