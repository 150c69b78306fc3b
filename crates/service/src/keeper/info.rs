//! What never changes about a run while it goes on.

use ordotaxis_store::{Project, StoredRun};
use ordotaxis_wire::runner::Merge;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Globs, joined by line ends → path → digest: the files that jobs with `reuse` name.
pub(crate) type Inputs = BTreeMap<String, BTreeMap<String, String>>;

/// What never changes about a run while it goes on.
#[derive(Debug, Clone)]
pub(crate) struct RunInfo {
    pub(crate) id: i64,
    pub(crate) number: i64,
    pub(crate) project_id: i64,
    pub(crate) project: String,
    pub(crate) commit: String,
    pub(crate) commit_time: i64,
    pub(crate) branch: Option<String>,
    /// Where verdicts go.
    pub(crate) told_on: String,
    /// The number of the run that this one does once more.
    pub(crate) again_of: Option<i64>,
    /// With nothing kept from before.
    pub(crate) fresh: bool,
    /// How long test files took, for jobs with a `split`: job → file → milliseconds.
    pub(crate) shared: Arc<Shared>,
    /// Digests of the files that jobs with `reuse` name.
    pub(crate) inputs: Arc<Inputs>,
    /// A newer commit was looked at first: the run that makes this one pointless, or nothing.
    pub(crate) behind: Option<String>,
    /// Its commit is or was a landing queue's trial: whatever passes of that once need not pass again.
    pub(crate) tried: bool,
}

impl RunInfo {
    /// As a run was written down.
    pub(crate) fn of(project: &Project, stored: &StoredRun, fresh: bool) -> RunInfo {
        fn read<T: serde::de::DeserializeOwned>(text: Option<&String>) -> Option<T> {
            text.and_then(|text| serde_json::from_str(text).ok())
        }
        let merge: Option<Merge> = read(stored.merged.as_ref());
        RunInfo {
            id: stored.id,
            number: stored.number,
            project_id: project.id,
            project: project.name.clone(),
            commit: stored.commit_id.clone(),
            commit_time: stored.commit_time,
            branch: stored.branch.clone(),
            told_on: merge.as_ref().map_or_else(|| stored.commit_id.clone(), |merge| merge.head.clone()),
            again_of: stored.again_of,
            fresh,
            shared: Arc::new(read(stored.shared.as_ref()).unwrap_or_default()),
            inputs: Arc::new(read(stored.inputs.as_ref()).unwrap_or_default()),
            behind: stored.behind.clone(),
            tried: stored.tried,
        }
    }
}

/// Of each job that shares tests out: test file → usual milliseconds.
pub(crate) type Shared = BTreeMap<String, BTreeMap<String, i64>>;
