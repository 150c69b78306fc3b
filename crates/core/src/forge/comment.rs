//! The one comment that a proposal has: how it is with it now, as text. It is written as Markdown that is read as well where a
//! forge shows it as it is written. Much of what stands in it comes from whoever offers the proposal (names of tests,
//! messages): that is shut into spans of code, so that it neither calls people, nor links, nor gives commands.

use super::event::short;
use super::spoken::{MOST, SPOKEN};
use crate::engine::State;
use serde::{Deserialize, Serialize};
use std::fmt::Write;

/// Of what failed so many are named.
const FAILURES: usize = 8;
/// The longest text from elsewhere, in characters.
const LONGEST: usize = 240;
/// So many answers are kept, so that one comment's are all there; older ones go.
pub const ANSWERS: usize = MOST;

/// How it is with a proposal.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Comment {
    pub project: String,
    /// The newest commit of what is offered.
    pub head: String,
    /// The newest run of each pipeline for that commit.
    pub runs: Vec<Ran>,
    /// What fails that did not fail before it.
    pub failures: Vec<Failure>,
    pub numbers: Vec<Grown>,
    /// Where it can be looked at: the environment, its address where the rules say one, and the commit that is there.
    pub previews: Vec<(String, Option<String>, String)>,
    /// Where it stands in the landing queue, what it lacks, or how it landed.
    pub landing: Vec<String>,
    /// The last commands in comments, oldest first.
    pub answers: Vec<Answered>,
}

/// A pipeline's newest run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ran {
    pub pipeline: String,
    pub state: State,
    pub sentence: String,
    pub link: String,
}

/// A test, or a job without tests, that fails.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    pub job: String,
    pub test: Option<String>,
    pub message: Option<String>,
    /// `FILE:LINE`
    pub place: Option<String>,
}

/// A number of its newest run beside what it was before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grown {
    pub name: String,
    pub now: String,
    pub before: Option<String>,
    /// What a gate asks for, such as `>= 80`.
    pub wants: Option<String>,
}

/// A command, and what came of it. Stored as JSON, version 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answered {
    pub by: String,
    pub command: String,
    pub answer: String,
    /// What names the call that it answers, so that one is not done twice; empty in answers of before.
    #[serde(default)]
    pub call: String,
}

impl Comment {
    /// All of it. The same comment is the same text.
    pub fn text(&self) -> String {
        let mut out = format!("**{}** at {}: {}\n", self.project, short(&self.head), self.verdict());
        for run in &self.runs {
            let _ = write!(out, "\n- {} {}: {} {}", run.pipeline, run.state.word(), inert(&run.sentence), run.link);
        }
        section(&mut out, "New failures", self.failures.iter().take(FAILURES).map(Failure::line), self.failures.len());
        section(&mut out, "Numbers", self.numbers.iter().take(FAILURES).map(Grown::line), self.numbers.len());
        let preview = |(name, url, commit): &(String, Option<String>, String)| {
            let url = url.as_ref().map(|url| format!(" {url}")).unwrap_or_default();
            format!("{}{url} at {}", inert(name), short(commit))
        };
        section(&mut out, "To look at", self.previews.iter().take(FAILURES).map(preview), self.previews.len());
        section(&mut out, "Landing", self.landing.iter().map(|line| inert(line)), self.landing.len());
        let answers = self.answers.iter().map(|one| format!("{} {}: {}", inert(&one.by), inert(&one.command), inert(&one.answer)));
        section(&mut out, "Commands", answers, self.answers.len());
        let _ = write!(out, "\n\nCommands, one a line after `ordotaxis:`: {}\n", SPOKEN.join(", "));
        out
    }

    /// The worst of its runs, in a word.
    fn verdict(&self) -> &'static str {
        let any = |wanted: fn(State) -> bool| self.runs.iter().find(|run| wanted(run.state)).map(|run| run.state.word());
        let bad = any(|state| matches!(state, State::Failed | State::Lost | State::Stopped));
        let open = any(|state| !state.is_end());
        bad.or(open).or_else(|| self.runs.first().map(|_| State::Passed.word())).unwrap_or("no run yet")
    }
}

fn section(out: &mut String, title: &str, lines: impl Iterator<Item = String>, of: usize) {
    if of == 0 {
        return;
    }
    let _ = write!(out, "\n\n{title}:");
    let mut shown = 0;
    for line in lines {
        let _ = write!(out, "\n- {line}");
        shown += 1;
    }
    if of > shown {
        let _ = write!(out, "\n- and {} more", of - shown);
    }
}

