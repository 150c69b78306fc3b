//! A clean folder for each job, and a commit's files in it within milliseconds.
//!
//! For each job an overlay on an unpacked commit ([`crate::checkouts`]), where mounts are allowed (they live in the runner's
//! own mount namespace and vanish with it), else a copy. What a job leaves is moved aside and deleted in the background.

use crate::archive::ArchiveError;
use crate::aside::{discard, discard_after};
use crate::beneath::{Owner, is_link_error};
use crate::bound::bind;
use crate::checkouts::{Checkout, Checkouts};
use crate::folders::{FACTS, JobFolders};
use crate::layers::{Layer, Layers};
use crate::stage::Stage;
use crate::untouched::AsMade;
use crate::workspace_error::{WorkspaceError, io};
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Gives this process mounts of its own, which end with it. Call before there are threads. False where that is not
/// allowed: then files are copied instead.
pub fn own_mounts() -> bool {
    let private = || mount(None::<&str>, "/", None::<&str>, MsFlags::MS_REC | MsFlags::MS_PRIVATE, None::<&str>);
    nix::sched::unshare(nix::sched::CloneFlags::CLONE_NEWNS).and_then(|()| private()).is_ok()
}

/// Makes the folders of jobs, with a commit's files where a job wants them.
pub(crate) struct Workspaces {
    folder: PathBuf,
    overlay: bool,
    /// Whom the files of jobs belong to; None: this runner's user.
    owner: Option<Owner>,
    /// Where fences look for the folders of slots, if not here.
    stage: Option<Stage>,
}

/// One job's folder. Give it back with [`Workspaces::close`].
#[must_use]
pub(crate) struct Workspace {
    pub(crate) folders: JobFolders,
    slot: PathBuf,
    /// Overlays, in the order in which they were mounted.
    mounted: Vec<PathBuf>,
    /// Folders of the slot that are shown at the stage.
    shown: Vec<PathBuf>,
    /// What lies lowest in the job's folder, where an overlay is mounted on all of it.
    lowest: Option<PathBuf>,
    /// What lies between that and the job's own changes, uppermost first.
    pub(crate) layers: Vec<Arc<Layer>>,
    /// Where changes are written, where layers lie below them.
    pub(crate) upper: Option<PathBuf>,
    /// Keeps what lies below the overlay from being removed.
    _checkout: Option<Checkout>,
    /// The job's folders as it gets them; nothing where the next job has to get others.
    as_made: Vec<AsMade>,
}

impl Workspace {
    /// Remembers the folders as they are before anything of the job is in them. Call it when `tmp` has its folder for facts.
    /// What is shown to a fence is made anew for each job.
    pub(crate) fn remember(&mut self) {
        if self.shown.is_empty() {
            let JobFolders { files, tmp, .. } = &self.folders;
            self.as_made =
                [(files, 0), (tmp, 1), (&tmp.join(FACTS), 0)].into_iter().filter_map(|(path, entries)| AsMade::of(path, entries)).collect();
        }
    }

    /// Whether the job did nothing in any of its folders.
    fn is_untouched(&self) -> bool {
        self.mounted.is_empty() && self.as_made.len() == 3 && self.as_made.iter().all(AsMade::is_untouched)
    }
}

impl Workspaces {
    /// Prepares a runner's folder; what an earlier life left in it is moved aside.
    pub(crate) fn open(folder: PathBuf, mounts: bool, stage: Option<Stage>) -> Result<Workspaces, WorkspaceError> {
        private(&folder).map_err(io(&folder))?;
        for name in ["work", "layers", "packing"] {
            discard(&folder, &folder.join(name))?;
        }
        for name in ["work", "trash"] {
            let path = folder.join(name);
            std::fs::create_dir_all(&path).map_err(io(&path))?;
        }
        let overlay = mounts && overlay_works(&folder);
        let owner = stage.as_ref().and_then(|stage| stage.owner);
        Ok(Workspaces { overlay, owner, stage, folder })
    }

