//! What a rehearsal leaves for the next: the packs in a folder, and beside them a small database that says which entries
//! of caches lie in them. What cannot be read is as nothing: a cache can be missing.

use crate::app::App;
use crate::causes::causes;
use crate::{care, clock};
use ordotaxis_core::access::Actor;
use ordotaxis_store::{BlobError, Records, YOUNG_MS};
use std::path::{Path, PathBuf};

/// The packs lie in this folder of it.
pub(crate) const BLOBS: &str = "blobs";

fn file(kept: &Path) -> PathBuf {
    kept.join("caches.db")
}

/// Before the store is opened: its packs. When they cannot be read, all of it goes.
pub(crate) async fn bring(kept: &Path, records: &Records) -> std::io::Result<()> {
    std::fs::create_dir_all(kept.join(BLOBS))?;
    if let Err(error) = records.bring_packs(&file(kept)).await {
        tracing::warn!(error = causes(&error), folder = %kept.display(), "what was cached before cannot be read; the caches begin empty");
        std::fs::remove_file(file(kept))?;
        std::fs::remove_dir_all(kept.join(BLOBS))?;
        std::fs::create_dir_all(kept.join(BLOBS))?;
    }
    Ok(())
}

/// The entries, once there is a project that they belong to.
pub(crate) async fn bring_entries(kept: &Path, records: &Records, project_id: i64) {
    if let Err(error) = records.bring_caches(&file(kept), project_id).await {
        tracing::warn!(error = causes(&error), folder = %kept.display(), "what was cached before cannot be read; the caches begin empty");
    }
}

/// At the end: caches within the limit stay, and nothing else of the rehearsal.
pub(crate) async fn leave(app: &App, kept: &Path) -> Result<(), BlobError> {
    // Nobody works here any more: nothing is too young to go.
    let now = clock::now() + YOUNG_MS + 1000;
    care::leave_caches(app, &Actor::rule("rehearsal-end"), now).await?;
    app.records.keep_caches(&file(kept)).await.map_err(BlobError::from)
}
