//! Which files globs choose, and archives that are unpacked. Nothing is read or written through a link.

use crate::beneath::{Beneath, is_link_error, is_missing};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use std::fs::{File, FileType};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// Why files of a job could not be read or written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ArchiveError {
    #[error("`{0}` is not a glob")]
    Glob(String),
    #[error("`{}` leads through a link or outside the job's folder; nothing is read or written there", .0.display())]
    Outside(PathBuf),
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
}

fn io(path: &Path) -> impl Fn(std::io::Error) -> ArchiveError + use<'_> {
    move |source| ArchiveError::Io { path: path.to_owned(), source }
}

/// Files and links below `root` that the globs choose, or that lie in a folder they choose; by path from `root`. With
/// `folders` also the folders that are chosen or lie in one. A link is chosen as itself, wherever it leads; nothing
/// behind one is. Of a `.git` nothing is chosen by a glob that only fits it.
pub(crate) fn chosen(root: &Beneath, globs: &[String], folders: bool) -> Result<Vec<PathBuf>, ArchiveError> {
    let mut set = GlobSetBuilder::new();
    for glob in globs {
        let plain = glob.trim_start_matches("./").trim_end_matches('/');
        set.add(GlobBuilder::new(plain).literal_separator(true).build().map_err(|_| ArchiveError::Glob(glob.clone()))?);
    }
    let set = set.build().map_err(|error| ArchiveError::Glob(error.to_string()))?;
    let mut found = Vec::new();
    for glob in globs {
        let plain = glob.trim_start_matches("./").trim_end_matches('/');
        let base = fixed_part(plain);
        let kind = match kind_of(root, &base) {
            Err(error) if is_missing(&error) => continue,
            Err(error) if is_link_error(&error) || error.kind() == std::io::ErrorKind::CrossesDevices => {
                return Err(ArchiveError::Outside(base));
            }
            other => other.map_err(io(&base))?,
        };
        // A link where the glob wants to go on: what it leads to is not looked at.
        if kind.is_symlink() && base != Path::new(plain) {
            return Err(ArchiveError::Outside(base));
        }
        let asked_for = is_below_git(&base);
        let mut look = |path: &Path, kind: FileType| {
            if !asked_for && is_below_git(path) {
                return false;
            }
            if (folders || !kind.is_dir()) && fits(&set, path) {
                found.push(path.to_owned());
            }
            true
        };
        if base != Path::new(".") {
            look(&base, kind);
        }
        if kind.is_dir() {
            root.walk(&base, &mut look).map_err(io(&base))?;
        }
    }
    found.sort_unstable();
    found.dedup();
    Ok(found)
}

/// What git keeps for itself: chosen only by a glob that names it.
fn is_below_git(path: &Path) -> bool {
    path.components().any(|part| part.as_os_str() == ".git")
}

fn kind_of(root: &Beneath, path: &Path) -> std::io::Result<FileType> {
    Ok(root.stat(path)?.file_type())
}

/// The folders before the first wildcard: there is no need to look elsewhere.
fn fixed_part(glob: &str) -> PathBuf {
    let fixed: PathBuf =
        Path::new(glob).components().take_while(|part| !part.as_os_str().to_string_lossy().contains(['*', '?', '[', '{'])).collect();
    if fixed.as_os_str().is_empty() { PathBuf::from(".") } else { fixed }
}

fn fits(set: &GlobSet, path: &Path) -> bool {
    path.ancestors().any(|part| set.is_match(part))
}

/// Unpacks an archive (tar, zstd) below `into`; entries that would land outside are refused. A link that leads outside is
/// written only with `links`; gives those there were, as `PATH -> TARGET`. Says in a sentence what is wrong otherwise.
pub fn unpack(archive: &Path, into: &Path, links: bool) -> Result<Vec<String>, String> {
    unpack_tar(archive, into, links).map_err(|error| error.to_string())
}

