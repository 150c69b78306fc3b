//! Why a job's folder could not be made.

use crate::archive::ArchiveError;
use crate::client::CallError;
use crate::layer_error::LayerError;
use crate::stage::StageError;
use ordotaxis_git::GitError;
use std::path::{Path, PathBuf};

/// Why a job's folder could not be made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum WorkspaceError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Call(#[from] CallError),
    #[error("the large file {0} is not what the commit says")]
    Large(String),
    #[error("the commit has more than {0} submodules")]
    Modules(usize),
    #[error("copying the commit's files failed: {0}")]
    Copy(String),
    #[error(transparent)]
    Layer(#[from] LayerError),
    #[error(transparent)]
    Stage(#[from] StageError),
    #[error(transparent)]
    Place(#[from] ArchiveError),
}

pub(crate) fn io(path: &Path) -> impl Fn(std::io::Error) -> WorkspaceError + use<'_> {
    move |source| WorkspaceError::Io { path: path.to_owned(), source }
}