    /// The commits that jobs have.
    pub(crate) fn checkouts(&self) -> Result<Checkouts, WorkspaceError> {
        Checkouts::open(self.folder.clone(), self.owner)
    }

    /// The runner's own store of trees.
    pub(crate) fn layers(&self) -> Result<Layers, WorkspaceError> {
        let folder = self.folder.join("layers");
        Layers::open(folder.clone(), self.overlay, self.owner).map_err(io(&folder))
    }

    /// An empty folder for the job in this slot. Its path is the same for each job of the slot.
    pub(crate) fn take(&self, number: u32) -> Result<Workspace, WorkspaceError> {
        let slot = self.folder.join("work").join(number.to_string());
        let (files, tmp) = (slot.join("job"), slot.join("tmp"));
        for path in [&files, &tmp] {
            std::fs::create_dir_all(path).map_err(io(path))?;
            self.give_to_jobs(path)?;
        }
        let written = vec![slot.join("upper"), files.clone(), tmp.clone()];
        let mut folders = JobFolders { files, tmp, written };
        let mut shown = Vec::new();
        if let Some(seen) = self.stage.as_ref().map(|stage| stage.slot(number)).transpose()?.flatten() {
            for place in [&mut folders.files, &mut folders.tmp] {
                let at = seen.join(place.file_name().unwrap_or_default());
                bind(place, &at).map_err(io(&at))?;
                shown.push(at.clone());
                *place = at;
            }
        }
        Ok(Workspace {
            folders,
            slot,
            mounted: Vec::new(),
            shown,
            lowest: None,
            layers: Vec::new(),
            upper: None,
            _checkout: None,
            as_made: Vec::new(),
        })
    }

    fn give_to_jobs(&self, path: &Path) -> Result<(), WorkspaceError> {
        match self.owner {
            Some(Owner { uid, gid }) => std::os::unix::fs::lchown(path, Some(uid), Some(gid)).map_err(io(path)),
            None => Ok(()),
        }
    }

    /// Puts a commit's files into the job's folder, in `dir` below it.
    pub(crate) async fn put(&self, workspace: &mut Workspace, checkout: Checkout, dir: &str) -> Result<(), WorkspaceError> {
        let Some(path) = checkout.get() else { return Ok(()) };
        // A folder that a fact named may be any text: it is looked up as all that comes from a job.
        let target = workspace.folders.files.join(dir);
        workspace.folders.job()?.make_folder(Path::new(dir), self.owner).map_err(|error| refused(Path::new(dir), error))?;
        if self.overlay {
            self.mount_over(workspace, &[path], &target)?;
            workspace.lowest = (target.components().eq(workspace.folders.files.components())).then(|| path.clone());
        } else {
            copy(path, &target).await?;
        }
        workspace._checkout = Some(checkout);
        Ok(())
    }

    /// Whether so many layers can lie below the job's changes: then nothing is copied. A mount's options have one page.
    pub(crate) fn can_lay(&self, workspace: &Workspace, layers: usize) -> bool {
        let length = (layers * 2 + 3) * (self.folder.as_os_str().len() + 64);
        self.overlay && length < 3_800 && (workspace.lowest.is_some() || workspace.mounted.is_empty())
    }

    /// Puts layers (lowest first) into the job's folder, over the commit's files and below its own changes.
    pub(crate) async fn lay(&self, workspace: &mut Workspace, layers: Vec<Arc<Layer>>, overlay: bool) -> Result<(), WorkspaceError> {
        if layers.is_empty() {
            return Ok(());
        }
        let target = workspace.folders.files.clone();
        if !overlay {
            for layer in layers {
                self.copy_layer(layer, workspace, Path::new(".")).await?;
            }
            return Ok(());
        }
        if workspace.lowest.is_some() {
            umount2(&target, MntFlags::MNT_DETACH).map_err(|error| WorkspaceError::Io { path: target.clone(), source: error.into() })?;
            workspace.mounted.pop();
        }
        let lowest = workspace.lowest.clone();
        let lower: Vec<&Path> = layers.iter().rev().flat_map(|layer| layer.folders()).chain(lowest.as_deref()).collect();
        self.mount_over(workspace, &lower, &target)?;
        workspace.layers = layers.into_iter().rev().collect();
        workspace.upper = Some(workspace.slot.join("upper"));
        Ok(())
    }

