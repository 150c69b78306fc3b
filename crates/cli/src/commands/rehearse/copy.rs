//! What is rehearsed: the working tree as it is, as a commit of a repository of its own that borrows the objects of the
//! real one. It is made as `git add` and `git commit` would make it, by the real repository's own configuration and from a
//! copy of its index; nothing of the real one is changed.

use super::ask::cannot;
use crate::commands::local;
use crate::failure::Failure;
use ordotaxis_core::plan::Occasion;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;

const WHAT: &str = "a copy of this folder";
/// Nothing of these is to happen in the real repository: hooks, and an index in parts.
const QUIETLY: [&str; 4] = ["-c", "core.hooksPath=/dev/null", "-c", "core.splitIndex=false"];

/// The working tree as a commit of a repository of its own.
pub(super) struct Copy {
    pub(super) repository: PathBuf,
    pub(super) branch: String,
    pub(super) project: String,
    /// What differs from the last commit; none outside of git or before the first one.
    pub(super) changed: Option<Vec<String>>,
}

impl Copy {
    /// `place` is an empty folder for it.
    pub(super) fn of(root: &Path, place: &Path, occasion: &Occasion) -> Result<Copy, Failure> {
        let root = root.canonicalize().map_err(|error| cannot(WHAT, &error))?;
        let branch = occasion.branch().unwrap_or("main").to_owned();
        let made = Made::new(root, place)?;
        let commit = made.commit()?;
        made.own(&["update-ref", &format!("refs/heads/{branch}"), &commit])?;
        if let Some(tag) = occasion.tag_name() {
            made.own(&["update-ref", &format!("refs/tags/{tag}"), &commit])?;
        }
        let changed = match made.real.as_ref().and_then(|real| real.head.as_deref()) {
            Some(head) => {
                let list = ["-c", "core.quotepath=off", "diff-tree", "-r", "-z", "--name-only", "--no-commit-id", head, &commit];
                Some(made.own(&list)?.split_terminator('\0').map(str::to_owned).collect())
            }
            None => None,
        };
        Ok(Copy { project: project_of(&made.root), repository: made.repository, branch, changed })
    }
}

/// The folder's name, as a project may be called.
fn project_of(root: &Path) -> String {
    let name = root.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let fit = |c: char| if c.is_ascii_alphanumeric() || c == '-' || c == '_' { c } else { '-' };
    let project: String = name.chars().map(fit).take(60).collect();
    let project = project.trim_start_matches('-').to_owned();
    if project.is_empty() { "rehearsal".to_owned() } else { project }
}

/// The repository whose top the folder is. One below the top is a tree of its own: the last commit says nothing about it.
struct Real {
    dir: PathBuf,
    objects: PathBuf,
    head: Option<String>,
}

impl Real {
    fn of(root: &Path) -> Option<Real> {
        let top = PathBuf::from(local::git(root, &["rev-parse", "--show-toplevel"])?).canonicalize().ok()?;
        let path = |what: &str| local::git(root, &["rev-parse", "--path-format=absolute", "--git-path", what]).map(PathBuf::from);
        let head = local::git(root, &["rev-parse", "--quiet", "--verify", "HEAD^{commit}"]);
        (top == root).then_some(Real {
            dir: local::git(root, &["rev-parse", "--absolute-git-dir"])?.into(),
            objects: path("objects")?,
            head,
        })
    }
}

/// A copy that is being made.
struct Made {
    root: PathBuf,
    repository: PathBuf,
    index: PathBuf,
    real: Option<Real>,
}

impl Made {
    fn new(root: PathBuf, place: &Path) -> Result<Made, Failure> {
        let made = Made { repository: place.join("tree.git"), index: place.join("index"), real: Real::of(&root), root };
        made.own(&["init", "--quiet", "--bare"])?;
        if let Some(real) = &made.real {
            made.borrow(real).map_err(|error| cannot(WHAT, &error))?;
        }
        Ok(made)
    }

    /// What is committed already is read from the repository itself; only the rest is copied.
    fn borrow(&self, real: &Real) -> io::Result<()> {
        std::fs::write(self.repository.join("objects/info/alternates"), format!("{}\n", real.objects.display()))?;
        match std::fs::copy(real.dir.join("index"), &self.index) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let shared = real.objects.parent().unwrap_or(&real.dir).join("lfs/objects");
        link_all(&shared, &self.repository.join("lfs/objects"))
    }

    fn commit(&self) -> Result<String, Failure> {
        self.real(&["add", "--all", "."])?;
        let tree = self.real(&["write-tree"])?;
        let message = "the working tree as it is";
        match self.real.as_ref().and_then(|real| real.head.as_deref()) {
            // Nothing is uncommitted: the commit itself, with its time.
            Some(head) if self.own(&["rev-parse", &format!("{head}^{{tree}}")])? == tree => Ok(head.to_owned()),
            Some(head) => self.own(&["commit-tree", &tree, "-p", head, "-m", message]),
            None => self.own(&["commit-tree", &tree, "-m", message]),
        }
    }

    /// A command of git in the copy.
    fn own(&self, args: &[&str]) -> Result<String, Failure> {
        let mut command = self.git();
        command.env("GIT_DIR", &self.repository);
        answer(command.args(args))
    }

    /// A command of git by the real repository's configuration, that writes into the copy.
    fn real(&self, args: &[&str]) -> Result<String, Failure> {
        let mut command = self.git();
        command.env("GIT_INDEX_FILE", &self.index).env("GIT_OBJECT_DIRECTORY", self.repository.join("objects"));
        let (dir, objects) = match &self.real {
            Some(real) => (&real.dir, Some(&real.objects)),
            None => (&self.repository, None),
        };
        command.env("GIT_DIR", dir).env("GIT_WORK_TREE", &self.root);
        command.envs(objects.map(|objects| ("GIT_ALTERNATE_OBJECT_DIRECTORIES", objects)));
        command.args(["-c", &format!("lfs.storage={}", self.repository.join("lfs").display())]);
        answer(command.args(args))
    }

    fn git(&self) -> Command {
        let mut command = Command::new("git");
        command.args(QUIETLY).current_dir(&self.root).env("GIT_TERMINAL_PROMPT", "0");
        for name in ["GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_ALTERNATE_OBJECT_DIRECTORIES"] {
            command.env_remove(name);
        }
        for (name, value) in [("NAME", "rehearsal"), ("EMAIL", "rehearsal@localhost")] {
            command.env(format!("GIT_AUTHOR_{name}"), value).env(format!("GIT_COMMITTER_{name}"), value);
        }
        command
    }
}

fn answer(command: &mut Command) -> Result<String, Failure> {
    let output = command.output().map_err(|error| cannot(WHAT, &error))?;
    match output.status.success() {
        true => Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned()),
        false => Err(cannot(WHAT, &String::from_utf8_lossy(&output.stderr).trim())),
    }
}

/// Large files that git-lfs has here already: further links to them, as they lie there.
fn link_all(from: &Path, to: &Path) -> io::Result<()> {
    for entry in walkdir::WalkDir::new(from).into_iter().flatten().filter(|entry| entry.file_type().is_file()) {
        let Ok(below) = entry.path().strip_prefix(from) else { continue };
        let place = to.join(below);
        place.parent().map_or(Ok(()), std::fs::create_dir_all)?;
        std::os::unix::fs::symlink(entry.path(), &place)?;
    }
    Ok(())
}
