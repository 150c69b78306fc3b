//! Notices as one message: a subject, plain text, and the same as HTML. Everything begins with the project's name.

use super::{Notice, line};
use crate::language::counted;
use std::collections::BTreeMap;
use std::fmt::Write;

/// Of a storm so many notices are told in full; of the others only their sentences.
const IN_FULL: usize = 3;
/// Of a part so many lines are shown.
const LINES: usize = 20;

/// A message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letter {
    pub subject: String,
    pub text: String,
    pub html: String,
}

/// One message of these notices, oldest first. None where there are none.
pub fn letter(notices: &[Notice]) -> Option<Letter> {
    let subject = match notices {
        [] => return None,
        [one] => heading(one),
        more => format!("{}: {}", projects(more), counted(more.len(), "notice")),
    };
    let (mut text, mut html) = (String::new(), String::new());
    if notices.len() > 1 {
        let _ = writeln!(text, "{subject}\n");
        for notice in notices {
            let _ = writeln!(text, "- {}", heading(notice));
        }
        text.push('\n');
        let items: String = notices.iter().map(|notice| format!("<li>{}</li>", linked(notice))).collect();
        let _ = write!(html, "<h2>{}</h2><ul>{items}</ul>", escaped(&subject));
    }
    for notice in notices.iter().take(IN_FULL) {
        text.push_str(&plain(notice));
        html.push_str(&marked(notice));
    }
    Some(Letter { subject, text, html: format!("<!doctype html><html><body style=\"{BODY}\">{html}</body></html>") })
}

const BODY: &str = "font:14px/1.5 system-ui,sans-serif;color:#14181d";

/// `tidegauge: main is broken …`
fn heading(notice: &Notice) -> String {
    line(&format!("{}: {}", notice.project, notice.sentence))
}

/// The projects of some notices, those with most first.
fn projects(notices: &[Notice]) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    notices.iter().for_each(|notice| *counts.entry(&notice.project).or_default() += 1);
    let mut names: Vec<(&str, usize)> = counts.into_iter().collect();
    names.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), *name));
    let shown: Vec<&str> = names.iter().take(3).map(|(name, _)| *name).collect();
    let more = if names.len() > 3 { " and more" } else { "" };
    line(&format!("{}{more}", shown.join(", ")))
}

/// Headings with their lines, the commits among them.
fn parts(notice: &Notice) -> Vec<(String, Vec<String>)> {
    let mut parts: Vec<(String, Vec<String>)> =
        notice.parts.iter().map(|part| (line(&part.title), part.lines.iter().map(|one| line(one)).collect())).collect();
    if !notice.commits.is_empty() {
        let commit = |one: &super::Change| line(&format!("{} {} ({})", one.id.chars().take(8).collect::<String>(), one.title, one.author));
        parts.push(("Commits since it last passed".into(), notice.commits.iter().map(commit).collect()));
    }
    for (_, lines) in &mut parts {
        if lines.len() > LINES {
            let more = lines.len() - LINES;
            lines.truncate(LINES);
            lines.push(format!("and {more} more"));
        }
    }
    parts
}

fn plain(notice: &Notice) -> String {
    let mut out = format!("{}\n", heading(notice));
    for (title, lines) in parts(notice) {
        let _ = write!(out, "\n{title}:\n");
        lines.iter().for_each(|line| {
            let _ = writeln!(out, "  {line}");
        });
    }
    let _ = write!(out, "\n{}\n\n", notice.link);
    out
}

fn marked(notice: &Notice) -> String {
    let parts = parts(notice).into_iter().fold(String::new(), |mut out, (title, lines)| {
        let lines = lines.iter().map(|line| escaped(line)).collect::<Vec<_>>().join("\n");
        let _ =
            write!(out, "<p style=\"margin:12px 0 4px\">{}</p><pre style=\"margin:0;white-space:pre-wrap\">{lines}</pre>", escaped(&title));
        out
    });
    format!("<h3>{}</h3>{parts}<p><a href=\"{1}\">{1}</a></p>", escaped(&heading(notice)), escaped(&notice.link))
}

fn linked(notice: &Notice) -> String {
    format!("<a href=\"{}\">{}</a>", escaped(&notice.link), escaped(&heading(notice)))
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;").replace('\'', "&#39;")
}

#[cfg(test)]
mod tests {
    use super::super::{Change, Occasion, Part};
    use super::*;
    use proptest::prelude::*;

    fn notice(text: &str) -> Notice {
        Notice {
            project: "tidegauge".into(),
            occasion: Occasion::Broke,
            sentence: format!("main is broken: {text}"),
            parts: vec![Part { title: "New failures".into(), lines: vec![text.into(); 30] }],
            link: "http://127.0.0.1:7070/runs/tidegauge/12".into(),
            thread: "tidegauge/12".into(),
            run: Some("tidegauge/12".into()),
            proposal: None,
            commit: Some("1a2b3c4d5e".into()),
            commits: vec![Change { id: "1a2b3c4d5e".into(), title: text.into(), author: text.into() }],
        }
    }

    #[test]
    fn one_notice_is_told_in_full() {
        let mut one = notice("test.unit failed");
        one.parts[0].lines.truncate(2);
        let written = letter(&[one]).unwrap();
        assert_eq!(written.subject, "tidegauge: main is broken: test.unit failed");
        insta::assert_snapshot!(written.text);
    }

    #[test]
    fn a_storm_is_one_message() {
        let many: Vec<Notice> = (0..7).map(|number| Notice { project: format!("p{}", number % 5), ..notice("x") }).collect();
        let written = letter(&many).unwrap();
        assert_eq!(written.subject, "p0, p1, p2 and more: 7 notices");
        assert_eq!(written.text.lines().filter(|line| line.starts_with("- p")).count(), 7);
        assert_eq!(letter(&[]), None);
    }

    proptest! {
        /// Whatever a test or a commit is called, it adds no header, no mark-up and no line.
        #[test]
        fn nothing_from_elsewhere_is_more_than_text(text in prop_oneof![any::<String>(), "(\r\n|<script>|\"|&|Bcc: a@b|\u{202e}){1,5}"]) {
            let plain = letter(&[notice("x")]).unwrap();
            let written = letter(&[notice(&text)]).unwrap();
            prop_assert!(!written.subject.contains(['\r', '\n']) && written.subject.starts_with("tidegauge: "));
            prop_assert_eq!(written.html.matches('<').count(), plain.html.matches('<').count());
            prop_assert_eq!(written.text.lines().count(), plain.text.lines().count());
        }
    }
}