    /// Copies a whole layer into a folder of the job's; one that is, or lies behind, a link is refused.
    pub(crate) async fn copy_layer(&self, layer: Arc<Layer>, workspace: &Workspace, into: &Path) -> Result<(), WorkspaceError> {
        let folder = workspace.folders.job()?.make_folder(into, self.owner).map_err(|error| refused(into, error))?;
        let owner = self.owner;
        let copied = tokio::task::spawn_blocking(move || layer.copy_into(&folder, owner)).await;
        Ok(copied.map_err(|error| io(into)(std::io::Error::other(error)))??)
    }

    fn mount_over(&self, workspace: &mut Workspace, lower: &[&Path], target: &Path) -> Result<(), WorkspaceError> {
        let (upper, work) = (workspace.slot.join("upper"), workspace.slot.join("overlay"));
        mount_overlay(lower, &upper, &work, target, self.owner)?;
        workspace.mounted.push(target.to_owned());
        Ok(())
    }

    /// Ends the job's use of its folder. Where it did nothing at all, the next job gets the same. What it left is looked at, where it lies as in the folder, and deleted: both in the
    /// background.
    pub(crate) fn close(&self, workspace: Workspace, look: impl FnOnce(&Path) + Send + 'static) {
        if workspace.is_untouched() {
            return;
        }
        let whole = workspace.mounted == [workspace.folders.files.clone()];
        let left = if whole { "upper" } else { "job" };
        for target in workspace.mounted.iter().rev().chain(&workspace.shown) {
            let _ = umount2(target, MntFlags::MNT_DETACH);
        }
        // What a job left empty goes at once, and with it what it may have done to the folder itself; the rest is moved aside,
        // and a thread deletes it.
        let goes = |name: &str| match std::fs::remove_dir(workspace.slot.join(name)) {
            Err(error) => error.kind() == std::io::ErrorKind::NotFound,
            Ok(()) => true,
        };
        if workspace.mounted.is_empty() && [&format!("tmp/{FACTS}"), "tmp", "job"].into_iter().all(goes) {
            return;
        }
        let look = move |slot: &Path| look(&slot.join(left));
        if let Err(error) = discard_after(&self.folder, &workspace.slot, look) {
            tracing::warn!(%error, "a job's folder could not be moved aside");
        }
    }

    /// Takes apart what jobs that were given up left mounted, so that the runner's folder can be removed.
    pub(crate) fn leave(&self, slots: u32) {
        for slot in 0..slots {
            let own = self.folder.join("work").join(slot.to_string());
            let seen = self.stage.as_ref().and_then(|stage| stage.slot(slot).ok().flatten());
            for place in [Some(own), seen].into_iter().flatten().flat_map(|place| [place.join("job"), place.join("tmp")]) {
                // An overlay may lie over what is shown there.
                while umount2(&place, MntFlags::MNT_DETACH).is_ok() {}
            }
        }
    }
}

/// A folder of a job's that cannot be reached without leaving it.
fn refused(path: &Path, error: std::io::Error) -> WorkspaceError {
    if is_link_error(&error) || error.kind() == std::io::ErrorKind::CrossesDevices {
        return ArchiveError::Outside(path.to_owned()).into();
    }
    io(path)(error)
}

/// Nobody else looks into a runner's folder.
fn private(folder: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(folder)?;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700))
}

