//! Work that talk leads to.

use ordotaxis_store::{NewWork, StoreError, Tx, WorkKind};
use serde::{Deserialize, Serialize};

/// Someone's comment with commands in it; the body of its work, version 1.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Comment {
    pub(crate) proposal: String,
    /// As the forge calls them.
    pub(crate) by: String,
    pub(crate) text: String,
}

/// The comment of a proposal is not right any more. Its lane is the proposal.
pub(crate) fn comment_anew(project_id: i64, proposal: &str) -> NewWork {
    NewWork { kind: WorkKind::Comment, project_id, lane: proposal.to_owned(), once: None, body: "{}".to_owned() }
}

/// Someone wrote a comment in which commands stand. `once` names it.
pub(crate) async fn take_spoken(
    tx: &mut Tx,
    project_id: i64,
    proposal: &str,
    by: &str,
    text: &str,
    once: String,
) -> Result<Option<i64>, StoreError> {
    let said = Comment { proposal: proposal.to_owned(), by: by.to_owned(), text: text.chars().take(LONGEST).collect() };
    let body = serde_json::to_string(&said).unwrap_or_default();
    tx.add_work(&NewWork { kind: WorkKind::Spoken, project_id, lane: proposal.to_owned(), once: Some(once), body }).await
}

/// Of a comment so many characters are looked at.
const LONGEST: usize = 20_000;
