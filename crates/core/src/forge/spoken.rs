//! Commands that people write in comments on proposals: one a line, `ordotaxis: land`. What is quoted or stands in a block of
//! code is someone's example, and no command.

use crate::language::nearest;

/// What every command begins with.
pub const CALL: &str = "ordotaxis:";
/// Of one comment no more commands are done.
pub(super) const MOST: usize = 10;

/// Something that a comment asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Spoken {
    /// It takes its place in the landing queue, and is no longer held.
    Land,
    /// The newest run of every pipeline once more.
    Again,
    /// What failed in them once more.
    AgainFailed,
    /// The writer approves: this commit (its first digits), or the one that the proposal's comment speaks of.
    Approve { commit: Option<String> },
    /// It leaves the landing queue.
    Leave,
    /// It keeps its place and is not tried.
    Hold,
    /// What a job of a run would put into its environment is agreed with, or refused.
    Say { agrees: bool, project: String, number: i64, job: Option<String> },
}

/// How each command is written.
pub const SPOKEN: [&str; 8] = ["land", "again", "again failed", "approve", "leave", "hold", "approve RUN", "refuse RUN"];

/// A line that calls for a command, with what it asks for: or why nobody knows what that is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Command {
    /// As it is written, after the call; at most 60 characters.
    pub line: String,
    pub asks: Result<Spoken, String>,
}

/// The commands of a comment, in its order; the first ten.
///
/// ```
/// use ordotaxis_core::forge::{Spoken, spoken};
/// let text = "Good now.\nordotaxis: approve\n> ordotaxis: land\nOrdotaxis: again failed\n";
/// let asks: Vec<_> = spoken(text).into_iter().map(|call| call.asks).collect();
/// assert_eq!(asks, [Ok(Spoken::Approve { commit: None }), Ok(Spoken::AgainFailed)], "what is quoted is none");
/// ```
pub fn spoken(text: &str) -> Vec<Command> {
    let mut fenced = false;
    let mut calls = Vec::new();
    for line in text.lines() {
        let bare = line.trim_start();
        if bare.starts_with("```") || bare.starts_with("~~~") {
            fenced = !fenced;
            continue;
        }
        // Four blanks and a tab make code, too.
        let is_code = fenced || line.starts_with("    ") || line.starts_with('\t');
        if !is_code && let Some(rest) = called(bare) {
            calls.push(call(rest));
        }
        if calls.len() == MOST {
            break;
        }
    }
    calls
}

/// What follows the call, where the line begins with it.
fn called(line: &str) -> Option<&str> {
    let head = line.get(..CALL.len())?;
    head.eq_ignore_ascii_case(CALL).then(|| &line[CALL.len()..])
}

fn call(rest: &str) -> Command {
    let words: Vec<&str> = rest.split_whitespace().collect();
    let lower = words.join(" ").to_lowercase();
    let line: String = words.join(" ").chars().filter(|c| !c.is_control()).take(60).collect();
    let is_commit = |text: &str| (7..=64).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    if let Some(said) = said(&words) {
        return Command { line, asks: Ok(said) };
    }
    let asks = match lower.as_str() {
        "land" => Ok(Spoken::Land),
        "again" => Ok(Spoken::Again),
        "again failed" => Ok(Spoken::AgainFailed),
        "approve" => Ok(Spoken::Approve { commit: None }),
        "leave" => Ok(Spoken::Leave),
        "hold" => Ok(Spoken::Hold),
        _ => match lower.strip_prefix("approve ") {
            Some(commit) if is_commit(commit) => Ok(Spoken::Approve { commit: Some(commit.to_owned()) }),
            _ => Err(unknown(&lower)),
        },
    };
    Command { line, asks }
}

/// `approve stations/41`, `refuse stations/41 ship.pier`
fn said(words: &[&str]) -> Option<Spoken> {
    let (verb, run, job) = match words {
        [verb, run] => (verb, run, None),
        [verb, run, job] => (verb, run, Some((*job).to_owned())),
        _ => return None,
    };
    let agrees = match verb.to_lowercase().as_str() {
        "approve" => true,
        "refuse" => false,
        _ => return None,
    };
    let (project, number) = run.split_once('/')?;
    let number = number.parse().ok().filter(|number: &i64| *number > 0)?;
    Some(Spoken::Say { agrees, project: project.to_owned(), number, job })
}

fn unknown(words: &str) -> String {
    match nearest(words, SPOKEN) {
        Some(near) => format!("no such command; did you mean `{near}`?"),
        None => format!("no such command; there are {}", SPOKEN.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn asks(text: &str) -> Vec<Result<Spoken, String>> {
        spoken(text).into_iter().map(|call| call.asks).collect()
    }

    #[test]
    fn commands_stand_one_a_line() {
        for (text, wanted) in [
            ("ordotaxis: land", vec![Ok(Spoken::Land)]),
            ("ORDOTAXIS:   Again   FAILED  \r\n", vec![Ok(Spoken::AgainFailed)]),
            ("ordotaxis:hold\nordotaxis:leave", vec![Ok(Spoken::Hold), Ok(Spoken::Leave)]),
            ("please, ordotaxis: land", vec![]),
            ("```\nordotaxis: land\n```\nordotaxis: again", vec![Ok(Spoken::Again)]),
            ("    ordotaxis: land\n\tordotaxis: land\n> ordotaxis: land\n- ordotaxis: land", vec![]),
            ("ordotaxis: approve 1a2B3c4D", vec![Ok(Spoken::Approve { commit: Some("1a2b3c4d".into()) })]),
            (
                "ordotaxis: Approve stations/41\nordotaxis: refuse stations/41 ship.pier[North]",
                vec![
                    Ok(Spoken::Say { agrees: true, project: "stations".into(), number: 41, job: None }),
                    Ok(Spoken::Say { agrees: false, project: "stations".into(), number: 41, job: Some("ship.pier[North]".into()) }),
                ],
            ),
            ("ordotaxis: lnad", vec![Err("no such command; did you mean `land`?".into())]),
        ] {
            assert_eq!(asks(text), wanted, "{text:?}");
        }
        assert!(asks("ordotaxis: approve it").remove(0).is_err_and(|why| why.contains("no such command")));
        assert_eq!(spoken(&"ordotaxis: land\n".repeat(50)).len(), MOST);
    }

    proptest! {
        #[test]
        fn no_text_is_too_odd(text in any::<String>(), lines in prop::collection::vec("(?i)(ordotaxis:)?[ a-z`>é]{0,20}", 0..30)) {
            for text in [text, lines.join("\n")] {
                let calls = spoken(&text);
                prop_assert!(calls.len() <= MOST);
                prop_assert!(calls.iter().all(|call| call.line.chars().count() <= 60 && !call.line.contains('\n')));
            }
        }
    }
}
