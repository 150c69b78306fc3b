//! What a value of the file may look like. One table of keys and shapes is read three ways: [`Reader::fits`] checks a
//! file against it, `schema` writes it as JSON Schema, and near misses are looked up in it. To add a key, add it to
//! `keys` and read its value in `file`, `job` or `extras`.

use super::diagnostic::{Code, Diagnostic};
use super::reader::{Reader, Value, is_variable, kind};
use std::fmt;
use toml::de::{DeTable, DeValue};

/// A key of a table. `says` is one line for editors.
pub(crate) struct Key {
    pub(crate) name: &'static str,
    pub(crate) shape: &'static Shape,
    pub(crate) says: &'static str,
    pub(crate) required: bool,
}

/// What a key's value may be.
pub(crate) enum Shape {
    Flag,
    Text(Format),
    Number {
        least: i64,
        most: i64,
    },
    Choice(&'static [&'static str]),
    /// Whatever TOML can say.
    Anything,
    /// A matrix value: text, number, true or false.
    Scalar,
    List(&'static Shape),
    /// Free names, each with a value of the shape.
    Map {
        names: Names,
        of: &'static Shape,
        called: &'static str,
    },
    Table {
        keys: &'static [Key],
        called: &'static str,
    },
    /// The first that fits the value's kind; the words name all.
    Either(&'static [&'static Shape], &'static str),
}

/// What the names in a table may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Names {
    /// Lower-case letters, digits, `-`, `_`: names of the language.
    Plain,
    /// Letters, digits and `_`: variables.
    Variable,
    Any,
}

/// What a text must look like. What needs names to be known is looked at later.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Format {
    Free,
    /// Not empty.
    Word,
    Name,
    Duration,
    /// MiB, GiB or TiB.
    Size,
    /// May hold placeholders.
    Template,
    /// The same, and not empty.
    Label,
    /// A glob over branches or tags; `!` before it takes away.
    RefGlob,
    /// A glob or path below the job's folder, which may hold placeholders.
    InnerTemplate,
    InnerGlob,
    Expression,
    Order,
    Cron,
    /// An end of a job that can be tried again.
    Outcome,
    /// Which versions of a tool will do.
    Version,
    /// What a number must be.
    Limit,
    /// What a job's token is for.
    Allowed,
    /// A JSON Pointer (RFC 6901).
    Pointer,
    /// A header's name.
    Header,
    /// An HTTP status, or `5xx` for all of its hundred.
    Statuses,
    /// A URI Template (RFC 6570).
    Address,
}

/// Where a table stands, written out only when something is wrong with it.
#[derive(Clone, Copy)]
pub(crate) enum Place<'a> {
    Fixed(&'a str),
    Named(&'a str, &'a str),
    Item(&'a str),
}

impl fmt::Display for Place<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Fixed(words) => f.write_str(words),
            Place::Named(what, name) if what.ends_with(' ') => write!(f, "{what}{name}"),
            Place::Named(what, name) => write!(f, "{what} `{name}`"),
            Place::Item(list) => write!(f, "each item of `{list}`"),
        }
    }
}

impl Shape {
    fn takes(&self, value: &DeValue<'_>) -> bool {
        match self {
            Shape::Anything => true,
            Shape::Flag => matches!(value, DeValue::Boolean(_)),
            Shape::Text(_) | Shape::Choice(_) => matches!(value, DeValue::String(_)),
            Shape::Number { .. } => matches!(value, DeValue::Integer(_)),
            Shape::Scalar => matches!(value, DeValue::String(_) | DeValue::Integer(_) | DeValue::Boolean(_)),
            Shape::List(_) => matches!(value, DeValue::Array(_)),
            Shape::Map { .. } | Shape::Table { .. } => matches!(value, DeValue::Table(_)),
            Shape::Either(shapes, _) => shapes.iter().any(|shape| shape.takes(value)),
        }
    }

    fn words(&self) -> &'static str {
        match self {
            Shape::Anything => "any value",
            Shape::Flag => "true or false",
            Shape::Text(_) | Shape::Choice(_) => "a string",
            Shape::Number { .. } => "a whole number",
            Shape::Scalar => "a string, a number, or true or false",
            Shape::List(_) => "a list",
            Shape::Map { .. } | Shape::Table { .. } => "a table",
            Shape::Either(_, words) => words,
        }
    }
}

