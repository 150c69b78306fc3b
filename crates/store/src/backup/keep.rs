//! Old copies are dropped, and then packs that no copy names.

use super::error::BackupError;
use super::shelf::Shelf;
use crate::blobs::path_of;
use futures_util::TryStreamExt;
use object_store::ObjectStoreExt;
use object_store::path::Path;
use std::collections::HashSet;

/// Keeps the newest so many copies. Gives how many were dropped.
pub async fn keep(shelf: &Shelf, copies: usize) -> Result<usize, BackupError> {
    let all = shelf.copies().await?;
    let old = all.len().saturating_sub(copies.max(1));
    for whole in &all[..old] {
        shelf.drop_copy(&whole.name).await?;
    }
    if old == 0 {
        return Ok(0);
    }
    let mut named: HashSet<Path> = HashSet::new();
    for whole in &all[old..] {
        named.extend(shelf.packs_of(&whole.name).await?.iter().map(|pack| path_of(&pack.name)));
    }
    let there: Vec<Path> = shelf.place.list(Some(&Path::from("packs"))).map_ok(|found| found.location).try_collect().await?;
    for path in there.iter().filter(|path| !named.contains(path)) {
        shelf.place.delete(path).await?;
    }
    Ok(old)
}
