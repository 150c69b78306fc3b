//! Work that releases lead to.

use ordotaxis_store::{NewWork, WorkKind};
use serde::{Deserialize, Serialize};

/// A piece of work for a project's releases; the body of its row, version 1.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "release", rename_all = "snake_case")]
pub(crate) enum ReleaseWork {
    /// A job has passed that makes a release.
    Make { run: i64, job: usize },
    /// The forge is told of one, by its version, as it is by then.
    Tell { version: String },
}

impl ReleaseWork {
    /// Its row. What is to be told waits behind nothing that is made.
    pub(crate) fn row(&self, project_id: i64) -> NewWork {
        let lane = match self {
            ReleaseWork::Make { .. } => "make".to_owned(),
            ReleaseWork::Tell { version } => format!("tell {version}"),
        };
        let body = serde_json::to_string(self).unwrap_or_default();
        NewWork { kind: WorkKind::Release, project_id, lane, once: None, body }
    }
}
