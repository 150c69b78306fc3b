//! Reads the rules of one environment.

use super::environment::{Agreement, Asks, Check, EnvironmentRules, OnFailure};
use super::read_parts::{approvals, hours};
use crate::engine::Millis;
use crate::language::reader::{self, Reader, Value};
use crate::language::{Code, Diagnostic, Span};
use toml::de::DeTable;

/// How long a check may take to be well, when it does not say so.
const WITHIN: Millis = 30_000;

pub(super) fn environment(notes: &mut Reader<'_>, table: &DeTable<'_>, name: &str, span: Span) -> EnvironmentRules {
    let list = |key: &str| table.get(key).map(reader::strings).unwrap_or_default();
    let flag = |key: &str| table.get(key).and_then(reader::flag).unwrap_or(false);
    let rules = EnvironmentRules {
        span: span.clone(),
        url: table.get("url").and_then(reader::string),
        check: table.get("check").and_then(|value| check(notes, value)),
        on_failure: match table.get("on_failure").and_then(reader::string).as_deref() {
            Some("roll-back") => OnFailure::RollBack,
            _ => OnFailure::Stay,
        },
        after: list("after"),
        from: table.get("from").map(reader::strings).into_iter().collect(),
        approvals: table.get("approve").and_then(|value| agreement(notes, value)).into_iter().collect(),
        hours: table.get("hours").map(|value| hours(notes, value)).into_iter().collect(),
        still: length(table, "still").unwrap_or(0),
        secrets: list("secrets"),
        preview: flag("preview"),
        lasts: length(table, "lasts"),
        outside: flag("outside"),
        promote: table.get("promote").and_then(reader::string).as_deref() == Some("auto"),
        emergency: list("emergency"),
    };
    makes_sense(notes, table, &rules, name);
    rules
}

/// What each key takes for granted.
fn makes_sense(notes: &mut Reader<'_>, table: &DeTable<'_>, rules: &EnvironmentRules, name: &str) {
    let needless = [
        ("lasts", !rules.preview, "previews", "preview = true"),
        ("still", rules.after.is_empty(), "what was somewhere else before", "after = [\"…\"]"),
        ("promote", rules.after.is_empty(), "what was somewhere else before", "after = [\"…\"]"),
    ];
    for (key, is_needless, only_for, add) in needless {
        let Some(value) = table.get(key).filter(|_| is_needless) else { continue };
        let told = Diagnostic::warning(Code::Unused, value.span(), format!("`{key}` is for {only_for}"));
        notes.note(told.hint(format!("add {add}, or take it away")));
    }
    for at in table.get("after").map(reader::texts).unwrap_or_default() {
        if at.value == name {
            notes.note(Diagnostic::error(Code::BadValue, at.span, format!("{name} cannot come after itself")));
        } else if at.value.contains('*') {
            let told = Diagnostic::error(Code::BadValue, at.span, format!("`{}` is no environment's name", at.value));
            notes.note(told.hint("name each one: what comes in must have been well in all of them"));
        }
    }
}

fn length(table: &DeTable<'_>, key: &str) -> Option<Millis> {
    Millis::try_from(table.get(key).and_then(reader::duration)?).ok()
}

fn agreement(notes: &mut Reader<'_>, value: &Value<'_>) -> Option<Agreement> {
    let table = reader::table(value)?;
    let wanted = approvals(table)?;
    // Groups may hold any number; persons are themselves.
    let most = wanted.by.len();
    if most > 0 && wanted.of > most && !wanted.by.iter().any(|name| name.starts_with('@')) {
        let told = Diagnostic::error(Code::BadValue, value.span(), format!("{} of {most} persons can never approve", wanted.of));
        notes.note(told.hint("name more of them, or ask for fewer"));
    }
    Some(Agreement { wanted, within: length(table, "within") })
}

fn check(notes: &mut Reader<'_>, value: &Value<'_>) -> Option<Check> {
    let table = reader::table(value)?;
    let text = |key: &str| table.get(key).and_then(reader::string);
    let asks = match (text("url"), text("run")) {
        (Some(url), None) => Asks::Url { url, says: text("says") },
        (None, Some(run)) => Asks::Run(run),
        _ => {
            let told = Diagnostic::error(Code::MissingKey, value.span(), "a check asks one thing: an address or a command");
            notes.note(told.hint("write url = \"http://…/now\", or run = \"./tools/ask.sh\""));
            return None;
        }
    };
    Some(Check { asks, within: length(table, "within").unwrap_or(WITHIN), lasts: length(table, "for").unwrap_or(0) })
}
