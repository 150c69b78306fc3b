//! Artifacts that are shown as pages for a while.

use ordotaxis_content::Tree;
use std::collections::HashMap;
use std::sync::Arc;

/// Word in the address → until when, and what.
pub(crate) type Shown = HashMap<String, (i64, Arc<Tree>)>;
