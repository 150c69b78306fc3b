//! What a job takes before its steps and gives after them.

use crate::archive::{ArchiveError, chosen, digest_of, pack, unpack};
use crate::client::{CallError, insist};
use crate::job::{Broken, Job, disk_full, failed};
use crate::workspace::Workspace;
use ordotaxis_core::language::{Give, WhenNone};
use ordotaxis_wire::runner::{GivenArtifact, LeaseTake};
use ordotaxis_wire::view::PhaseKind;
use ordotaxis_wire::words;
use std::path::PathBuf;
use tokio::io::AsyncWriteExt;

impl Job<'_> {
    pub(crate) async fn take(&mut self, workspace: &Workspace, take: &LeaseTake) -> Result<(), Broken> {
        let Some(digest) = &take.digest else {
            self.shipper.log.say(&format!("{} holds nothing: its globs matched no file", take.name)).await;
            return Ok(());
        };
        let archive = self.shared.workspaces.packing(&format!("take-{}", self.lease.attempt));
        self.fetch(digest, &archive).await?;
        let into = workspace.folders.files.join(take.to.as_deref().unwrap_or("."));
        let (path, wanted) = (archive.clone(), digest.clone());
        let done = blocking(move || {
            if digest_of(&path)? != wanted {
                return Ok(false);
            }
            unpack(&path, &into).map(|()| true)
        })
        .await;
        let _ = tokio::fs::remove_file(&archive).await;
        if done? { Ok(()) } else { Err(failed(format!("{} arrived damaged: its digest is not {digest}", take.name))) }
    }

    async fn fetch(&self, digest: &str, archive: &PathBuf) -> Result<(), Broken> {
        let fail = |source| Broken::from(ArchiveError::Io { path: archive.clone(), source });
        let client = &self.shared.client;
        let whole = || async move {
            let mut answer = client.blob(digest).await?;
            let unreachable = |source| CallError::Unreachable { url: "the blob store".into(), source };
            let mut file = match tokio::fs::File::create(archive).await {
                Ok(file) => file,
                Err(error) => return Ok(Err(error)),
            };
            while let Some(piece) = answer.chunk().await.map_err(unreachable)? {
                if let Err(error) = file.write_all(&piece).await {
                    return Ok(Err(error));
                }
            }
            Ok(file.flush().await)
        };
        insist(&self.shared.abort, whole).await?.map_err(fail)
    }

    pub(crate) async fn give_all(&mut self, workspace: &Workspace) -> Result<Vec<GivenArtifact>, Broken> {
        let mut given = Vec::new();
        let lease = self.lease.clone();
        for give in &lease.gives {
            self.check_halt()?;
            self.begin(&give.artifact, PhaseKind::Give).await;
            let done = self.give(workspace, give).await;
            self.end(done.is_err(), None);
            given.extend(done?);
        }
        Ok(given)
    }

    async fn give(&mut self, workspace: &Workspace, give: &Give) -> Result<Option<GivenArtifact>, Broken> {
        let (root, globs) = (workspace.folders.files.clone(), give.paths.clone());
        let paths = blocking(move || chosen(&root, &globs)).await.map_err(|error| named_artifact(give, error))?;
        if paths.is_empty() {
            let why = format!("artifact {}: nothing matches {}", give.artifact, give.paths.join(", "));
            match give.none {
                WhenNone::Fail => return Err(failed(why)),
                WhenNone::Warn => self.shipper.log.say(&why).await,
                WhenNone::Ignore => {}
            }
            return Ok(None);
        }
        let archive = self.shared.workspaces.packing(&format!("give-{}", self.lease.attempt));
        let (root, into, list) = (workspace.folders.files.clone(), archive.clone(), paths.clone());
        let packed = blocking(move || pack(&root, &list, &into)).await;
        let sent = match packed {
            Ok(packed) => self.send(&archive, &packed.digest).await.map(|()| packed),
            Err(error) => Err(error.into()),
        };
        let _ = tokio::fs::remove_file(&archive).await;
        let packed = sent?;
        let files = if paths.len() == 1 { "1 file".to_owned() } else { format!("{} files", paths.len()) };
        self.shipper.log.say(&format!("gave {}: {files}, {} packed", give.artifact, words::bytes(packed.bytes))).await;
        Ok(Some(GivenArtifact { name: give.artifact.clone(), digest: packed.digest, bytes: packed.bytes, files: paths.len() as u64 }))
    }

    async fn send(&self, archive: &PathBuf, digest: &str) -> Result<(), Broken> {
        let client = &self.shared.client;
        if insist(&self.shared.abort, || client.has_blob(digest)).await? {
            return Ok(());
        }
        let put = || async move {
            match tokio::fs::File::open(archive).await {
                Ok(file) => client.put_blob(digest, file).await,
                Err(error) => Err(CallError::Refused { status: 0, detail: format!("the packed artifact could not be read: {error}") }),
            }
        };
        Ok(insist(&self.shared.abort, put).await?)
    }
}

fn named_artifact(give: &Give, error: ArchiveError) -> Broken {
    failed(disk_full(&error).unwrap_or_else(|| format!("artifact {}: {error}", give.artifact)))
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T, ArchiveError> + Send + 'static) -> Result<T, ArchiveError> {
    let lost = |error| ArchiveError::Io { path: PathBuf::new(), source: std::io::Error::other(error) };
    tokio::task::spawn_blocking(work).await.map_err(lost)?
}
