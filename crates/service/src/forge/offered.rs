//! Proposals of projects without a forge: offered here, by command. They follow their branch as a forge's do.

use super::occasion::work_of;
use crate::landing::told_of_proposal;
use ordotaxis_core::forge::{Event, Offer};
use ordotaxis_store::{Project, StoreError, Tx};

/// Offers a branch, or what it names now, and begins what that starts.
pub(crate) async fn offer(tx: &mut Tx, project: &Project, number: &str, offer: Offer) -> Result<(), StoreError> {
    tx.set_proposal(project.id, number, &offer).await?;
    let once = format!("offered {number} {}", offer.commit);
    tx.add_work(&work_of(project, &Event::Proposal(offer), once)).await.map(drop)
}

/// A branch names another commit, or none any more: so do the proposals that offer it. A forge tells of its own.
pub(super) async fn follow(tx: &mut Tx, project: &Project, branch: &str, commit: Option<&str>) -> Result<(), StoreError> {
    if project.forge.is_some() {
        return Ok(());
    }
    for row in tx.proposals_from(project.id, branch).await? {
        match commit {
            Some(commit) if row.head == commit => {}
            Some(commit) => {
                told_of_proposal(tx, project.id, &row.number, Some(commit), "it offers another commit now: ask again").await?;
                let now = Offer {
                    number: Some(row.number.clone()),
                    title: Some(row.title.clone()),
                    target: row.target.clone(),
                    source: row.source.clone(),
                    commit: commit.to_owned(),
                    outside: false,
                    draft: row.draft,
                    by: row.author.clone(),
                    link: None,
                    open: true,
                };
                offer(tx, project, &row.number, now).await?;
            }
            None => {
                tx.end_proposal(project.id, &row.number, "closed", None).await?;
                told_of_proposal(tx, project.id, &row.number, None, "its branch is gone").await?;
            }
        }
    }
    Ok(())
}
