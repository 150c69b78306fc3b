//! A proposal's run is otherwise than before: its comment says so.

use crate::app::App;
use crate::talk::comment_anew;
use ordotaxis_store::{NewWork, RunEvent, StoreError};

/// The proposal's comment, unless the run is no proposal's.
pub(super) async fn follows(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.branch.is_some() {
        return Ok(Vec::new());
    }
    let proposal = app.records.proposal_of(run).await?;
    Ok(proposal.iter().map(|proposal| comment_anew(event.project_id, proposal)).collect())
}
