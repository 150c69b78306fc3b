//! Placeholders that only the runner can fill: its system, and digests of the files that were checked out.

use crate::beneath::Beneath;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use ordotaxis_core::language::{Checkout, GitFiles};
use ordotaxis_core::template::{Slot, Template};
use ordotaxis_wire::runner::Lease;
use sha2::{Digest, Sha256};
use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::FileType;
use std::path::{Path, PathBuf};

/// Why a placeholder that only the runner can fill could not be filled.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LateError {
    #[error("{} could not be read for a {{hash:…}}", path.display())]
    Read {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the placeholder {{{0}}} is not known to this runner")]
    Unknown(String),
    #[error("a text of the lease is not one with placeholders: {0}")]
    Form(String),
}

/// Which of a lease's files are checked out, and to which folder, with its placeholders filled: this comes first.
pub(crate) fn checkout(lease: &Lease) -> Result<Option<(String, GitFiles)>, LateError> {
    let Checkout::Files { dir, git } = &lease.checkout else { return Ok(None) };
    let dir = match lease.late {
        false => dir.clone(),
        true => Filler { files: Path::new("/nonexistent"), lease, hashes: RefCell::default() }.text(dir)?,
    };
    Ok(Some((dir, git.clone())))
}

/// The lease with every placeholder filled, after the files were checked out to `files`.
pub(crate) fn filled(lease: &Lease, files: &Path) -> Result<Lease, LateError> {
    let mut lease = lease.clone();
    if let Some(image) = lease.image.take() {
        // Written as in a file whether or not the rest is.
        lease.image = Some(Filler { files, lease: &lease.clone(), hashes: RefCell::default() }.text(&image)?);
    }
    let whole = lease.clone();
    let filler = Filler { files, lease: &whole, hashes: RefCell::default() };
    let fill = |text: &mut String| filler.text(text).map(|filled| *text = filled);
    for publish in &mut lease.publish {
        fill(&mut publish.to)?;
        publish.upload.iter_mut().flat_map(|upload| &mut upload.fields).try_for_each(|(_, text)| fill(text))?;
    }
    // Caches, too, are written as in a file whether or not the rest is.
    for cache in &mut lease.caches {
        cache.paths.iter_mut().chain([&mut cache.key]).chain(&mut cache.otherwise).try_for_each(fill)?;
    }
    if !lease.late {
        return Ok(lease);
    }
    lease.env.values_mut().try_for_each(fill)?;
    for step in &mut lease.steps {
        step.env.values_mut().try_for_each(fill)?;
        step.dir.iter_mut().try_for_each(fill)?;
    }
    lease.takes.iter_mut().flat_map(|take| &mut take.to).try_for_each(fill)?;
    lease.gives.iter_mut().flat_map(|give| &mut give.paths).try_for_each(fill)?;
    lease.late = false;
    Ok(lease)
}

struct Filler<'a> {
    files: &'a Path,
    lease: &'a Lease,
    hashes: RefCell<HashMap<Vec<String>, String>>,
}

impl Filler<'_> {
    fn text(&self, text: &str) -> Result<String, LateError> {
        let template = Template::parse(text).map_err(|_| LateError::Form(text.to_owned()))?;
        for slot in template.slots() {
            if let Slot::Hash(globs) = slot
                && !self.hashes.borrow().contains_key(globs)
            {
                let digest = hash(self.files, globs)?;
                self.hashes.borrow_mut().insert(globs.clone(), digest);
            }
        }
        let filled = template.fill(|slot| match slot {
            Slot::Os => Some(std::env::consts::OS.to_owned()),
            Slot::Arch => Some(std::env::consts::ARCH.to_owned()),
            Slot::Project => Some(self.lease.project.clone()),
            Slot::Commit => Some(self.lease.commit.clone()),
            Slot::Fact(job, name) => self.lease.known_facts.get(&format!("{job}.{name}")).cloned(),
            Slot::Hash(globs) => self.hashes.borrow().get(globs).cloned(),
            _ => None,
        });
        let unknown = filled.slots().next().map(ToString::to_string);
        filled.plain().ok_or_else(|| LateError::Unknown(unknown.unwrap_or_default()))
    }
}

/// A digest of the paths and contents of all files that fit, in the order of their paths: 16 hexadecimal digits. The
/// same files give the same digest on every machine.
pub(crate) fn hash(files: &Path, globs: &[String]) -> Result<String, LateError> {
    let set = set(globs);
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |source| LateError::Read { path, source }
    };
    let root = Beneath::open(files).map_err(failed(files))?;
    let mut found: Vec<(PathBuf, FileType)> = Vec::new();
    let mut look = |path: &Path, kind: FileType| {
        if !kind.is_dir() && set.is_match(path) {
            found.push((path.to_owned(), kind));
        }
        path != Path::new(".git")
    };
    root.walk(Path::new("."), &mut look).map_err(failed(files))?;
    found.sort_by(|(a, _), (b, _)| a.cmp(b));
    let mut digest = Sha256::new();
    for (path, kind) in found {
        let name = path.to_string_lossy().into_owned();
        digest.update((name.len() as u64).to_le_bytes());
        digest.update(name.as_bytes());
        if kind.is_symlink() {
            let target = root.link_target(&path).map_err(failed(&path))?;
            digest.update(String::from_utf8_lossy(&target).as_bytes());
            continue;
        }
        let mut file = root.file(&path).map_err(failed(&path))?;
        digest.update(file.metadata().map_err(failed(&path))?.len().to_le_bytes());
        std::io::copy(&mut file, &mut Digesting(&mut digest)).map_err(failed(&path))?;
    }
    Ok(digest.finalize().iter().take(8).map(|byte| format!("{byte:02x}")).collect())
}

struct Digesting<'a>(&'a mut Sha256);

impl std::io::Write for Digesting<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Globs that were checked when the file was; one that is none fits nothing.
fn set(globs: &[String]) -> GlobSet {
    let mut builder = GlobSetBuilder::new();
    globs.iter().filter_map(|glob| GlobBuilder::new(glob).literal_separator(true).build().ok()).for_each(|glob| {
        builder.add(glob);
    });
    builder.build().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_tells_contents_names_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        let globs = ["src/**".to_owned(), "Makefile".to_owned()];
        write("src/a.c", "int a;");
        write("Makefile", "all:");
        let first = hash(folder.path(), &globs).unwrap();
        write("docs/x", "beside");
        assert_eq!(hash(folder.path(), &globs).unwrap(), first);
        write("src/a.c", "int b;");
        let second = hash(folder.path(), &globs).unwrap();
        assert_ne!(second, first);
        write("src/a.c", "int a;");
        assert_eq!(hash(folder.path(), &globs).unwrap(), first);
        std::fs::rename(folder.path().join("src/a.c"), folder.path().join("src/b.c")).unwrap();
        assert_ne!(hash(folder.path(), &globs).unwrap(), first);
    }
}
