//! Why a tree could not be brought here.

use crate::client::CallError;
use ordotaxis_content::TreeError;
use std::path::{Path, PathBuf};

/// Why a tree is not there as a folder.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LayerError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error(transparent)]
    Call(#[from] CallError),
    #[error("what the store sent is not what was asked for: {0}")]
    Tree(#[from] TreeError),
    #[error("what the store sent is damaged: {0}")]
    Pack(#[from] ordotaxis_content::PackError),
    #[error("the store did not send all that was asked for")]
    Short,
}

/// Says at which path something went wrong.
pub(crate) fn io(path: &Path) -> impl Fn(std::io::Error) -> LayerError + use<'_> {
    move |source| LayerError::Io { path: path.to_owned(), source }
}
