//! Archives (tar): of everything, for systems without packages, and the layers of images. All is root's, with one time, in order of
//! names: the same commit gives the same bytes.

use super::named::Release;
use super::tree::{Tree, gzip};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// `ordotaxis-VERSION-linux-MACHINE.tar.gz`: one folder, in it the tree as it lies below `/`.
pub(super) fn make(tree: &Tree, release: &Release, to: &Path) -> Result<PathBuf, String> {
    let name = format!("ordotaxis-{}-linux-{}", release.version, release.machine);
    let mut archive = Archive::new(release.moment);
    archive.folder(Path::new(&name))?;
    archive.tree(tree, Path::new(&name))?;
    let path = to.join(format!("{name}.tar.gz"));
    std::fs::write(&path, gzip(&archive.bytes()?)?).map_err(|error| format!("{}: {error}", path.display()))?;
    Ok(path)
}

/// One that is being written, in memory.
pub(super) struct Archive {
    tar: tar::Builder<Vec<u8>>,
    moment: u64,
}

impl Archive {
    pub(super) fn new(moment: u64) -> Archive {
        Archive { tar: tar::Builder::new(Vec::new()), moment }
    }

    /// Everything of a tree, below a folder.
    pub(super) fn tree(&mut self, tree: &Tree, below: &Path) -> Result<(), String> {
        for path in tree.paths()? {
            let (from, to) = (tree.root.join(&path), below.join(&path));
            if from.is_dir() { self.folder(&to)? } else { self.file(&from, &to)? }
        }
        Ok(())
    }

    pub(super) fn folder(&mut self, path: &Path) -> Result<(), String> {
        self.entry(tar::EntryType::Directory, path, 0o755, (0, 0), &[])
    }

    /// A file that lies here, followed where it is a link.
    pub(super) fn file(&mut self, from: &Path, to: &Path) -> Result<(), String> {
        let wrong = |error: std::io::Error| format!("{}: {error}", from.display());
        let bytes = std::fs::read(from).map_err(wrong)?;
        let mode = std::fs::metadata(from).map_err(wrong)?.permissions().mode() & 0o755;
        self.entry(tar::EntryType::Regular, to, mode, (0, 0), &bytes)
    }

    pub(super) fn text(&mut self, to: &str, text: &str) -> Result<(), String> {
        self.entry(tar::EntryType::Regular, Path::new(to), 0o644, (0, 0), text.as_bytes())
    }

    pub(super) fn blob(&mut self, to: &str, bytes: &[u8]) -> Result<(), String> {
        self.entry(tar::EntryType::Regular, Path::new(to), 0o644, (0, 0), bytes)
    }

    /// A folder that is somebody's.
    pub(super) fn owned(&mut self, path: &str, mode: u32, owner: (u64, u64)) -> Result<(), String> {
        self.entry(tar::EntryType::Directory, Path::new(path), mode, owner, &[])
    }

    pub(super) fn link(&mut self, path: &Path, target: &Path) -> Result<(), String> {
        let mut header = self.header(tar::EntryType::Symlink, 0o777, (0, 0), 0);
        self.tar.append_link(&mut header, path, target).map_err(|error| format!("{}: {error}", path.display()))
    }

    fn header(&self, kind: tar::EntryType, mode: u32, (uid, gid): (u64, u64), size: u64) -> tar::Header {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(mode);
        header.set_uid(uid);
        header.set_gid(gid);
        header.set_size(size);
        header.set_mtime(self.moment);
        header
    }

    fn entry(&mut self, kind: tar::EntryType, path: &Path, mode: u32, owner: (u64, u64), bytes: &[u8]) -> Result<(), String> {
        let mut header = self.header(kind, mode, owner, bytes.len() as u64);
        self.tar.append_data(&mut header, path, bytes).map_err(|error| format!("{}: {error}", path.display()))
    }

    pub(super) fn bytes(self) -> Result<Vec<u8>, String> {
        self.tar.into_inner().map_err(|error| error.to_string())
    }
}
