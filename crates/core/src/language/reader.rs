//! Typed access to a TOML tree that never stops at a mistake: each reading either gives the value or notes a
//! diagnostic and gives nothing.

use super::diagnostic::{Code, Diagnostic};
use super::keys::Key;
use super::pipeline::{At, Span};
use indexmap::IndexMap;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

pub(crate) type Value<'i> = Spanned<DeValue<'i>>;

pub(crate) struct Reader<'t> {
    pub(crate) text: &'t str,
    pub(crate) diagnostics: Vec<Diagnostic>,
}

impl Reader<'_> {
    pub(crate) fn error(&mut self, code: Code, span: Span, message: impl Into<String>) {
        self.note(Diagnostic::error(code, span, message));
    }

    pub(crate) fn note(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// Checks every key of a table against the language's list, before any of them is read.
    pub(crate) fn check_keys(&mut self, table: &DeTable<'_>, keys: &[Key], place: &str) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            match keys.iter().find(|k| k.name == name) {
                Some(key_known) if key_known.runs => {}
                Some(_) => self.note(
                    Diagnostic::error(Code::NotYet, key.span(), format!("`{name}` in {place} is not yet run by this version"))
                        .hint("take it out for now; a pipeline that silently left it out would do something else than it says"),
                ),
                None => self.note(
                    Diagnostic::error(Code::UnknownKey, key.span(), format!("{place} has no key `{name}`"))
                        .nearest(name, keys.iter().map(|k| k.name)),
                ),
            }
        }
    }

    fn wrong_type(&mut self, value: &Value<'_>, what: &str, wanted: &str) {
        let got = kind(value.get_ref());
        self.error(Code::WrongType, value.span(), format!("{what} must be {wanted}, not {got}"));
    }

    pub(crate) fn table<'v, 'i>(&mut self, value: &'v Value<'i>, what: &str) -> Option<&'v DeTable<'i>> {
        match value.get_ref() {
            DeValue::Table(table) => Some(table),
            _ => {
                self.wrong_type(value, what, "a table");
                None
            }
        }
    }

    pub(crate) fn string(&mut self, value: &Value<'_>, what: &str) -> Option<At<String>> {
        match value.get_ref() {
            DeValue::String(text) if text.contains('\0') => {
                self.error(Code::BadValue, value.span(), format!("{what} must not hold a NUL character"));
                None
            }
            DeValue::String(text) => Some(At { value: text.to_string(), span: value.span() }),
            _ => {
                self.wrong_type(value, what, "a string");
                None
            }
        }
    }

    pub(crate) fn boolean(&mut self, value: &Value<'_>, what: &str) -> Option<bool> {
        match value.get_ref() {
            DeValue::Boolean(flag) => Some(*flag),
            _ => {
                self.wrong_type(value, what, "true or false");
                None
            }
        }
    }

    pub(crate) fn list<'v, 'i>(&mut self, value: &'v Value<'i>, what: &str) -> Option<&'v [Value<'i>]> {
        match value.get_ref() {
            DeValue::Array(list) => Some(list),
            _ => {
                self.wrong_type(value, what, "a list");
                None
            }
        }
    }

    pub(crate) fn strings(&mut self, value: &Value<'_>, what: &str) -> Option<Vec<At<String>>> {
        let list = self.list(value, what)?;
        Some(list.iter().filter_map(|item| self.string(item, &format!("each item of {what}"))).collect())
    }

    /// Whole milliseconds from words like `90s`, `20m`, `1h 30m`.
    pub(crate) fn duration_ms(&mut self, value: &Value<'_>, what: &str) -> Option<u64> {
        let text = self.string(value, what)?;
        match humantime::parse_duration(&text.value).map(|d| u64::try_from(d.as_millis())) {
            Ok(Ok(ms)) if ms > 0 => Some(ms),
            _ => {
                self.note(
                    Diagnostic::error(Code::BadValue, text.span, format!("{what} is not a length of time: `{}`", text.value))
                        .hint("write a number and a unit, such as \"90s\", \"20m\" or \"1h 30m\""),
                );
                None
            }
        }
    }

    /// Variables for steps. Braces are kept for placeholders, so a single one is told instead of passed on.
    pub(crate) fn env(&mut self, value: &Value<'_>, what: &str) -> IndexMap<String, String> {
        let mut env = IndexMap::new();
        let Some(table) = self.table(value, what) else { return env };
        for (key, value) in table {
            let name: &str = key.get_ref();
            if !is_variable(name) {
                self.error(Code::BadName, key.span(), format!("`{name}` cannot be a variable's name: letters, digits and `_` only"));
                continue;
            }
            if name.starts_with("ORDOTAXIS") {
                self.error(Code::BadName, key.span(), format!("`{name}`: variables that begin with ORDOTAXIS are set by the runner"));
                continue;
            }
            if let Some(text) = self.string(value, &format!("`{name}`"))
                && let Some(text) = self.braces(&text)
            {
                env.insert(name.to_owned(), text);
            }
        }
        env
    }

    fn braces(&mut self, text: &At<String>) -> Option<String> {
        let plain = text.value.replace("{{", "\u{0}");
        if plain.contains('{') {
            self.note(
                Diagnostic::error(Code::NotYet, text.span.clone(), "placeholders in values are not yet run by this version")
                    .hint("write `{{` for a brace"),
            );
            return None;
        }
        Some(plain.replace('\u{0}', "{"))
    }

    /// A path below the job's folder: relative, and never climbing out of it.
    pub(crate) fn inner_path(&mut self, text: At<String>, what: &str) -> Option<String> {
        let outside = text.value.starts_with('/') || text.value.split('/').any(|part| part == "..");
        if outside {
            self.note(
                Diagnostic::error(Code::OutsidePath, text.span, format!("{what} `{}` leads outside the job's folder", text.value))
                    .hint("name a path below the job's folder, without a leading `/` and without `..`"),
            );
            return None;
        }
        Some(text.value)
    }

    /// A name of the language: lower-case letters, digits, `-`, `_`.
    pub(crate) fn name(&mut self, name: &str, span: Span, what: &str) -> bool {
        let fits = !name.is_empty()
            && name.len() <= 64
            && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'_');
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

fn is_variable(name: &str) -> bool {
    !name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

fn kind(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) | DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}
