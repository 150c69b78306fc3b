//! Which files globs choose, and archives that are unpacked. Nothing that leads outside the job's folder goes in or out.

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use std::fs::File;
use std::path::{Component, Path, PathBuf};

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

/// Files and links below `root` that the globs choose, or that lie in a folder they choose; by path from `root`. With
/// `folders` also the folders that are chosen or lie in one.
pub(crate) fn chosen(root: &Path, globs: &[String], folders: bool) -> Result<Vec<PathBuf>, ArchiveError> {
    let mut set = GlobSetBuilder::new();
    for glob in globs {
        let plain = glob.trim_start_matches("./").trim_end_matches('/');
        set.add(GlobBuilder::new(plain).literal_separator(true).build().map_err(|_| ArchiveError::Glob(glob.clone()))?);
    }
    let set = set.build().map_err(|error| ArchiveError::Glob(error.to_string()))?;
    let real_root = root.canonicalize().map_err(io(root))?;
    let mut found = Vec::new();
    for glob in globs {
        let fixed = fixed_part(glob.trim_start_matches("./"));
        let base = root.join(&fixed);
        // Links are not followed below it; on the way to it one could lead outside.
        let above = base.parent().unwrap_or(root);
        if above.exists() && !above.canonicalize().map_err(io(above))?.starts_with(&real_root) && base != root {
            return Err(ArchiveError::Outside(fixed));
        }
        // How deep the folder lies that was chosen as a whole: what is in it need not be looked at.
        let mut whole = None;
        for entry in walkdir::WalkDir::new(&base).follow_links(false).follow_root_links(false).into_iter().filter_map(Result::ok) {
            let Ok(path) = entry.path().strip_prefix(root) else { continue };
            let is_folder = entry.file_type().is_dir();
            if whole.is_some_and(|depth| entry.depth() <= depth) {
                whole = None;
            }
            if path.as_os_str().is_empty() || whole.is_none() && !fits(&set, path) {
                continue;
            }
            if is_folder {
                whole.get_or_insert(entry.depth());
            }
            if entry.file_type().is_symlink() {
                check_link(entry.path(), path)?;
            }
            if folders || !is_folder {
                found.push(path.to_owned());
            }
        }
    }
    found.sort_unstable();
    found.dedup();
    Ok(found)
}

/// The folders before the first wildcard: there is no need to look elsewhere.
fn fixed_part(glob: &str) -> PathBuf {
    Path::new(glob).components().take_while(|part| !part.as_os_str().to_string_lossy().contains(['*', '?', '[', '{'])).collect()
}

fn fits(set: &GlobSet, path: &Path) -> bool {
    path.ancestors().any(|part| set.is_match(part))
}

/// A link must not point out of the root.
fn check_link(full: &Path, path: &Path) -> Result<(), ArchiveError> {
    let target = std::fs::read_link(full).map_err(io(path))?;
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

/// Unpacks an archive (tar, zstd) below `into`; entries that would land outside are refused. Says in a sentence what is
/// wrong otherwise.
pub fn unpack(archive: &Path, into: &Path) -> Result<(), String> {
    unpack_tar(archive, into).map_err(|error| error.to_string())
}

fn unpack_tar(archive: &Path, into: &Path) -> Result<(), ArchiveError> {
    std::fs::create_dir_all(into).map_err(io(into))?;
    let file = File::open(archive).map_err(io(archive))?;
    let mut tar = tar::Archive::new(zstd::Decoder::new(file).map_err(io(archive))?);
    tar.set_overwrite(true);
    tar.set_preserve_permissions(true);
    for entry in tar.entries().map_err(io(archive))? {
        let mut entry = entry.map_err(io(archive))?;
        let path = entry.path().map_err(io(archive))?.into_owned();
        if !entry.unpack_in(into).map_err(io(&path))? {
            return Err(ArchiveError::Outside(path));
        }
    }
    Ok(())
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
        chosen(root, &globs, false).unwrap().iter().map(|path| path.display().to_string()).collect()
    }

    #[test]
    fn globs_and_folders_choose_files() {
        let folder = tree();
        assert_eq!(names(folder.path(), &["out/gauge-*"]), ["out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out"]), ["out/deep/log.txt", "out/gauge-a", "out/gauge-b"]);
        assert_eq!(names(folder.path(), &["out/**/*.txt", "src.c"]), ["out/deep/log.txt", "src.c"]);
        assert_eq!(names(folder.path(), &["./out/deep/"]), ["out/deep/log.txt"]);
        let with_folders = chosen(folder.path(), &["out".into()], true).unwrap();
        assert_eq!(with_folders.len(), 5, "{with_folders:?}");
        assert!(names(folder.path(), &["nothing/*"]).is_empty());
    }

    #[test]
    fn what_leads_outside_is_refused() {
        let folder = tree();
        symlink("/etc/passwd", folder.path().join("out/absolute")).unwrap();
        assert!(matches!(chosen(folder.path(), &["out/absolute".into()], false), Err(ArchiveError::Outside(_))));
        symlink("../../above", folder.path().join("out/climbing")).unwrap();
        assert!(matches!(chosen(folder.path(), &["out/climbing".into()], false), Err(ArchiveError::Outside(_))));
        symlink("../src.c", folder.path().join("out/inner")).unwrap();
        assert_eq!(names(folder.path(), &["out/inner"]), ["out/inner"]);
        symlink("/etc", folder.path().join("etc")).unwrap();
        assert!(matches!(chosen(folder.path(), &["etc/passwd".into()], true), Err(ArchiveError::Outside(_))));
        assert!(matches!(chosen(folder.path(), &["etc".into()], true), Err(ArchiveError::Outside(_))));
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
