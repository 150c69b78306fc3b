//! A cache while its job goes on.

use crate::broken::{Broken, failed};
use ordotaxis_content::{ChunkId, Tree};
use ordotaxis_wire::runner::CacheUse;

/// What is known of a cache while its job goes on.
pub(crate) struct Known {
    pub(crate) told: CacheUse,
    /// What was saved.
    pub(crate) saved: Option<(ChunkId, Tree)>,
    pub(crate) may_save: bool,
}

/// Keys that cannot be are the file's mistake.
pub(crate) fn fit_key(key: &str) -> Result<(), Broken> {
    let fits = !key.is_empty() && key.len() <= 512 && !key.chars().any(char::is_control);
    if fits { Ok(()) } else { Err(failed(format!("a cache's key is 1 to 512 characters, none of them a control character: {key:?}"))) }
}
