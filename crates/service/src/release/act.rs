//! What people do with releases: other words, publishing a draft, withdrawing.

use super::notes::LONGEST;
use super::wanted::ReleaseWork;
use crate::app::App;
use crate::clock;
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_store::{Entry, Project, ReleaseRow, StoreError, Tx};
use ordotaxis_wire::release::EditRelease;
use serde_json::json;

/// The longest title.
const TITLE: usize = 200;

/// Why it was not done.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotDone {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    No(String),
    /// A field of what was asked for, and what is wrong with it.
    #[error("{1}")]
    Field(&'static str, String),
}

fn entry(project: &Project, action: Action, row: &ReleaseRow) -> Entry {
    Entry::new(action, format!("release {}", row.version)).of(&project.name)
}

/// Once it was published, the forge hears of every change.
async fn tell(tx: &mut Tx, project: &Project, row: &ReleaseRow) -> Result<(), StoreError> {
    tx.add_work(&ReleaseWork::Tell { version: row.version.clone() }.row(project.id)).await.map(drop)
}

/// Changes title or notes. What they were is kept.
pub(crate) async fn edit(app: &App, actor: &Actor, project: &Project, row: &ReleaseRow, ask: EditRelease) -> Result<(), NotDone> {
    let title = ask.title.map_or_else(|| row.title.clone(), |title| title.trim().to_owned());
    let notes = ask.notes.unwrap_or_else(|| row.notes.clone());
    if title.is_empty() || title.chars().count() > TITLE || title.chars().any(char::is_control) {
        return Err(NotDone::Field("/title", format!("a title is one line of 1 to {TITLE} characters")));
    }
    if notes.len() > LONGEST {
        return Err(NotDone::Field("/notes", format!("notes have at most {LONGEST} bytes")));
    }
    if (&title, &notes) == (&row.title, &row.notes) {
        return Ok(());
    }
    let mut tx = app.records.tx(actor, clock::now()).await?;
    tx.edit_release(row.id, &title, &notes, actor.name()).await?;
    let (before, after) = (json!({ "title": row.title, "notes": row.notes }), json!({ "title": title, "notes": notes }));
    tx.note(entry(project, Action::EditRelease, row).before(before).after(after));
    if row.state == "published" {
        tell(&mut tx, project, row).await?;
    }
    Ok(tx.commit().await?)
}

/// Publishes a draft, or what was withdrawn.
pub(crate) async fn publish(app: &App, actor: &Actor, project: &Project, row: &ReleaseRow) -> Result<(), NotDone> {
    let mut tx = app.records.tx(actor, clock::now()).await?;
    if !tx.publish_release(row.id, actor.name()).await? {
        return Err(NotDone::No(format!("{} is published already", row.version)));
    }
    tx.note(entry(project, Action::PublishRelease, row).before(&row.state).after("published"));
    tell(&mut tx, project, row).await?;
    Ok(tx.commit().await?)
}

/// Says that nobody should use it any more. It stays where it is.
pub(crate) async fn withdraw(app: &App, actor: &Actor, project: &Project, row: &ReleaseRow, reason: &str) -> Result<(), NotDone> {
    let reason = reason.trim();
    if reason.is_empty() || reason.len() > 1_000 {
        return Err(NotDone::Field("/reason", "say why, in at most 1000 bytes: everybody reads it".to_owned()));
    }
    let mut tx = app.records.tx(actor, clock::now()).await?;
    if !tx.withdraw_release(row.id, actor.name(), reason).await? {
        return Err(NotDone::No(format!("{} is withdrawn already", row.version)));
    }
    tx.note(entry(project, Action::WithdrawRelease, row).before(&row.state).after(reason));
    if row.state == "published" {
        tell(&mut tx, project, row).await?;
    }
    Ok(tx.commit().await?)
}