impl Failure {
    fn line(&self) -> String {
        let test = self.test.as_ref().map(|test| format!(" {}", inert(test))).unwrap_or_default();
        let message = self.message.as_ref().map(|message| format!(": {}", inert(message))).unwrap_or_default();
        let place = self.place.as_ref().map(|place| format!(" at {}", inert(place))).unwrap_or_default();
        format!("{}{test}{message}{place}", inert(&self.job))
    }
}

impl Grown {
    fn line(&self) -> String {
        let before = self.before.as_ref().filter(|before| **before != self.now);
        let before = before.map(|before| format!(", was {}", inert(before))).unwrap_or_default();
        let wants = self.wants.as_ref().map(|wants| format!(", wanted {}", inert(wants))).unwrap_or_default();
        format!("{} {}{before}{wants}", inert(&self.name), inert(&self.now))
    }
}

/// One line in a span of code: nothing in it is more than letters.
fn inert(text: &str) -> String {
    let plain: String = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let plain: String = plain.chars().filter(|c| !c.is_control()).map(|c| if c == '`' { '\'' } else { c }).take(LONGEST).collect();
    if plain.is_empty() { "–".to_owned() } else { format!("`{plain}`") }
}

#[cfg(test)]
mod tests {
    use super::super::spoken;
    use super::*;
    use proptest::prelude::*;

    fn ran(pipeline: &str, state: State) -> Ran {
        let sentence = format!("{}: 3 jobs", state.word());
        Ran { pipeline: pipeline.into(), state, sentence, link: "http://127.0.0.1:7070/runs/tidegauge/12".into() }
    }

    #[test]
    fn it_says_how_it_is() {
        let comment = Comment {
            project: "tidegauge".into(),
            head: "1a2b3c4d5e6f".into(),
            runs: vec![ran("main", State::Passed), ran("soak", State::Failed)],
            failures: vec![Failure {
                job: "test.unit[O2]".into(),
                test: Some("tide > replays spring".into()),
                message: Some("expected `4200`,\n got 4100".into()),
                place: Some("src/tide.c:12".into()),
            }],
            numbers: vec![
                Grown { name: "coverage.changed".into(), now: "71.4".into(), before: None, wants: Some(">= 80".into()) },
                Grown { name: "fact.build.gauge.size".into(), now: "640".into(), before: Some("512".into()), wants: None },
            ],
            previews: vec![("preview-7".into(), Some("http://127.0.0.1:8301/preview-7".into()), "1a2b3c4d5e".into())],
            landing: vec!["place 2 in the queue of main: is being tested after 7".into()],
            answers: vec![Answered { by: "maren".into(), command: "land".into(), answer: "it takes place 2".into(), call: "7 0".into() }],
        };
        insta::assert_snapshot!(comment.text());
        assert_eq!(comment.verdict(), "failed", "the worst counts");
        assert!(Comment::default().text().contains("no run yet"));
        assert_eq!(
            Comment { runs: vec![ran("main", State::Passed), ran("soak", State::Running)], ..Comment::default() }.verdict(),
            "running"
        );
    }

    proptest! {
        /// Whoever names tests, or is answered, gives no commands by it, whatever account writes the comment.
        #[test]
        fn nothing_in_it_is_a_command(text in prop_oneof![any::<String>(), "(\n|`|```|ordotaxis: land|@maren|\\[a\\]\\(b\\)){1,6}"]) {
            let one = Failure { job: text.clone(), test: Some(text.clone()), message: Some(text.clone()), place: Some(text.clone()) };
            let comment = Comment {
                project: "tidegauge".into(),
                head: "1a2b3c4d".into(),
                runs: vec![Ran { sentence: text.clone(), ..ran("main", State::Failed) }],
                failures: vec![one; 20],
                numbers: vec![Grown { name: text.clone(), now: text.clone(), before: Some("2".into()), wants: Some(text.clone()) }],
                previews: vec![(text.clone(), None, "1a2b3c4d5e".into())],
                landing: vec![text.clone()],
                answers: vec![Answered { by: text.clone(), command: text.clone(), answer: text.clone(), call: text.clone() }],
            };
            let written = comment.text();
            prop_assert_eq!(spoken(&written), []);
            prop_assert!(written.len() < 16_000 + 4 * 40 * LONGEST);
            for line in written.lines().filter(|line| line.contains('@') || line.contains('[')) {
                let outside: String = line.split('`').step_by(2).collect();
                prop_assert!(!outside.contains('@') && !outside.contains('['), "{line}");
            }
        }
    }
}
