//! An empty bare repository, made so that what is seen of it is whole.

use crate::command::{GitError, git};
use std::io::ErrorKind::NotFound;
use std::path::Path;
use tokio::sync::Mutex;

/// They are made one after another: two that make the same one at once would be in each other's way.
static MAKING: Mutex<()> = Mutex::const_new(());

/// Makes one where there is none: beside its place, and then moved there. What an end in between left goes. Names end in `.git`,
/// so that no other one lies where it is made.
pub(crate) async fn make(dir: &Path) -> Result<(), GitError> {
    let is_made = || dir.join("HEAD").exists();
    if is_made() {
        return Ok(());
    }
    let _one_at_a_time = MAKING.lock().await;
    if is_made() {
        return Ok(());
    }
    let folder = |source| GitError::Folder { path: dir.to_owned(), source };
    let aside = dir.with_extension("new");
    for half_made in [&aside, dir] {
        match tokio::fs::remove_dir_all(half_made).await {
            Err(error) if error.kind() != NotFound => return Err(folder(error)),
            _ => {}
        }
    }
    tokio::fs::create_dir_all(&aside).await.map_err(folder)?;
    git(&aside, &["init", "--quiet", "--bare"]).await?;
    tokio::fs::rename(&aside, dir).await.map_err(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_was_half_made_is_made_anew() {
        let folder = tempfile::tempdir().unwrap();
        let dir = folder.path().join("almanac.git");
        for half in ["almanac.git/objects/aa", "almanac.new/refs"] {
            std::fs::create_dir_all(folder.path().join(half)).unwrap();
        }
        make(&dir).await.unwrap();
        assert!(!dir.join("objects/aa").exists() && !folder.path().join("almanac.new").exists());
        std::fs::write(dir.join("objects/kept"), "").unwrap();
        make(&dir).await.unwrap();
        assert!(dir.join("objects/kept").exists(), "what is whole stays");
        assert_eq!(git(&dir, &["for-each-ref"]).await.unwrap(), b"");
    }
}
