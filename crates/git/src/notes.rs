//! Verdicts as git notes: under one ref, a note on the commit holds one JSON line a run. The note is read, the run's
//! line replaced or added, and the ref pushed; when someone else pushed first, all of it is done again.

use crate::command::{GitError, checked, git, git_with_input, unless_no};
use crate::mirror::Mirror;

pub(crate) const NOTES_REF: &str = "refs/notes/ordotaxis";

/// How often a push that lost a race is made again.
const PUSHES: usize = 5;

impl Mirror {
    /// Sets a line in the note on `commit` and pushes it. `line` is one line of JSON; it takes the place of those that hold all of
    /// `marks`.
    pub async fn write_note(&self, commit: &str, marks: &[String], line: &str) -> Result<(), GitError> {
        checked(commit)?;
        let mut last = None;
        for _ in 0..PUSHES {
            match self.write_note_once(commit, marks, line).await {
                Ok(()) => return Ok(()),
                Err(error @ GitError::Failed { .. }) => last = Some(error),
                Err(error) => return Err(error),
            }
        }
        Err(last.unwrap_or(GitError::TimedOut { verb: "push".into() }))
    }

    async fn write_note_once(&self, commit: &str, marks: &[String], line: &str) -> Result<(), GitError> {
        let _one_at_a_time = self.fetching.lock().await;
        // The ref does not exist before the first note; then there is nothing to fetch.
        let _ = self.fetch_refs(&["--no-tags", &format!("+{NOTES_REF}:{NOTES_REF}")]).await;
        let known = unless_no(git(&self.dir, &["notes", "--ref", NOTES_REF, "show", commit]).await)?.unwrap_or_default();
        let text = with_line(&String::from_utf8_lossy(&known), marks, line);
        git_with_input(&self.dir, &["notes", "--ref", NOTES_REF, "add", "-f", "-F", "-", commit], text.as_bytes()).await?;
        let refs = format!("{NOTES_REF}:{NOTES_REF}");
        self.outward(&["push", "--quiet", "--end-of-options", &self.url, &refs]).await.map(drop)
    }
}

/// The note's text with this line put in place of the one that it has with the same marks, or added.
fn with_line(known: &str, marks: &[String], line: &str) -> String {
    let ours = |known: &&str| marks.iter().all(|mark| known.contains(mark.as_str()));
    let mut lines: Vec<&str> = known.lines().filter(|known| !known.is_empty() && !ours(known)).collect();
    lines.push(line);
    lines.join("\n") + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_has_one_line() {
        let marks = |run: &str| [format!("\"run\":\"{run}\"")];
        let first = with_line("", &marks("tidegauge/1"), r#"{"run":"tidegauge/1","state":"failed"}"#);
        let both = with_line(&first, &marks("tidegauge/12"), r#"{"run":"tidegauge/12","state":"passed"}"#);
        let turned = with_line(&both, &marks("tidegauge/1"), r#"{"run":"tidegauge/1","state":"passed"}"#);
        assert_eq!(both.lines().count(), 2);
        assert_eq!(turned.lines().count(), 2);
        assert!(!turned.contains("failed"));
    }
}
