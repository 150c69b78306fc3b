//! What a job takes before its steps and gives after them.

use crate::archive::{ArchiveError, chosen};
use crate::broken::{Broken, disk_full, failed};
use crate::job::Job;
use crate::layer_error::LayerError;
use crate::layers::{Layer, Store};
use crate::save::{SaveError, Saved, Source, save};
use crate::workspace::Workspace;
use ordotaxis_core::language::{Give, Upon, WhenNone};
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::runner::{GivenArtifact, LeaseTake};
use ordotaxis_wire::words;
use std::path::{Path, PathBuf};
use std::sync::Arc;

impl Job<'_> {
    /// The service's store, as this job may read it.
    pub(crate) fn store(&self) -> Store<'_> {
        Store { client: &self.shared.client, attempt: self.lease.attempt, leave: &self.shared.abort }
    }

    /// Brings here what the job takes and what its caches hold, and puts it into its folder.
    pub(crate) async fn bring_all(&mut self, workspace: &mut Workspace) -> Result<(), Broken> {
        let lease = self.lease.clone();
        let (mut layers, apart): (Vec<Arc<Layer>>, Vec<&LeaseTake>) =
            (Vec::new(), lease.takes.iter().filter(|take| take.to.is_some()).collect());
        let overlay = self.shared.workspaces.can_lay(workspace, lease.takes.len() + lease.caches.len());
        // Lowest first: what is taken lies over what caches hold.
        for at in 0..lease.caches.len() {
            self.check_halt()?;
            layers.extend(self.restore(at, !overlay).await?);
        }
        for take in lease.takes.iter().filter(|take| take.to.is_none()) {
            self.begin(&take.name, PhaseKind::Take).await;
            let done = self.take(take, !overlay).await;
            self.end(done.is_err(), None);
            layers.extend(done?);
            self.check_halt()?;
        }
        self.shared.workspaces.lay(workspace, layers, overlay).await?;
        for take in apart {
            self.begin(&take.name, PhaseKind::Take).await;
            let done = self.take_apart(workspace, take).await;
            self.end(done.is_err(), None);
            done?;
            self.check_halt()?;
        }
        Ok(())
    }

    async fn take(&mut self, take: &LeaseTake, whole: bool) -> Result<Option<Arc<Layer>>, Broken> {
        let Some(tree) = &take.tree else {
            self.shipper.log.say(&format!("{} holds nothing: its globs matched no file", take.name)).await;
            return Ok(None);
        };
        let brought = self.shared.layers.bring(tree, whole, &self.store()).await;
        let (layer, _) = brought.map_err(|error| not_brought(&take.name, error))?;
        Ok(Some(layer))
    }

    async fn take_apart(&mut self, workspace: &Workspace, take: &LeaseTake) -> Result<(), Broken> {
        let Some(layer) = self.take(take, true).await? else { return Ok(()) };
        let into = Path::new(take.to.as_deref().unwrap_or("."));
        let copied = self.shared.workspaces.copy_layer(layer, workspace, into).await;
        copied
            .map_err(|error| failed(disk_full(&error).unwrap_or_else(|| format!("{} could not be laid at its place: {error}", take.name))))
    }

    /// Gives the artifacts that are for such an end.
    pub(crate) async fn give_all(&mut self, workspace: &Workspace, end: Upon) -> (Vec<GivenArtifact>, Result<(), Broken>) {
        let lease = self.lease.clone();
        let mut given = Vec::new();
        let wanted = |give: &&Give| if give.upon.is_empty() { end == Upon::Passed } else { give.upon.contains(&end) };
        for give in lease.gives.iter().filter(wanted) {
            if end == Upon::Passed
                && let Err(broken) = self.check_halt()
            {
                return (given, Err(broken));
            }
            self.begin(&give.artifact, PhaseKind::Give).await;
            let done = self.give(workspace, give).await;
            self.end(done.is_err(), None);
            match done {
                Ok(artifact) => given.extend(artifact),
                Err(broken) => return (given, Err(broken)),
            }
        }
        (given, Ok(()))
    }

    async fn give(&mut self, workspace: &Workspace, give: &Give) -> Result<Option<GivenArtifact>, Broken> {
        let (folders, globs) = (workspace.folders.clone(), give.paths.clone());
        let paths = blocking(move || Ok(chosen(&folders.job()?, &globs, false)?)).await.map_err(|error| named_artifact(give, &error))?;
        if paths.is_empty() {
            let why = format!("artifact {}: nothing matches {}", give.artifact, give.paths.join(", "));
            match give.none {
                WhenNone::Fail => return Err(failed(why)),
                WhenNone::Warn => self.shipper.log.say(&why).await,
                WhenNone::Ignore => {}
            }
            return Ok(None);
        }
        let saved = self.save(workspace, paths, true).await.map_err(|error| named_artifact(give, &error))?;
        let line = format!("gave {}: {}, {}", give.artifact, files(saved.files), words::bytes(saved.bytes));
        self.shipper.log.say(&line).await;
        Ok(Some(GivenArtifact { name: give.artifact.clone(), tree: saved.id.to_string(), bytes: saved.sent }))
    }

    /// Saves files of the job's folder in the store.
    pub(crate) async fn save(&self, workspace: &Workspace, paths: Vec<PathBuf>, digests: bool) -> Result<Saved, SaveError> {
        let source =
            Source { root: workspace.folders.job()?, paths, digests, layers: workspace.layers.clone(), upper: workspace.upper.clone() };
        let (client, leave) = (self.shared.client.clone(), self.shared.abort.clone());
        blocking(move || save(source, &client, &leave)).await
    }
}

/// `1 file`, `2 files`
pub(crate) fn files(count: u64) -> String {
    if count == 1 { "1 file".to_owned() } else { format!("{count} files") }
}

fn named_artifact(give: &Give, error: &SaveError) -> Broken {
    failed(disk_full(error).unwrap_or_else(|| format!("artifact {}: {error}", give.artifact)))
}

/// What is taken must be there: without it the job cannot be done.
fn not_brought(name: &str, error: LayerError) -> Broken {
    match error {
        LayerError::Call(error) => match Broken::from(error) {
            Broken::Failed { why, exit_code } => Broken::Failed { why: format!("{name} could not be brought here: {why}"), exit_code },
            other => other,
        },
        error => failed(disk_full(&error).unwrap_or_else(|| format!("{name} could not be brought here: {error}"))),
    }
}

/// Does work that reads or writes files on a thread where that may take long.
pub(crate) async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T, SaveError> + Send + 'static) -> Result<T, SaveError> {
    let lost = |error| SaveError::Archive(ArchiveError::Io { path: PathBuf::new(), source: std::io::Error::other(error) });
    tokio::task::spawn_blocking(work).await.map_err(lost)?
}