/// Words that people try first, with what is written here in their place.
const MEANT: &[(&[&str], &str, &str)] = &[
    (&["needs", "depends"], "after", "`after` orders jobs; `takes` does, too, and hands over artifacts"),
    (&["script", "commands", "run"], "steps", "commands are `steps`"),
    (&["matrix"], "each", "a matrix is `each`: a list of values for each axis"),
    (&["when"], "if", "a condition is `if`, with an expression"),
    (&["artifacts"], "gives", "what a job leaves is `gives`, and what it gets from others `takes`"),
    (&["variables"], "env", "variables are `env`"),
];

/// The hint for such a word, where the table has what is meant.
fn meant(name: &str, keys: &[Key]) -> Option<String> {
    let (_, _, hint) = MEANT.iter().find(|(words, key, _)| words.contains(&name) && keys.iter().any(|known| known.name == *key))?;
    Some((*hint).to_owned())
}

impl Reader<'_> {
    /// Checks a table: keys that do not exist, keys that are missing, and every value. Everything wrong is noted.
    pub(crate) fn fits_table(&mut self, table: &DeTable<'_>, keys: &'static [Key], place: Place<'_>, span: std::ops::Range<usize>) {
        for (key, value) in table {
            let name: &str = key.get_ref();
            match keys.iter().find(|known| known.name == name) {
                Some(known) => {
                    self.fits(value, known.shape, Place::Fixed(name));
                }
                None => {
                    let told = Diagnostic::error(Code::UnknownKey, key.span(), format!("{place} has no key `{name}`"));
                    self.note(match meant(name, keys) {
                        Some(hint) => told.hint(hint),
                        None => told.nearest(name, keys.iter().map(|known| known.name)),
                    });
                }
            }
        }
        for key in keys.iter().filter(|key| key.required && !table.contains_key(key.name)) {
            let near = table.keys().any(|other| super::nearest(key.name, [other.get_ref().as_ref()]).is_some());
            if !near {
                let hint = format!("`{}`: {}", key.name, key.says);
                self.note(Diagnostic::error(Code::MissingKey, span.clone(), format!("{place} has no `{}`", key.name)).hint(hint));
            }
        }
    }

    /// Checks one value. `what` names it when something is wrong.
    pub(crate) fn fits(&mut self, value: &Value<'_>, shape: &'static Shape, what: Place<'_>) {
        if let (Shape::Scalar, DeValue::Float(number)) = (shape, value.get_ref()) {
            let message = "a value with a point may lose digits";
            let hint = format!("write \"{}\"", number.as_str());
            return self.note(Diagnostic::error(Code::WrongType, value.span(), message).hint(hint));
        }
        if !shape.takes(value.get_ref()) {
            let named = match what {
                Place::Fixed(name) if !name.contains(' ') => format!("`{name}`"),
                other => other.to_string(),
            };
            let (wanted, got) = (shape.words(), kind(value.get_ref()));
            let diagnostic = Diagnostic::error(Code::WrongType, value.span(), format!("{named} must be {wanted}, not {got}"));
            return self.note(match self.rewritten(value, shape, what) {
                Some(hint) => diagnostic.hint(hint),
                None => diagnostic,
            });
        }
        match (shape, value.get_ref()) {
            (Shape::Text(format), DeValue::String(text)) => self.fits_text(text, *format, value.span(), what),
            (Shape::Choice(choices), DeValue::String(text)) if !choices.contains(&text.as_ref()) => {
                self.bad_choice(text, choices, value.span(), what)
            }
            (Shape::Number { least, most }, DeValue::Integer(number)) => {
                let parsed = i64::from_str_radix(&number.as_str().replace('_', ""), number.radix());
                if !parsed.is_ok_and(|number| (*least..=*most).contains(&number)) {
                    let message = format!("`{what}` must be a whole number from {least} to {most}");
                    self.error(Code::BadValue, value.span(), message);
                }
            }
            (Shape::List(of), DeValue::Array(items)) => {
                let each = if let Place::Fixed(name) = what { Place::Item(name) } else { what };
                items.iter().for_each(|item| self.fits(item, of, each));
            }
            (Shape::Map { names, of, called }, DeValue::Table(table)) => self.fits_map(table, *names, of, called),
            (Shape::Table { keys, called }, DeValue::Table(table)) => self.fits_table(table, keys, Place::Fixed(called), value.span()),
            (Shape::Either(shapes, _), inner) => {
                if let Some(shape) = shapes.iter().find(|shape| shape.takes(inner)) {
                    self.fits(value, shape, what);
                }
            }
            _ => {}
        }
    }

    /// The value as it should have been written, where that is plain to see.
    fn rewritten(&self, value: &Value<'_>, shape: &Shape, what: Place<'_>) -> Option<String> {
        let written = self.text.get(value.span()).filter(|text| text.len() <= 60 && !text.contains('\n'));
        match (shape, value.get_ref()) {
            (Shape::List(Shape::Table { .. }), DeValue::Table(_)) => Some(format!("its header has two brackets: [[….{what}]]")),
            (Shape::List(_), DeValue::String(_) | DeValue::Integer(_)) => Some(format!("put it in brackets: [{}]", written?)),
            (Shape::Text(Format::Duration), DeValue::Integer(_)) => {
                Some(format!("write it with a unit: \"{}s\" or \"{}m\"", written?, written?))
            }
            (Shape::Text(Format::Size), DeValue::Integer(_)) => {
                Some(format!("write it with a unit: \"{}MiB\" or \"{}GiB\"", written?, written?))
            }
            (Shape::Text(_), DeValue::Integer(_) | DeValue::Float(_) | DeValue::Boolean(_) | DeValue::Datetime(_)) => {
                Some(format!("put it in quotes: \"{}\"", written?))
            }
            (Shape::Text(_), DeValue::Array(items)) if items.len() == 1 => Some("take the brackets away".into()),
            (Shape::Flag, DeValue::String(text)) if matches!(text.as_ref(), "true" | "false") => Some(format!("without quotes: {text}")),
            (Shape::Number { .. }, DeValue::String(text)) if text.parse::<i64>().is_ok() => Some(format!("without quotes: {text}")),
            _ => None,
        }
    }

    fn fits_map(&mut self, table: &DeTable<'_>, names: Names, of: &'static Shape, called: &str) {
        for (key, value) in table {
            let name: &str = key.get_ref();
            match names {
                Names::Plain if !self.name(name, key.span(), called) => continue,
                Names::Variable if !is_variable(name) => {
                    let message = format!("`{name}` cannot be {called}'s name: letters, digits and `_` only");
                    self.error(Code::BadName, key.span(), message);
                    continue;
                }
                Names::Variable if name.starts_with("ORDOTAXIS") => {
                    let message = format!("`{name}`: variables that begin with ORDOTAXIS are set by the runner");
                    self.error(Code::BadName, key.span(), message);
                    continue;
                }
                _ => {}
            }
            match of {
                Shape::Table { keys, called } => match value.get_ref() {
                    DeValue::Table(table) => self.fits_table(table, keys, Place::Named(called, name), value.span()),
                    _ => self.fits(value, of, Place::Fixed(name)),
                },
                Shape::Either(shapes, _) => match (value.get_ref(), shapes.iter().find(|shape| matches!(shape, Shape::Table { .. }))) {
                    (DeValue::Table(table), Some(Shape::Table { keys, called })) => {
                        self.fits_table(table, keys, Place::Named(called, name), value.span());
                    }
                    _ => self.fits(value, of, Place::Fixed(name)),
                },
                _ => self.fits(value, of, Place::Fixed(name)),
            }
        }
    }

    fn bad_choice(&mut self, text: &str, choices: &'static [&'static str], span: std::ops::Range<usize>, what: Place<'_>) {
        let all = choices.iter().map(|choice| format!("\"{choice}\"")).collect::<Vec<_>>().join(", ");
        let hint = match super::nearest(text, choices.iter().copied()) {
            Some(near) => format!("did you mean \"{near}\"?"),
            None => format!("one of {all}"),
        };
        let named = if what.to_string().contains(' ') { what.to_string() } else { format!("`{what}`") };
        self.note(Diagnostic::error(Code::BadValue, span, format!("{named} cannot be `{text}`")).hint(hint));
    }
}
