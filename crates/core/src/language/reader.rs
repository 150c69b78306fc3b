//! Access to a TOML tree. A file is first checked as a whole against the table of keys ([`super::shape`]), which notes
//! all that is wrong; the readings here then take what fits and pass over the rest in silence.

use super::capacity::mebibytes;
use super::diagnostic::{Code, Diagnostic};
use super::duration::milliseconds;
use super::place::{At, Span};
use super::step::Env;
use crate::template::Template;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A TOML value with its place in the file.
pub(crate) type Value<'i> = Spanned<DeValue<'i>>;

/// Reads a file's values and gathers what is wrong with them; it goes on after a mistake.
pub(crate) struct Reader<'t> {
    pub(crate) text: &'t str,
    pub(crate) diagnostics: Vec<Diagnostic>,
}

impl Reader<'_> {
    /// Reports a mistake.
    pub(crate) fn error(&mut self, code: Code, span: Span, message: impl Into<String>) {
        self.note(Diagnostic::error(code, span, message));
    }

    /// Adds a diagnostic.
    pub(crate) fn note(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// Turns a span inside a string's value into one of the file. A string with escapes is pointed at as a whole.
    pub(crate) fn inside(&self, string: &At<String>) -> impl Fn(Span) -> Span + use<> {
        inside(self.text, string)
    }

    /// A name of the language: lower-case letters, digits, `-`, `_`.
    pub(crate) fn name(&mut self, name: &str, span: Span, what: &str) -> bool {
        let fits = is_plain(name);
        if !fits {
            let mut diagnostic = Diagnostic::error(
                Code::BadName,
                span,
                format!("`{name}` cannot be {what}'s name: lower-case letters, digits, `-` and `_`, at most 64"),
            );
            let lower: String = name.to_lowercase().chars().map(|c| if c == ' ' || c == '.' { '-' } else { c }).collect();
            if lower != name && lower.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_') {
                diagnostic = diagnostic.hint(format!("write `{lower}`"));
            }
            self.note(diagnostic);
        }
        fits
    }
}

/// Lower-case letters, digits, `-` and `_`, one to 64.
pub(crate) fn is_plain(name: &str) -> bool {
    (1..=64).contains(&name.len()) && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'_')
}

/// See [`Reader::inside`].
pub(crate) fn inside(text: &str, string: &At<String>) -> impl Fn(Span) -> Span + use<> {
    let quoted = text.get(string.span.clone()).unwrap_or_default();
    let quotes = if quoted.starts_with("'''") || quoted.starts_with("\"\"\"") { 3 } else { 1 };
    // A line break right after three quotes does not belong to the text.
    let start = quotes + usize::from(quotes == 3 && quoted[3..].starts_with('\n'));
    let plain = quoted.get(start..quoted.len().saturating_sub(quotes)) == Some(string.value.as_str());
    let whole = string.span.clone();
    move |span: Span| if plain { whole.start + start + span.start..whole.start + start + span.end } else { whole.clone() }
}

/// A string with its place; none for another kind, which was reported before.
pub(crate) fn text(value: &Value<'_>) -> Option<At<String>> {
    match value.get_ref() {
        DeValue::String(text) => Some(At { value: text.to_string(), span: value.span() }),
        _ => None,
    }
}

pub(crate) fn string(value: &Value<'_>) -> Option<String> {
    text(value).map(|text| text.value)
}

pub(crate) fn flag(value: &Value<'_>) -> Option<bool> {
    match value.get_ref() {
        DeValue::Boolean(flag) => Some(*flag),
        _ => None,
    }
}

pub(crate) fn number(value: &Value<'_>) -> Option<u32> {
    match value.get_ref() {
        DeValue::Integer(number) => u32::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok(),
        _ => None,
    }
}

/// In MiB.
pub(crate) fn size(value: &Value<'_>) -> Option<u32> {
    mebibytes(&string(value)?)
}

/// In milliseconds.
pub(crate) fn duration(value: &Value<'_>) -> Option<u64> {
    milliseconds(&string(value)?)
}

pub(crate) fn items<'v, 'i>(value: &'v Value<'i>) -> &'v [Value<'i>] {
    match value.get_ref() {
        DeValue::Array(list) => list,
        _ => &[],
    }
}

pub(crate) fn table<'v, 'i>(value: &'v Value<'i>) -> Option<&'v DeTable<'i>> {
    match value.get_ref() {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

pub(crate) fn texts(value: &Value<'_>) -> Vec<At<String>> {
    items(value).iter().filter_map(text).collect()
}

pub(crate) fn strings(value: &Value<'_>) -> Vec<String> {
    items(value).iter().filter_map(string).collect()
}

/// A matrix value as text: `2` and `"2"` are the same.
pub(crate) fn scalar(value: &Value<'_>) -> Option<String> {
    match value.get_ref() {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => Some(number.as_str().to_owned()),
        // A mistake that was noted; what else is said about the file is said as if it were in quotes.
        DeValue::Float(number) => Some(number.as_str().to_owned()),
        DeValue::Boolean(flag) => Some(flag.to_string()),
        _ => None,
    }
}

/// A text with placeholders; mistakes in them were reported when the file was checked.
pub(crate) fn template(value: &Value<'_>) -> Option<At<Template>> {
    let text = text(value)?;
    Some(At { value: Template::parse(&text.value).ok()?, span: text.span })
}

pub(crate) fn templates(value: &Value<'_>) -> Vec<At<Template>> {
    items(value).iter().filter_map(template).collect()
}

pub(crate) fn env(value: &Value<'_>) -> Env {
    let entries = table(value).into_iter().flatten();
    entries.filter_map(|(key, value)| Some((key.get_ref().to_string(), template(value)?))).collect()
}

/// Whether a text can be the name of an environment variable.
pub(crate) fn is_variable(name: &str) -> bool {
    !name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

/// What a value is, in words for a message.
pub(crate) fn kind(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) | DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}