fn mount_overlay(lower: &[&Path], upper: &Path, work: &Path, target: &Path, owner: Option<Owner>) -> Result<(), WorkspaceError> {
    for path in [upper, work, target] {
        std::fs::create_dir_all(path).map_err(io(path))?;
    }
    if let Some(Owner { uid, gid }) = owner {
        std::os::unix::fs::lchown(upper, Some(uid), Some(gid)).map_err(io(upper))?;
    }
    let lower: Vec<String> = lower.iter().map(|path| path.display().to_string()).collect();
    // Without these two, a folder or file could be seen at another place than where a layer holds it.
    let plain = "redirect_dir=off,metacopy=off";
    let options = format!("lowerdir={},upperdir={},workdir={},{plain}", lower.join(":"), upper.display(), work.display());
    mount(Some("overlay"), target, Some("overlay"), MsFlags::MS_NOSUID | MsFlags::MS_NODEV, Some(options.as_str()))
        .map_err(|error| WorkspaceError::Io { path: target.to_owned(), source: error.into() })
}

/// Tries an overlay in the runner's folder: not every file system can carry one.
fn overlay_works(folder: &Path) -> bool {
    let probe = folder.join("trash").join("probe");
    let target = probe.join("merged");
    // A comma or colon in the path would be read as part of the options.
    let plain = !folder.to_string_lossy().contains([',', ':', '\\']);
    let lower = probe.join("lower");
    let works = plain
        && std::fs::create_dir_all(&lower).is_ok()
        && mount_overlay(&[&lower], &probe.join("upper"), &probe.join("work"), &target, None).is_ok();
    if works {
        let _ = umount2(&target, MntFlags::MNT_DETACH);
    }
    let _ = std::fs::remove_dir_all(&probe);
    works
}

