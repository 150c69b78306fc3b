//! Artifacts as archives: tar, compressed with zstd, entries in order of their paths with plain headers, so that the
//! same files give the same digest. Nothing that leads outside the job's folder goes in or comes out.

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Component, Path, PathBuf};

/// Level 1 packs at hundreds of MB/s for each core; higher levels cost more time than they save here.
const LEVEL: i32 = 1;

#[derive(Debug, thiserror::Error)]
pub(crate) enum ArchiveError {
    #[error("`{0}` is not a glob")]
    Glob(String),
    #[error("`{}` leads outside the job's folder", .0.display())]
    Outside(PathBuf),
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
}

fn io(path: &Path) -> impl Fn(std::io::Error) -> ArchiveError + use<'_> {
    move |source| ArchiveError::Io { path: path.to_owned(), source }
}

/// Files and links below `root` that the globs choose, or that lie in a folder they choose; by path from `root`.
pub(crate) fn chosen(root: &Path, globs: &[String]) -> Result<Vec<PathBuf>, ArchiveError> {
    let mut set = GlobSetBuilder::new();
    for glob in globs {
        set.add(
            GlobBuilder::new(glob.trim_end_matches('/')).literal_separator(true).build().map_err(|_| ArchiveError::Glob(glob.clone()))?,
        );
    }
    let set = set.build().map_err(|error| ArchiveError::Glob(error.to_string()))?;
    let mut found = BTreeSet::new();
    for glob in globs {
        let base = root.join(fixed_part(glob));
        for entry in walkdir::WalkDir::new(&base).follow_links(false).follow_root_links(false).into_iter().filter_map(Result::ok) {
            let Ok(path) = entry.path().strip_prefix(root) else { continue };
            if !entry.file_type().is_dir() && fits(&set, path) {
                check_inside(root, entry.path(), path)?;
                found.insert(path.to_owned());
            }
        }
    }
    Ok(found.into_iter().collect())
}

/// The folders before the first wildcard: there is no need to look elsewhere.
fn fixed_part(glob: &str) -> PathBuf {
    Path::new(glob).components().take_while(|part| !part.as_os_str().to_string_lossy().contains(['*', '?', '[', '{'])).collect()
}

fn fits(set: &GlobSet, path: &Path) -> bool {
    path.ancestors().any(|part| set.is_match(part))
}

/// A chosen path must really lie below the root, and a link must not point out of it.
fn check_inside(root: &Path, full: &Path, path: &Path) -> Result<(), ArchiveError> {
    let real_root = root.canonicalize().map_err(io(root))?;
    let folder = full.parent().unwrap_or(root);
    if !folder.canonicalize().map_err(io(folder))?.starts_with(&real_root) {
        return Err(ArchiveError::Outside(path.to_owned()));
    }
    let Ok(target) = std::fs::read_link(full) else { return Ok(()) };
    let mut depth = path.components().count().saturating_sub(1);
    for part in target.components() {
        match part {
            Component::Normal(_) => depth += 1,
            Component::CurDir => {}
            Component::ParentDir if depth > 0 => depth -= 1,
            _ => return Err(ArchiveError::Outside(path.to_owned())),
        }
    }
    Ok(())
}

/// A packed archive: its digest (`sha256:…`) and size in bytes.
pub(crate) struct Packed {
    pub(crate) digest: String,
    pub(crate) bytes: u64,
}

pub(crate) fn pack(root: &Path, paths: &[PathBuf], into: &Path) -> Result<Packed, ArchiveError> {
    let file = File::create(into).map_err(io(into))?;
    let hashing = Hashing { inner: std::io::BufWriter::new(file), hash: Sha256::new(), bytes: 0 };
    let encoder = zstd::Encoder::new(hashing, LEVEL).map_err(io(into))?;
    let mut builder = tar::Builder::new(encoder);
    builder.mode(tar::HeaderMode::Deterministic);
    builder.follow_symlinks(false);
    for path in paths {
        builder.append_path_with_name(root.join(path), path).map_err(io(path))?;
    }
    let encoder = builder.into_inner().map_err(io(into))?;
    let mut hashing = encoder.finish().map_err(io(into))?;
    hashing.inner.flush().map_err(io(into))?;
    Ok(Packed { digest: format!("sha256:{}", hex(&hashing.hash.finalize())), bytes: hashing.bytes })
}