fn unpack_tar(archive: &Path, into: &Path, links: bool) -> Result<Vec<String>, ArchiveError> {
    std::fs::create_dir_all(into).map_err(io(into))?;
    let file = File::open(archive).map_err(io(archive))?;
    let mut tar = tar::Archive::new(zstd::Decoder::new(file).map_err(io(archive))?);
    tar.set_overwrite(true);
    tar.set_preserve_permissions(true);
    let mut outside = Vec::new();
    for entry in tar.entries().map_err(io(archive))? {
        let mut entry = entry.map_err(io(archive))?;
        let path = entry.path().map_err(io(archive))?.into_owned();
        let target = entry.link_name_bytes().filter(|_| entry.header().entry_type().is_symlink());
        if let Some(target) = target.filter(|target| ordotaxis_content::leads_outside(path.as_os_str().as_bytes(), target)) {
            outside.push(format!("{} -> {}", path.display(), String::from_utf8_lossy(&target)));
            if !links {
                continue;
            }
        }
        if !entry.unpack_in(into).map_err(io(&path))? {
            return Err(ArchiveError::Outside(path));
        }
    }
    Ok(outside)
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
        chosen(&Beneath::open(root).unwrap(), &globs, false).unwrap().iter().map(|path| path.display().to_string()).collect()
    }

    #[test]
    fn globs_and_folders_choose_files() {
        let folder = tree();
        assert_eq!(names(folder.path(), &["out/gauge-*"]), ["out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out"]), ["out/deep/log.txt", "out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out/**/*.txt", "src.c"]), ["out/deep/log.txt", "src.c"]);
        assert_eq!(names(folder.path(), &["./out/deep/"]), ["out/deep/log.txt"]);
        let with_folders = chosen(&Beneath::open(folder.path()).unwrap(), &["out".into()], true).unwrap();
        assert_eq!(with_folders.len(), 5, "{with_folders:?}");
        assert!(names(folder.path(), &["nothing/*"]).is_empty());
        // What git keeps for itself only where it is named.
        for path in [".git/config", "out/keel/.git/HEAD"] {
            std::fs::create_dir_all(folder.path().join(path).parent().unwrap()).unwrap();
            std::fs::write(folder.path().join(path), "").unwrap();
        }
        assert_eq!(names(folder.path(), &["**"]).len(), 4);
        assert_eq!(names(folder.path(), &["out"]).len(), 3);
        assert_eq!(names(folder.path(), &[".git/*"]), [".git/config"]);
        assert_eq!(names(folder.path(), &["out/keel/.git"]), ["out/keel/.git/HEAD"]);
    }

    #[test]
    fn a_link_is_chosen_as_itself_and_nothing_behind_one() {
        let folder = tree();
        symlink("/etc/passwd", folder.path().join("out/absolute")).unwrap();
        symlink("../../above", folder.path().join("out/climbing")).unwrap();
        symlink("/etc", folder.path().join("etc")).unwrap();
        assert_eq!(names(folder.path(), &["out/absolute", "out/climbing", "etc"]), ["etc", "out/absolute", "out/climbing"]);
        assert_eq!(names(folder.path(), &["**/passwd"]), Vec::<String>::new());
        let root = Beneath::open(folder.path()).unwrap();
        for glob in ["etc/passwd", "etc/*", "etc/**/passwd", "../x", "/etc/passwd", "out/../../x"] {
            let done = chosen(&root, &[glob.into()], true);
            assert!(matches!(done, Err(ArchiveError::Outside(_))), "{glob}: {done:?}");
        }
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
        assert!(unpack(&path, &into, false).is_err());
        assert!(!folder.path().join("escaped").exists());
    }

    #[test]
    fn a_link_that_leads_outside_is_unpacked_only_when_asked_for() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("venv.tar.zst");
        let mut tar = tar::Builder::new(zstd::Encoder::new(File::create(&path).unwrap(), 1).unwrap());
        for (name, target) in [("bin/python3", "/usr/bin/python3"), ("bin/python", "python3")] {
            let mut header = tar::Header::new_gnu();
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            tar.append_link(&mut header, name, target).unwrap();
        }
        tar.into_inner().unwrap().finish().unwrap();
        let into = folder.path().join("plain");
        assert_eq!(unpack(&path, &into, false).unwrap(), ["bin/python3 -> /usr/bin/python3"]);
        assert!(into.join("bin/python").is_symlink() && !into.join("bin/python3").is_symlink());
        let into = folder.path().join("links");
        assert_eq!(unpack(&path, &into, true).unwrap().len(), 1);
        assert!(into.join("bin/python3").is_symlink());
    }
}
