//! Folders that are not wanted any more: moved aside at once, deleted by a thread.

use crate::workspace_error::{WorkspaceError, io};
use std::path::Path;

/// Moves a folder aside at once and deletes it in the background, so that nobody waits for a large deletion.
pub(crate) fn discard(folder: &Path, path: &Path) -> Result<(), WorkspaceError> {
    discard_after(folder, path, |_| ())
}

/// The same; what is to go is looked at where it lies first.
pub(crate) fn discard_after(folder: &Path, path: &Path, look: impl FnOnce(&Path) + Send + 'static) -> Result<(), WorkspaceError> {
    if !path.exists() {
        return Ok(());
    }
    let trash = folder.join("trash");
    std::fs::create_dir_all(&trash).map_err(io(&trash))?;
    let aside = trash.join(format!("{:032x}", rand::random::<u128>()));
    std::fs::rename(path, &aside).map_err(io(path))?;
    std::thread::spawn(move || {
        look(&aside);
        drop(std::fs::remove_dir_all(aside));
    });
    Ok(())
}