/// Unpacks below `into`; entries that would land outside are refused.
pub(crate) fn unpack(archive: &Path, into: &Path) -> Result<(), ArchiveError> {
    std::fs::create_dir_all(into).map_err(io(into))?;
    let file = File::open(archive).map_err(io(archive))?;
    let mut tar = tar::Archive::new(zstd::Decoder::new(file).map_err(io(archive))?);
    tar.set_overwrite(true);
    tar.set_preserve_mtime(false);
    for entry in tar.entries().map_err(io(archive))? {
        let mut entry = entry.map_err(io(archive))?;
        let path = entry.path().map_err(io(archive))?.into_owned();
        if !entry.unpack_in(into).map_err(io(&path))? {
            return Err(ArchiveError::Outside(path));
        }
    }
    Ok(())
}

/// Unpacks an archive whose digest is the promised one; says in a sentence what is wrong otherwise.
pub fn unpack_checked(archive: &Path, digest: &str, into: &Path) -> Result<(), String> {
    let got = digest_of(archive).map_err(|error| error.to_string())?;
    if got != digest {
        return Err(format!("it arrived damaged: its digest is {got}, not {digest}"));
    }
    unpack(archive, into).map_err(|error| error.to_string())
}

/// The digest of a file, read in pieces.
pub(crate) fn digest_of(path: &Path) -> Result<String, ArchiveError> {
    let mut file = File::open(path).map_err(io(path))?;
    let mut hash = Sha256::new();
    let mut piece = vec![0; 256 * 1024];
    loop {
        match file.read(&mut piece).map_err(io(path))? {
            0 => return Ok(format!("sha256:{}", hex(&hash.finalize()))),
            count => hash.update(&piece[..count]),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

struct Hashing<W> {
    inner: W,
    hash: Sha256,
    bytes: u64,
}

impl<W: Write> Write for Hashing<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.hash.update(&bytes[..count]);
        self.bytes += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn tree() -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("out/deep")).unwrap();
        for (path, text) in [("out/gauge-a", "a"), ("out/gauge-b", "b"), ("out/deep/log.txt", "l"), ("src.c", "c")] {
            std::fs::write(folder.path().join(path), text).unwrap();
        }
        folder
    }

    fn names(root: &Path, globs: &[&str]) -> Vec<String> {
        let globs: Vec<String> = globs.iter().map(|glob| (*glob).to_owned()).collect();
        chosen(root, &globs).unwrap().iter().map(|path| path.display().to_string()).collect()
    }

    #[test]
    fn globs_and_folders_choose_files() {
        let folder = tree();
        assert_eq!(names(folder.path(), &["out/gauge-*"]), ["out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out"]), ["out/deep/log.txt", "out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out/**/*.txt", "src.c"]), ["out/deep/log.txt", "src.c"]);
        assert!(names(folder.path(), &["nothing/*"]).is_empty());
    }

    #[test]
    fn the_same_files_give_the_same_digest_and_come_back() {
        let (folder, other) = (tree(), tree());
        let paths = chosen(folder.path(), &["out".into()]).unwrap();
        let first = pack(folder.path(), &paths, &folder.path().join("a.tar.zst")).unwrap();
        let second = pack(other.path(), &paths, &other.path().join("b.tar.zst")).unwrap();
        assert_eq!(first.digest, second.digest);
        assert_eq!(digest_of(&folder.path().join("a.tar.zst")).unwrap(), first.digest);
        let into = tempfile::tempdir().unwrap();
        unpack(&folder.path().join("a.tar.zst"), into.path()).unwrap();
        assert_eq!(std::fs::read_to_string(into.path().join("out/deep/log.txt")).unwrap(), "l");
    }

    #[test]
    fn what_leads_outside_is_refused() {
        let folder = tree();
        symlink("/etc/passwd", folder.path().join("out/absolute")).unwrap();
        assert!(matches!(chosen(folder.path(), &["out/absolute".into()]), Err(ArchiveError::Outside(_))));
        symlink("../../above", folder.path().join("out/climbing")).unwrap();
        assert!(matches!(chosen(folder.path(), &["out/climbing".into()]), Err(ArchiveError::Outside(_))));
        symlink("../src.c", folder.path().join("out/inner")).unwrap();
        assert_eq!(names(folder.path(), &["out/inner"]), ["out/inner"]);
    }

    #[test]
    fn an_archive_that_climbs_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("evil.tar.zst");
        let mut header = tar::Header::new_gnu();
        header.set_size(4);
        header.set_mode(0o644);
        header.as_old_mut().name[..10].copy_from_slice(b"../escaped");
        header.set_cksum();
        let mut raw = tar::Builder::new(zstd::Encoder::new(File::create(&path).unwrap(), 1).unwrap());
        raw.append(&header, &b"evil"[..]).unwrap();
        raw.into_inner().unwrap().finish().unwrap();
        let into = folder.path().join("job");
        assert!(unpack(&path, &into).is_err());
        assert!(!folder.path().join("escaped").exists());
    }
}
