//! Texts that must look like something: lengths of time, globs, paths, cron fields.

use super::diagnostic::{Code, Diagnostic};
use super::duration::milliseconds;
use super::place::{At, Span};
use super::reader::Reader;
use super::shape::{Format, Place};
use crate::template::Template;
use std::str::FromStr;

impl Reader<'_> {
    /// Reports a text that is not of the format that its place wants.
    pub(super) fn fits_text(&mut self, text: &str, format: Format, span: Span, what: Place<'_>) {
        let named = || match what {
            Place::Fixed(name) if !name.contains(' ') => format!("`{name}`"),
            other => other.to_string(),
        };
        if text.contains('\0') {
            return self.error(Code::BadValue, span, format!("{} must not hold a NUL character", named()));
        }
        match format {
            Format::Free | Format::Expression | Format::Order => {}
            Format::Word if text.trim().is_empty() => self.error(Code::BadValue, span, format!("{} is empty", named())),
            Format::Word => {}
            Format::Name => {
                self.name(text, span, &named());
            }
            Format::Duration => {
                if milliseconds(text).is_none() {
                    let message = format!("{} is not a length of time: `{text}`", named());
                    let hint = "write a number and a unit, such as \"90s\", \"20m\" or \"1h 30m\"";
                    self.note(Diagnostic::error(Code::BadValue, span, message).hint(hint));
                }
            }
            Format::Size => {
                if super::capacity::mebibytes(text).is_none() {
                    let message = format!("{} is no size: `{text}`", named());
                    self.note(
                        Diagnostic::error(Code::BadValue, span, message).hint("write a whole number and a unit: \"512MiB\", \"4GiB\""),
                    );
                }
            }
            Format::Label if text.trim().is_empty() => self.error(Code::BadValue, span, format!("{} is empty", named())),
            Format::Template | Format::Label => {
                self.template(text, span);
            }
            Format::RefGlob => self.glob(text.trim_start_matches('!'), text, span),
            Format::InnerGlob => {
                self.glob(text, text, span.clone());
                self.inner(text, span, &named());
            }
            Format::InnerTemplate => {
                if let Some(template) = self.template(text, span.clone()) {
                    // Slots hold no glob signs of their own: any letter stands for them while the rest is checked.
                    let sample = template.fill(|_| Some("x".into())).plain().unwrap_or_default();
                    self.glob(&sample, text, span.clone());
                    self.inner(&sample, span, &named());
                }
            }
            Format::Outcome => {
                let code = text.strip_prefix("exit:").is_some_and(|code| code.parse::<u8>().is_ok());
                if !code && !["failed", "timeout", "lost"].contains(&text) {
                    let message = format!("`{text}` is no outcome that can be tried again");
                    let hint = "write \"failed\", \"timeout\", \"lost\", or an exit code as \"exit:75\"";
                    self.note(Diagnostic::error(Code::BadValue, span, message).hint(hint));
                }
            }
            Format::Version => {
                // One with placeholders is looked at when they are filled.
                let open = self.template(text, span.clone()).is_some_and(|template| template.plain().is_none());
                if !open && crate::dispatch::version_wanted(text).is_none() {
                    let hint = "write \">=4\", \"12\", \"~3.11\", or \"*\" for any";
                    self.note(Diagnostic::error(Code::BadValue, span, format!("`{text}` says no version")).hint(hint));
                }
            }
            Format::Limit => {
                if super::gate::Bound::parse(text).is_none() {
                    let hint = "write a number, or one with a comparison before it: \">= 80\", \"<= 4096\", \"0\"";
                    self.note(Diagnostic::error(Code::BadValue, span, format!("`{text}` says no limit")).hint(hint));
                }
            }
            Format::Pointer => {
                if !text.is_empty() && !text.starts_with('/') {
                    let message = format!("{} is no JSON Pointer: `{text}`", named());
                    self.note(Diagnostic::error(Code::BadValue, span, message).hint(format!("begin with `/`: \"/{text}\"")));
                }
            }
            Format::Header => {
                if text.is_empty() || !text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
                    self.error(Code::BadValue, span, format!("{} cannot be a header's name: letters, digits and `-`", named()));
                }
            }
            Format::Statuses => {
                let whole =
                    text.strip_suffix("xx").map_or_else(|| (text.len() == 3).then_some(text), |first| (first.len() == 1).then_some(first));
                if !whole.is_some_and(|digits| digits.starts_with(['1', '2', '3', '4', '5']) && digits.bytes().all(|b| b.is_ascii_digit()))
                {
                    let message = format!("{} is no HTTP status: `{text}`", named());
                    self.note(Diagnostic::error(Code::BadValue, span, message).hint("write \"404\", or \"5xx\" for all of a kind"));
                }
            }
            Format::Address => {
                if text.trim().is_empty() {
                    self.error(Code::BadValue, span, format!("{} is empty", named()));
                }
            }
            Format::Allowed => {
                let starts = text.strip_prefix("start:").is_some_and(super::reader::is_plain);
                if !starts && text != "note" {
                    let hint = "write \"start:PROJECT\" or \"note\"";
                    self.note(Diagnostic::error(Code::BadValue, span, format!("`{text}` is nothing that a job can be allowed")).hint(hint));
                }
            }
            Format::Cron => {
                if let Err(why) = super::schedule::Schedule::from_str(text) {
                    let hint = "five fields: minute hour day month weekday, such as \"0 4 * * 1-5\"; UTC, unless a zone follows: \"0 4 * * * Europe/Oslo\"";
                    self.note(Diagnostic::error(Code::BadValue, span, format!("`{text}` is not a schedule: {why}")).hint(hint));
                }
            }
        }
    }

    fn glob(&mut self, glob: &str, written: &str, span: Span) {
        if let Err(error) = globset::Glob::new(glob) {
            self.error(Code::BadValue, span, format!("`{written}` is not a glob: {}", error.kind()));
        }
    }

    fn inner(&mut self, path: &str, span: Span, what: &str) {
        let what = what.trim_start_matches("each item of ");
        if path.starts_with('/') || path.split('/').any(|part| part == "..") {
            let message = format!("{what}: `{path}` leads outside the job's folder");
            self.note(
                Diagnostic::error(Code::OutsidePath, span, message)
                    .hint("name a path below the job's folder, without a leading `/` and without `..`"),
            );
        }
    }

    /// Reads placeholders; each mistake is reported at its place in the file.
    pub(super) fn template(&mut self, text: &str, span: Span) -> Option<Template> {
        if !text.contains('{') {
            return Some(Template::of_text(text));
        }
        match Template::parse(text) {
            Ok(template) => Some(template),
            Err(mistakes) => {
                let inside = self.inside(&At { value: text.to_owned(), span });
                for mistake in mistakes {
                    self.note(Diagnostic::error(Code::Placeholder, inside(mistake.span), mistake.message).hint(mistake.hint));
                }
                None
            }
        }
    }
}
