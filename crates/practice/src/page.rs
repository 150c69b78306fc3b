//! The forge's pages: plain HTML, made to be looked at in the demo.

use crate::book::{Offered, Proposal};
use crate::status::Status;
use std::collections::BTreeMap;
use std::fmt::Write;

pub(crate) struct Commit {
    id: String,
    author: String,
    age: String,
    title: String,
    statuses: Vec<Status>,
}

const STYLE: &str = "body{font:14px/20px system-ui,sans-serif;margin:24px;color:#222;max-width:1100px}\
    pre{white-space:pre-wrap}table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:4px 12px 4px 0;border-bottom:1px solid #ddd;vertical-align:top}\
    code{font:12.5px ui-monospace,monospace}.success{color:#0f7a52}.failure,.error{color:#a3170a}.running{color:#2458b3}.pending{color:#5f6b7a}";

fn shell(title: &str, body: &str) -> String {
    format!("<!doctype html><html lang=en><meta charset=utf-8><title>{title}</title><style>{STYLE}</style><h1>{title}</h1>{body}</html>")
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

pub(crate) fn front(names: &[String]) -> String {
    let items: String = names.iter().fold(String::new(), |mut out, name| {
        let _ = write!(out, "<li><a href=\"/{0}\">{0}</a>", escaped(name));
        out
    });
    shell("Practice forge", &format!("<p>A stand-in for a real forge: repositories, statuses, signed webhooks.</p><ul>{items}</ul>"))
}

/// Reads `git log` lines of id, author, age and title, separated by tabs.
pub(crate) fn commits(log: &str, statuses: impl Fn(&str) -> Vec<Status>) -> Vec<Commit> {
    let read = |line: &str| {
        let mut parts = line.splitn(4, '\t').map(str::to_owned);
        let (id, author, age) = (parts.next()?, parts.next()?, parts.next()?);
        Some(Commit { statuses: statuses(&id), id, author, age, title: parts.next().unwrap_or_default() })
    };
    log.lines().filter_map(read).collect()
}

pub(crate) fn repository(name: &str, readme: &str, refs: &BTreeMap<String, String>, commits: &[Commit], proposals: &[Proposal]) -> String {
    let mut body = String::from("<p><a href=\"/\">All repositories</a></p>");
    body.push_str(&shown(readme));
    body.push_str("<h2>Branches and tags</h2><ul>");
    for (name, id) in refs.iter().filter(|(name, _)| name.starts_with("refs/heads/") || name.starts_with("refs/tags/")) {
        let short = name.trim_start_matches("refs/heads/").trim_start_matches("refs/tags/");
        let _ = write!(body, "<li>{} <code>{}</code>", escaped(short), id.get(..10).unwrap_or(id));
    }
    body.push_str("</ul><h2>Commits</h2><table><tr><th>Commit<th>Title<th>Author<th>When<th>Status");
    for commit in commits {
        let mut newest: BTreeMap<&str, &Status> = BTreeMap::new();
        for status in &commit.statuses {
            newest.insert(&status.context, status);
        }
        let statuses: String = newest.values().fold(String::new(), |mut out, status| {
            let _ = write!(
                out,
                "<div><b class=\"{0}\">{0}</b> <a href=\"{1}\">{2}</a> {3}</div>",
                escaped(&status.state),
                escaped(&status.link),
                escaped(&status.context),
                escaped(&status.text)
            );
            out
        });
        let _ = write!(
            body,
            "<tr><td><code>{}</code><td>{}<td>{}<td>{}<td>{statuses}",
            commit.id.get(..10).unwrap_or(&commit.id),
            escaped(&commit.title),
            escaped(&commit.author),
            escaped(&commit.age)
        );
    }
    body.push_str("</table>");
    body.push_str("<h2>Proposals</h2>");
    proposals.iter().rev().for_each(|one| body.push_str(&proposal(one)));
    shell(&escaped(name), &body)
}

/// A README: pictures (`![words](address)`, with a link around them or without), headings and plain lines.
fn shown(readme: &str) -> String {
    let picture = |line: &str| {
        let inner = line.strip_prefix("[!").map_or(line, |_| &line[1..]);
        let (words, rest) = inner.strip_prefix("![")?.split_once("](")?;
        let (address, rest) = rest.split_once(')')?;
        let link = rest.strip_prefix("](").and_then(|rest| rest.split_once(')')).map_or(address, |(link, _)| link);
        let web = |address: &str| address.starts_with("http://") || address.starts_with("https://");
        let image = format!("<a href=\"{}\"><img src=\"{}\" alt=\"{}\"></a>", escaped(link), escaped(address), escaped(words));
        (web(address) && web(link)).then_some(image)
    };
    let line = |line: &str| match line.trim().strip_prefix("# ") {
        Some(title) => format!("<h2>{}</h2>", escaped(title)),
        None => format!("<p>{}</p>", picture(line.trim()).unwrap_or_else(|| escaped(line))),
    };
    readme.lines().filter(|text| !text.trim().is_empty()).take(20).map(line).collect()
}

/// Mail, the newest first: who it is for, what it is about, and its text.
pub(crate) fn mails(came: &[String]) -> String {
    let mut body = String::from("<p>Nothing is sent on from here.</p>");
    for message in came.iter().rev() {
        let Ok(mail) = mailparse::parse_mail(message.as_bytes()) else { continue };
        let header = |name: &str| escaped(&mailparse::MailHeaderMap::get_first_value(&mail.headers[..], name).unwrap_or_default());
        let text = text_of(&mail).unwrap_or_default();
        let _ = write!(
            body,
            "<section><h3>{}</h3><p>to {}, from {}, {}</p><pre>{}</pre></section>",
            header("subject"),
            header("to"),
            header("from"),
            header("date"),
            escaped(text.trim_end())
        );
    }
    shell(&format!("Practice mail: {} came", came.len()), &body)
}

/// The first part that is plain text.
fn text_of(mail: &mailparse::ParsedMail<'_>) -> Option<String> {
    if mail.ctype.mimetype == "text/plain" {
        return mail.get_body().ok();
    }
    mail.subparts.iter().find_map(text_of)
}

/// A proposal with what was said of it; the text of comments as it was written.
fn proposal(one: &Proposal) -> String {
    let state = match one.state {
        Offered::Open if one.draft => "draft",
        Offered::Open => "open",
        Offered::Closed => "closed",
        Offered::Landed => "landed",
    };
    let mut out = format!(
        "<section id=\"proposal-{0}\"><h3>{0}: {1}</h3><p>{2}, by {3}: {4} → {5} <code>{6}</code></p>",
        one.number,
        escaped(&one.title),
        state,
        escaped(&one.by),
        escaped(&one.source),
        escaped(&one.target),
        one.commit.get(..10).unwrap_or(&one.commit)
    );
    for review in &one.reviews {
        let what = if review.approves { "approves" } else { "refuses" };
        let _ = write!(out, "<p>{} {what} <code>{}</code></p>", escaped(&review.by), review.commit.get(..10).unwrap_or(&review.commit));
    }
    for comment in &one.comments {
        let _ = write!(out, "<blockquote><b>{}</b><pre>{}</pre></blockquote>", escaped(&comment.by), escaped(&comment.text));
    }
    out + "</section>"
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_readme_shows_its_badge_and_nothing_that_acts() {
        let page = shown("# tidegauge\n\n[![a](http://h/badge.svg?key=1&x)](http://h/p)\n![b](javascript:alert)\n<script>x</script>\n");
        assert_eq!(
            page,
            "<h2>tidegauge</h2><p><a href=\"http://h/p\"><img src=\"http://h/badge.svg?key=1&amp;x\" alt=\"a\"></a></p>\
             <p>![b](javascript:alert)</p><p>&lt;script&gt;x&lt;/script&gt;</p>"
        );
    }
}
