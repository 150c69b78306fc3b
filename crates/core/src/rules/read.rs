//! Reads the rules of a project.

use super::read_environment::environment;
use super::read_parts::{approvals, hours};
use super::{BranchRules, How, NoticeRule, Rules, Told, ToldJobs, keys};
use crate::landing::Manner;
use crate::language::reader::{self, Reader, Value};
use crate::language::shape::Place;
use crate::language::{Code, Diagnostic, FILE_LIMIT, Span, document};
use crate::notice::Occasion;
use toml::de::DeTable;

/// Reads a file's text. The rules hold what could be read; they must not count when a diagnostic is an error.
pub fn read(text: &str) -> (Rules, Vec<Diagnostic>) {
    if text.len() > FILE_LIMIT {
        let message = format!("the file is {} bytes long; at most {FILE_LIMIT} are read", text.len());
        return (Rules::default(), vec![Diagnostic::error(Code::Limit, 0..0, message)]);
    }
    document::read(text, |reader, table| {
        reader.fits_table(table, keys::FILE, Place::Fixed("the file"), 0..0);
        let mut rules = Rules::default();
        for (name, value) in table.get("branch").and_then(reader::table).into_iter().flatten() {
            let Some(table) = reader::table(value) else { continue };
            rules.branches.insert(name.get_ref().to_string(), branch(reader, table, name.span()));
        }
        for (name, value) in table.get("environment").and_then(reader::table).into_iter().flatten() {
            let Some(table) = reader::table(value) else { continue };
            let read = environment(reader, table, name.get_ref(), name.span());
            rules.environments.insert(name.get_ref().to_string(), read);
        }
        if let Some(circle) = rules.circle() {
            let span = rules.environments[&circle[0]].span.clone();
            let told = Diagnostic::error(Code::BadValue, span, format!("each of these comes after the next: {}", circle.join(", ")));
            reader.note(told.hint("take one `after` away: nothing could ever come in"));
        }
        for (name, value) in table.get("notice").and_then(reader::table).into_iter().flatten() {
            let Some(table) = reader::table(value) else { continue };
            rules.notices.insert(name.get_ref().to_string(), notice(reader, table, name.span()));
        }
        rules.told = table.get("told").and_then(reader::table).map(told).unwrap_or_default();
        rules
    })
}

/// The rules as JSON Schema, for editors.
pub fn schema() -> serde_json::Value {
    let schema = crate::language::schema::of_file("urn:ordotaxis:rules:1", "Ordotaxis rules, version 1", keys::FILE);
    serde_json::Value::Object(schema)
}

fn branch(notes: &mut Reader<'_>, table: &DeTable<'_>, span: Span) -> BranchRules {
    let usual = BranchRules::default();
    let text = |key: &str| table.get(key).and_then(reader::string);
    let number = |key: &str, usual: usize| {
        let given = table.get(key).and_then(reader::number).and_then(|number| usize::try_from(number).ok());
        given.unwrap_or(usual)
    };
    let rules = BranchRules {
        span: span.clone(),
        queue: text("land").as_deref() == Some("queue"),
        wants: table.get("wants").map_or(usual.wants, reader::strings),
        approvals: table.get("approvals").and_then(reader::table).and_then(approvals).into_iter().collect(),
        how: match text("how").as_deref() {
            Some("squash") => How::Squash,
            Some("rebase") => How::Rebase,
            _ => How::Merge,
        },
        manner: Manner { ahead: number("ahead", usual.manner.ahead), together: number("together", usual.manner.together) },
        closed: table.get("closed").map(|value| hours(notes, value)).unwrap_or_default(),
    };
    if rules.queue && rules.wants.is_empty() {
        let told = Diagnostic::error(Code::BadValue, span, "a queue that wants no pipeline tests nothing");
        notes.note(told.hint("name one: wants = [\"main\"]"));
    } else if !rules.queue {
        // What only the queue does is not done for a branch that is free.
        for key in ["wants", "approvals", "how", "ahead", "together", "closed"] {
            if let Some(value) = table.get(key) {
                let told = Diagnostic::warning(Code::Unused, value.span(), format!("`{key}` is for the queue, and this branch has none"));
                notes.note(told.hint("write land = \"queue\", or take it away"));
            }
        }
    }
    rules
}

fn told(table: &DeTable<'_>) -> Told {
    let jobs = match table.get("jobs") {
        Some(value) if reader::flag(value) == Some(true) => ToldJobs::All,
        Some(value) => ToldJobs::Named(reader::strings(value)),
        None => ToldJobs::Named(Vec::new()),
    };
    Told { jobs, comments: table.get("comments").and_then(reader::flag).unwrap_or(true) }
}

fn notice(notes: &mut Reader<'_>, table: &DeTable<'_>, span: Span) -> NoticeRule {
    let text = |key: &str| table.get(key).and_then(reader::string);
    let usual = || vec![Occasion::Broke, Occasion::Fixed];
    let on = table.get("on").map(reader::strings).map(|words| words.iter().filter_map(|word| Occasion::from_word(word)).collect());
    let mut mail = Vec::new();
    for address in table.get("mail").map(reader::texts).unwrap_or_default() {
        if is_mail(&address.value) {
            mail.push(address.value);
        } else {
            let told = Diagnostic::error(Code::BadValue, address.span, format!("`{}` is no mail address", address.value));
            notes.note(told.hint("write one such as \"keepers@saltmarsh.example\""));
        }
    }
    let (url, secret) = (text("url"), text("secret"));
    let place = |key: &str| table.get(key).map_or(span.clone(), Value::span);
    if let Some(bad) = url.as_ref().filter(|url| !is_web(url)) {
        let told = Diagnostic::error(Code::BadValue, place("url"), format!("`{bad}` is no address of a webhook"));
        notes.note(told.hint("write one that begins with https://, without a name or password in it"));
    }
    match (&url, &secret) {
        (Some(_), None) => {
            let told =
                Diagnostic::error(Code::MissingKey, span.clone(), "a webhook without a secret: nobody could tell what comes from here");
            notes.note(told.hint("name one of the project's secrets: secret = \"BOARD_KEY\""));
        }
        (None, Some(_)) => {
            notes.note(Diagnostic::warning(Code::Unused, place("secret"), "`secret` signs what goes to `url`, and there is none"))
        }
        (None, None) if mail.is_empty() && !table.contains_key("mail") => {
            let told = Diagnostic::error(Code::MissingKey, span.clone(), "it names nobody who is told");
            notes.note(told.hint("add mail = [\"…\"], or url and secret"));
        }
        _ => {}
    }
    NoticeRule { span, on: on.unwrap_or_else(usual), mail, hook: url.zip(secret) }
}

/// One address, as far as that can be seen from here: what a server takes is its own affair.
fn is_mail(text: &str) -> bool {
    let fits = |part: &str| !part.is_empty() && !part.chars().any(|c| c.is_whitespace() || c.is_control() || "<>()[]\\,;:\"@".contains(c));
    text.len() <= 254 && text.split_once('@').is_some_and(|(name, host)| fits(name) && fits(host) && !host.starts_with('.'))
}

fn is_web(text: &str) -> bool {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://")).unwrap_or_default();
    let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
    !host.is_empty() && !host.contains('@') && text.len() <= 2_000 && !text.chars().any(|c| c.is_whitespace() || c.is_control())
}
