//! Where a release's notes come from.

use crate::app::App;
use crate::clock;
use ordotaxis_core::release::{Landed, NotesFrom, collected, section};
use ordotaxis_store::{Project, StoreError};

/// Longer notes are cut: forges and mails take no more.
pub(super) const LONGEST: usize = 100_000;

/// Notes that stand in the commit; an error says what is missing. What is collected is not among them.
pub(super) async fn of_commit(app: &App, project: &Project, from: &NotesFrom, commit: &str) -> Result<String, String> {
    let file = match from {
        NotesFrom::File(file) | NotesFrom::Section(file, _) => file,
        NotesFrom::Nowhere | NotesFrom::Collected => return Ok(String::new()),
    };
    let read = app.mirror(project).read(commit, file).await.map_err(|error| format!("{file} could not be looked at: {error}"))?;
    let text = String::from_utf8_lossy(&read.ok_or_else(|| format!("{file}, which holds its notes, is not there"))?).into_owned();
    let text = match from {
        NotesFrom::Section(_, heading) => section(&text, heading).ok_or_else(|| format!("{file} has no section for {heading}"))?,
        _ => text,
    };
    Ok(cut(text))
}

/// What landed in a branch since the newest release before.
pub(super) async fn landed(app: &App, project: &Project, branch: &str) -> Result<String, StoreError> {
    let before = app.records.releases(project.id).await?.first().map_or(0, |release| release.made_at);
    let rows = app.records.landed_between(project.id, branch, (before, clock::now())).await?;
    let all: Vec<Landed> = rows.into_iter().map(|(number, title, author)| Landed { number, title, author }).collect();
    Ok(cut(collected(&all)))
}

fn cut(text: String) -> String {
    if text.len() <= LONGEST { text } else { text.chars().take(LONGEST / 4).chain("\n\n…".chars()).collect() }
}