async fn copy(from: &Path, to: &Path) -> Result<(), WorkspaceError> {
    let mut command = tokio::process::Command::new("cp");
    command.arg("-a").arg("--reflink=auto").arg("--").arg(from.join(".")).arg(to).stdin(std::process::Stdio::null());
    let output = command.output().await.map_err(io(to))?;
    if output.status.success() { Ok(()) } else { Err(WorkspaceError::Copy(String::from_utf8_lossy(&output.stderr).trim().to_owned())) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    /// An unpacked commit with one file.
    fn checkout(folder: &Path) -> Checkout {
        let path = folder.join("commit");
        std::fs::create_dir_all(&path).unwrap();
        std::fs::write(path.join("gauge.c"), "int main;\n").unwrap();
        Arc::new(tokio::sync::OnceCell::new_with(Some(path)))
    }

    fn until(done: impl Fn() -> bool) {
        let end = std::time::Instant::now() + std::time::Duration::from_secs(120);
        while !done() {
            assert!(std::time::Instant::now() < end, "it took too long");
            std::thread::yield_now();
        }
    }

    /// Only a job that did nothing at all leaves its folders to the next.
    #[test]
    fn a_folder_is_used_again_only_if_nothing_was_done_in_it() {
        use std::os::unix::fs::{MetadataExt, PermissionsExt};
        let folder = tempfile::tempdir().unwrap();
        let workspaces = Workspaces::open(folder.path().join("runner"), false, None).unwrap();
        std::fs::create_dir(folder.path().join("new")).unwrap();
        let usual = std::fs::metadata(folder.path().join("new")).unwrap().mode();
        let job = |deed: &dyn Fn(&JobFolders)| {
            let mut workspace = workspaces.take(0).unwrap();
            let folders = workspace.folders.clone();
            std::fs::create_dir_all(folders.tmp.join(FACTS)).unwrap();
            workspace.remember();
            let inodes = [&folders.files, &folders.tmp, &folders.tmp.join(FACTS)].map(|path| std::fs::metadata(path).unwrap().ino());
            for path in [&folders.files, &folders.tmp.join(FACTS)] {
                assert_eq!(std::fs::read_dir(path).unwrap().count(), 0, "{}", path.display());
                assert_eq!(std::fs::metadata(path).unwrap().mode(), usual, "{}", path.display());
            }
            assert_eq!(std::fs::read_dir(&folders.tmp).unwrap().count(), 1);
            deed(&folders);
            workspaces.close(workspace, |_| ());
            inodes
        };
        let first = job(&|_| ());
        assert_eq!(job(&|_| ()), first);
        job(&|folders| std::fs::write(folders.tmp.join(FACTS).join("size"), "1").unwrap());
        job(&|folders| std::fs::write(folders.tmp.join("x"), "").unwrap());
        job(&|folders| std::fs::write(folders.files.join("x"), "").unwrap());
        let opened = std::fs::Permissions::from_mode(0o777);
        job(&|folders| std::fs::set_permissions(&folders.files, opened.clone()).unwrap());
        job(&|folders| std::fs::remove_dir(&folders.files).unwrap());
        job(&|folders| std::os::unix::fs::symlink("/etc", folders.tmp.join("etc")).unwrap());
        job(&|_| ());
    }

    /// Copies: a test has no mounts of its own. The system's tests use overlays where they are root.
    #[tokio::test]
    async fn what_one_job_does_the_next_does_not_see() {
        let folder = tempfile::tempdir().unwrap();
        let checkout = checkout(folder.path());
        let workspaces = Workspaces::open(folder.path().join("runner"), false, None).unwrap();
        for round in 0..2 {
            let mut workspace = workspaces.take(0).unwrap();
            workspaces.put(&mut workspace, checkout.clone(), ".").await.unwrap();
            let files = workspace.folders.files.clone();
            assert_eq!(std::fs::read_dir(&files).unwrap().count(), 1, "round {round}");
            assert_eq!(std::fs::read_to_string(files.join("gauge.c")).unwrap(), "int main;\n", "round {round}");
            std::fs::write(files.join("gauge.c"), "changed").unwrap();
            std::fs::write(files.join("dirt"), "").unwrap();
            workspaces.close(workspace, |_| ());
            assert!(!files.exists());
        }
        let trash = || std::fs::read_dir(folder.path().join("runner/trash")).unwrap().count();
        until(|| trash() == 0);
        let empty = workspaces.take(0).unwrap();
        let files = empty.folders.files.clone();
        std::fs::set_permissions(&files, std::fs::Permissions::from_mode(0o700)).unwrap();
        workspaces.close(empty, |_| ());
        assert!(!files.exists() && trash() == 0, "what was left empty is not moved aside");
        let next = workspaces.take(0).unwrap();
        assert_ne!(files.metadata().unwrap().permissions().mode() & 0o077, 0, "the next job's folder is a new one");
        workspaces.close(next, |_| ());
    }

    #[tokio::test]
    async fn a_folder_below() {
        let folder = tempfile::tempdir().unwrap();
        let workspaces = Workspaces::open(folder.path().join("runner"), false, None).unwrap();
        let mut workspace = workspaces.take(1).unwrap();
        workspaces.put(&mut workspace, checkout(folder.path()), "src/deep").await.unwrap();
        assert!(workspace.folders.files.join("src/deep/gauge.c").exists());
        workspaces.close(workspace, |_| ());
    }

    #[test]
    fn an_earlier_life_leaves_nothing_in_the_way() {
        let folder = tempfile::tempdir().unwrap();
        let runner = folder.path().join("runner");
        std::fs::create_dir_all(runner.join("work/0/job")).unwrap();
        std::fs::write(runner.join("work/0/job/dirt"), "").unwrap();
        let workspaces = Workspaces::open(runner.clone(), false, None).unwrap();
        let workspace = workspaces.take(0).unwrap();
        assert_eq!(std::fs::read_dir(&workspace.folders.files).unwrap().count(), 0);
        workspaces.close(workspace, |_| ());
    }
}
