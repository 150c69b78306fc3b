//! All that is installed, in a folder as it will lie below `/`.

use super::say::{output, run};
use crate::setup;
use flate2::{Compression, GzBuilder};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// The guides that go along.
const GUIDES: [&str; 9] = [
    "install.md",
    "service.md",
    "operations.md",
    "pools.md",
    "security.md",
    "people.md",
    "commands.md",
    "language.md",
    "getting-started.md",
];
/// Other files beside them.
const FILES: [&str; 4] = ["alerts.yml", "ordotaxis.schema.json", "pool-program.py", "pool-program.schema.json"];

/// A folder with everything.
pub(super) struct Tree {
    pub(super) root: PathBuf,
}

impl Tree {
    pub(super) fn make(work: &Path, program: &Path) -> Result<Tree, String> {
        let tree = Tree { root: work.join("tree") };
        let own = tree.at("usr/bin/ordotaxis");
        folder(&own)?;
        run("objcopy", &["--strip-all", &program.display().to_string(), &own.display().to_string()])?;
        mode(&own, 0o755)?;
        tree.completions(&own)?;
        tree.manual(work, &own)?;
        for (from, to) in [
            ("packaging/ordotaxis.service", "usr/lib/systemd/system/ordotaxis.service"),
            ("packaging/ordotaxis-runner.service", "usr/lib/systemd/system/ordotaxis-runner.service"),
            ("packaging/sysusers.conf", "usr/lib/sysusers.d/ordotaxis.conf"),
            ("packaging/service.toml", "etc/ordotaxis/service.toml"),
            ("LICENSE", "usr/share/doc/ordotaxis/copyright"),
        ] {
            tree.take(from, to)?;
        }
        for name in GUIDES.iter().chain(&FILES) {
            tree.take(&format!("docs/{name}"), &format!("usr/share/doc/ordotaxis/{name}"))?;
        }
        Ok(tree)
    }

    pub(super) fn at(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    /// Copies a file of the project.
    fn take(&self, from: &str, to: &str) -> Result<(), String> {
        let to = self.at(to);
        folder(&to)?;
        std::fs::copy(setup::root().join(from), &to).map_err(|error| format!("{from}: {error}"))?;
        mode(&to, 0o644)
    }

    fn completions(&self, program: &Path) -> Result<(), String> {
        for (shell, to) in [
            ("bash", "usr/share/bash-completion/completions/ordotaxis"),
            ("zsh", "usr/share/zsh/vendor-completions/_ordotaxis"),
            ("fish", "usr/share/fish/vendor_completions.d/ordotaxis.fish"),
        ] {
            write(&self.at(to), output(program, &["completions", shell])?.as_bytes())?;
        }
        Ok(())
    }

    /// Pages of the manual, compressed as systems have them.
    fn manual(&self, work: &Path, program: &Path) -> Result<(), String> {
        let pages = work.join("pages");
        output(program, &["manual", &pages.display().to_string()])?;
        for page in listed(&pages)? {
            let name = page.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let text = std::fs::read(&page).map_err(|error| format!("{}: {error}", page.display()))?;
            write(&self.at(&format!("usr/share/man/man1/{name}.gz")), &gzip(&text)?)?;
        }
        Ok(())
    }

    /// Every file, folders and what is in them in order of their names; paths below the root.
    pub(super) fn paths(&self) -> Result<Vec<PathBuf>, String> {
        let mut all = Vec::new();
        below(&self.root, &mut all)?;
        let inside = |path: PathBuf| path.strip_prefix(&self.root).map(Path::to_owned).unwrap_or(path);
        let mut all: Vec<PathBuf> = all.into_iter().map(inside).collect();
        all.sort();
        Ok(all)
    }
}

/// The same bytes for the same text: no name and no time in it.
pub(super) fn gzip(bytes: &[u8]) -> Result<Vec<u8>, String> {
    let mut packed = GzBuilder::new().mtime(0).write(Vec::new(), Compression::default());
    packed.write_all(bytes).and_then(|()| packed.finish()).map_err(|error| error.to_string())
}

fn below(folder: &Path, all: &mut Vec<PathBuf>) -> Result<(), String> {
    for path in listed(folder)? {
        all.push(path.clone());
        if path.is_dir() {
            below(&path, all)?;
        }
    }
    Ok(())
}

fn listed(folder: &Path) -> Result<Vec<PathBuf>, String> {
    let wrong = |error: std::io::Error| format!("{}: {error}", folder.display());
    std::fs::read_dir(folder).map_err(wrong)?.map(|entry| entry.map(|entry| entry.path()).map_err(wrong)).collect()
}

pub(super) fn write(path: &Path, bytes: &[u8]) -> Result<(), String> {
    folder(path)?;
    std::fs::write(path, bytes).map_err(|error| format!("{}: {error}", path.display()))?;
    mode(path, 0o644)
}

fn folder(path: &Path) -> Result<(), String> {
    let Some(folder) = path.parent() else { return Ok(()) };
    std::fs::create_dir_all(folder).map_err(|error| format!("{}: {error}", folder.display()))
}

fn mode(path: &Path, mode: u32) -> Result<(), String> {
    std::fs::set_permissions(path, PermissionsExt::from_mode(mode)).map_err(|error| format!("{}: {error}", path.display()))
}
