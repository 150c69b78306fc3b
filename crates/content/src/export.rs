//! Trees as files that other programs read: one file, a tar archive, a zip archive. The same tree gives the same bytes.

use crate::chunk::ChunkId;
use crate::tree::{Entry, Kind, Tree};
use std::ffi::OsStr;
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// Why a tree could not be written as a file or an archive.
#[derive(Debug, thiserror::Error)]
pub enum ExportError {
    #[error("the store could not give a part of `{path}`")]
    Chunk {
        path: String,
        #[source]
        source: io::Error,
    },
    #[error("the archive could not be written")]
    Write(#[from] io::Error),
    #[error("the zip archive could not be written")]
    Zip(#[from] zip::result::ZipError),
}

/// Where chunks are read from.
pub trait ReadChunks {
    fn chunk(&mut self, id: &ChunkId) -> io::Result<Vec<u8>>;
}

/// One file's bytes.
pub fn export_file(entry: &Entry, chunks: &mut dyn ReadChunks, out: &mut dyn Write) -> Result<(), ExportError> {
    for (id, _) in entry.chunks() {
        let bytes = chunks.chunk(id).map_err(|source| ExportError::Chunk { path: entry.name(), source })?;
        out.write_all(&bytes)?;
    }
    Ok(())
}

/// A tar archive (POSIX pax, with GNU names for long paths) with modes, times and links.
pub fn export_tar(tree: &Tree, chunks: &mut dyn ReadChunks, out: &mut dyn Write) -> Result<(), ExportError> {
    let mut builder = tar::Builder::new(out);
    for entry in tree.entries() {
        let path = Path::new(OsStr::from_bytes(&entry.path));
        let mut header = tar::Header::new_gnu();
        match &entry.kind {
            Kind::Folder { mode } => {
                header.set_entry_type(tar::EntryType::Directory);
                header.set_mode(*mode);
                header.set_size(0);
                builder.append_data(&mut header, path, io::empty())?;
            }
            Kind::Link { target } => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_mode(0o777);
                header.set_size(0);
                builder.append_link(&mut header, path, Path::new(OsStr::from_bytes(target)))?;
            }
            Kind::File { mode, modified, size, .. } => {
                header.set_mode(*mode);
                header.set_size(*size);
                header.set_mtime(u64::try_from(modified / 1_000_000_000).unwrap_or(0));
                let reader = FileReader { entry, chunks, next: 0, left: io::Cursor::new(Vec::new()) };
                builder.append_data(&mut header, path, reader)?;
            }
        }
    }
    builder.finish()?;
    Ok(())
}

/// Reads a file chunk by chunk.
struct FileReader<'a> {
    entry: &'a Entry,
    chunks: &'a mut dyn ReadChunks,
    next: usize,
    left: io::Cursor<Vec<u8>>,
}

impl io::Read for FileReader<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        loop {
            let count = self.left.read(into)?;
            let chunks = self.entry.chunks();
            if count > 0 || into.is_empty() || self.next == chunks.len() {
                return Ok(count);
            }
            self.left = io::Cursor::new(self.chunks.chunk(&chunks[self.next].0)?);
            self.next += 1;
        }
    }
}

/// A zip archive with modes and links; its times are to two seconds and in UTC, as the format has them.
pub fn export_zip(tree: &Tree, chunks: &mut dyn ReadChunks, out: &mut dyn Write) -> Result<(), ExportError> {
    let mut zip = zip::ZipWriter::new_stream(out);
    for entry in tree.entries() {
        let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
        match &entry.kind {
            Kind::Folder { mode } => zip.add_directory(entry.name(), options.unix_permissions(*mode))?,
            Kind::Link { target } => zip.add_symlink(entry.name(), String::from_utf8_lossy(target), options)?,
            Kind::File { mode, size, .. } => {
                let large = *size >= u64::from(u32::MAX);
                zip.start_file(entry.name(), options.unix_permissions(*mode).large_file(large))?;
                export_file(entry, chunks, &mut zip)?;
            }
        }
    }
    zip.finish()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashMap;
    use std::process::Command;

    struct Kept(HashMap<ChunkId, Vec<u8>>);

    impl ReadChunks for Kept {
        fn chunk(&mut self, id: &ChunkId) -> io::Result<Vec<u8>> {
            self.0.get(id).cloned().ok_or_else(|| io::Error::other("gone"))
        }
    }

    fn scene() -> (Tree, Kept) {
        let text = b"12.5 north-pier\n".repeat(100_000);
        let pieces: Vec<Vec<u8>> = crate::cut(&text).map(|piece| text[piece].to_vec()).collect();
        let chunks: Vec<(ChunkId, u32)> = pieces.iter().map(|piece| (ChunkId::of(piece), u32::try_from(piece.len()).unwrap())).collect();
        let file = |path: &str, mode, chunks: Vec<(ChunkId, u32)>, size| Entry {
            path: path.into(),
            kind: Kind::File { mode, modified: 1_700_000_000_000_000_000, size, sha256: None, chunks },
        };
        let long = format!("out/{}readings.txt", "deep/".repeat(40));
        let entries = vec![
            Entry { path: b"empty".to_vec(), kind: Kind::Folder { mode: 0o755 } },
            file("out/run.sh", 0o755, vec![], 0),
            file(&long, 0o644, chunks.clone(), text.len() as u64),
            Entry { path: b"out/latest".to_vec(), kind: Kind::Link { target: b"run.sh".to_vec() } },
        ];
        (Tree::new(entries).unwrap(), Kept(chunks.into_iter().map(|(id, _)| id).zip(pieces).collect()))
    }

    fn shell(folder: &Path, command: &str) -> String {
        let output = Command::new("sh").args(["-euc", command]).current_dir(folder).output().unwrap();
        assert!(output.status.success(), "{command}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Read by other programs than ours.
    #[test]
    fn archives_are_read_by_the_tools_people_have() {
        let folder = tempfile::tempdir().unwrap();
        let (tree, mut kept) = scene();
        let (mut tar, mut zip) = (Vec::new(), Vec::new());
        export_tar(&tree, &mut kept, &mut tar).unwrap();
        export_zip(&tree, &mut kept, &mut zip).unwrap();
        std::fs::write(folder.path().join("a.tar"), &tar).unwrap();
        std::fs::write(folder.path().join("a.zip"), &zip).unwrap();
        let look = "test -x out/run.sh && test -d empty && readlink out/latest && wc -c < $(find out -name readings.txt)";
        let got = shell(folder.path(), &format!("mkdir t && cd t && tar -xf ../a.tar && {look} && stat -c %Y out/run.sh"));
        assert_eq!(got, "run.sh\n1600000\n1700000000\n");
        let unzip = "import zipfile,sys; z=zipfile.ZipFile('../a.zip'); assert z.testzip() is None; print(len(z.namelist()), z.getinfo('out/run.sh').external_attr >> 16 & 0o777)";
        let got = shell(folder.path(), &format!("mkdir z && cd z && python3 -c \"{unzip}\""));
        assert_eq!(got, "4 493\n");
        let mut once_more = Vec::new();
        export_tar(&tree, &mut kept, &mut once_more).unwrap();
        assert_eq!(once_more, tar);
    }

    #[test]
    fn a_chunk_that_is_gone_is_told_with_its_file() {
        let (tree, _) = scene();
        let mut nothing = Kept(HashMap::new());
        let error = export_zip(&tree, &mut nothing, &mut Vec::new()).unwrap_err();
        assert!(error.to_string().contains("readings.txt"), "{error}");
        assert!(export_tar(&tree, &mut nothing, &mut Vec::new()).is_err());
    }
}
