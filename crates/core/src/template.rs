//! Placeholders: `obj-{each.cc}-{hash:src/**}`. Text → [`Template`], whose slots are filled when their values are
//! known: most when a run is planned, some (`{hash:…}`, `{os}`) only on the runner. `{{` is a brace. Steps are never
//! templates: a branch's name can so never become a command.

use crate::language::Span;
use std::fmt;

/// What stands between braces.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Slot {
    Each(String),
    Given(String),
    Input(String),
    Env(String),
    /// `fact.STAGE.JOB.NAME`: the job's full name, the fact's name.
    Fact(String, String),
    Branch,
    Tag,
    /// What follows this beginning of the branch's name, or of the tag's; nothing where that begins otherwise.
    After(Named, String),
    Commit,
    /// What the forge calls the proposal; nothing where the run is of none.
    Proposal,
    Project,
    Os,
    Arch,
    /// Globs below the job's folder: the digest of the files' paths and contents.
    Hash(Vec<String>),
}

/// What a run is of, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Named {
    Branch,
    Tag,
}

impl Named {
    fn word(self) -> &'static str {
        match self {
            Named::Branch => "branch",
            Named::Tag => "tag",
        }
    }
}

/// The slots that have no name of their own; the rest are `each.…`, `given.…`, `input.…`, `env.…`, `fact.…`, `hash:…`.
const PLAIN: [(&str, Slot); 7] = [
    ("branch", Slot::Branch),
    ("tag", Slot::Tag),
    ("commit", Slot::Commit),
    ("project", Slot::Project),
    ("proposal", Slot::Proposal),
    ("os", Slot::Os),
    ("arch", Slot::Arch),
];

/// Words for "did you mean".
pub const SLOT_WORDS: [&str; 15] = [
    "each.AXIS",
    "given.NAME",
    "input.NAME",
    "env.NAME",
    "fact.STAGE.JOB.NAME",
    "branch",
    "branch|after:BEGINNING",
    "tag",
    "tag|after:BEGINNING",
    "commit",
    "project",
    "proposal",
    "os",
    "arch",
    "hash:GLOB",
];

impl fmt::Display for Slot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Slot::Each(name) => write!(f, "each.{name}"),
            Slot::Given(name) => write!(f, "given.{name}"),
            Slot::Input(name) => write!(f, "input.{name}"),
            Slot::Env(name) => write!(f, "env.{name}"),
            Slot::Fact(job, name) => write!(f, "fact.{job}.{name}"),
            Slot::Hash(globs) => write!(f, "hash:{}", globs.join(",")),
            Slot::After(named, beginning) => write!(f, "{}|after:{beginning}", named.word()),
            plain => f.write_str(PLAIN.iter().find(|(_, slot)| slot == plain).map_or("", |(word, _)| word)),
        }
    }
}

/// A piece of a template: plain text or a placeholder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    Text(String),
    Slot(Slot),
}

/// A text with slots. Two texts never follow each other.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Template {
    pub parts: Vec<Part>,
}

/// What is wrong with a placeholder; `span` counts bytes of the text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    pub message: String,
    pub hint: String,
    pub span: Span,
}

impl Template {
    /// A text without slots, whatever braces it holds.
    pub fn of_text(text: &str) -> Template {
        let mut template = Template::default();
        template.push_text(text);
        template
    }

    /// Reads a text; gives every mistake in it.
    ///
    /// ```
    /// use ordotaxis_core::template::Template;
    /// assert_eq!(Template::parse("no {{ brace").expect("a text").plain(), Some("no { brace".to_owned()));
    /// let wrong = Template::parse("{projekt} and {commi").expect_err("two mistakes");
    /// assert_eq!(wrong.len(), 2);
    /// assert_eq!(wrong[1].message, "this brace is not closed");
    /// ```
    pub fn parse(text: &str) -> Result<Template, Vec<Mistake>> {
        let mut template = Template::default();
        let mut mistakes = Vec::new();
        let mut at = 0;
        while let Some(open) = text[at..].find('{').map(|found| at + found) {
            template.push_text(&text[at..open]);
            if text[open + 1..].starts_with('{') {
                template.push_text("{");
                at = open + 2;
                continue;
            }
            let Some(close) = text[open..].find('}').map(|found| open + found) else {
                let span = open..text.len();
                let message = "this brace is not closed".to_owned();
                mistakes.push(Mistake { message, hint: "close it with `}`, or write `{{` for a brace".into(), span });
                return Err(mistakes);
            };
            match slot(&text[open + 1..close]) {
                Ok(slot) => template.parts.push(Part::Slot(slot)),
                Err((message, hint)) => mistakes.push(Mistake { message, hint, span: open..close + 1 }),
            }
            at = close + 1;
        }
        template.push_text(&text[at..]);
        if mistakes.is_empty() { Ok(template) } else { Err(mistakes) }
    }

    fn push_text(&mut self, text: &str) {
        if text.is_empty() {
            return;
        }
        match self.parts.last_mut() {
            Some(Part::Text(last)) => last.push_str(text),
            _ => self.parts.push(Part::Text(text.to_owned())),
        }
    }

    /// All placeholders, in the order of the text.
    pub fn slots(&self) -> impl Iterator<Item = &Slot> {
        self.parts.iter().filter_map(|part| match part {
            Part::Slot(slot) => Some(slot),
            Part::Text(_) => None,
        })
    }

    /// Puts values where `value` knows one; other slots stay.
    ///
    /// ```
    /// use ordotaxis_core::template::{Slot, Template};
    /// let text = Template::parse("{project}-{commit}").expect("a text");
    /// let filled = text.fill(|slot| (*slot == Slot::Project).then(|| "tidegauge".to_owned()));
    /// assert_eq!((filled.source(), filled.plain()), ("tidegauge-{commit}".to_owned(), None));
    /// ```
    #[must_use]
    pub fn fill(&self, value: impl Fn(&Slot) -> Option<String>) -> Template {
        let mut filled = Template::default();
        for part in &self.parts {
            match part {
                Part::Text(text) => filled.push_text(text),
                Part::Slot(slot) => match value(slot) {
                    Some(text) => filled.push_text(&text),
                    None => filled.parts.push(part.clone()),
                },
            }
        }
        filled
    }

    /// The text, when every slot is filled.
    pub fn plain(&self) -> Option<String> {
        match self.parts.as_slice() {
            [] => Some(String::new()),
            [Part::Text(text)] => Some(text.clone()),
            _ => None,
        }
    }

    /// The text as it would be written in a file: braces doubled, open slots in braces.
    pub fn source(&self) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.replace('{', "{{"),
            Part::Slot(slot) => format!("{{{slot}}}"),
        };
        self.parts.iter().map(part).collect()
    }
}

/// What is between the braces; an error says what is wrong and what may be there.
fn slot(text: &str) -> Result<Slot, (String, String)> {
    let name = text.trim();
    if let Some((_, slot)) = PLAIN.iter().find(|(word, _)| *word == name) {
        return Ok(slot.clone());
    }
    if let Some(after) = after(name) {
        return Ok(after);
    }
    if let Some(globs) = name.strip_prefix("hash:") {
        return hash(globs);
    }
    let named = |value: &str| (!value.is_empty() && value.chars().all(in_name)).then(|| value.to_owned());
    let known = match name.split_once('.') {
        Some(("each", axis)) => named(axis).map(Slot::Each),
        Some(("given", input)) => named(input).map(Slot::Given),
        Some(("input", input)) => named(input).map(Slot::Input),
        Some(("env", variable)) => named(variable).map(Slot::Env),
        Some(("fact", path)) => fact(path),
        _ => None,
    };
    known.ok_or_else(|| {
        let hint = match crate::language::nearest(name, SLOT_WORDS) {
            Some(near) => format!("did you mean `{{{near}}}`? (`{{{{` is a brace)"),
            None => format!("known are {}; `{{{{` is a brace", SLOT_WORDS.map(|word| format!("{{{word}}}")).join(", ")),
        };
        (format!("there is no placeholder `{{{name}}}`"), hint)
    })
}

/// `branch|after:release/`
fn after(name: &str) -> Option<Slot> {
    let (of, beginning) = name.split_once("|after:")?;
    let named = [Named::Branch, Named::Tag].into_iter().find(|named| named.word() == of)?;
    (!beginning.is_empty()).then(|| Slot::After(named, beginning.to_owned()))
}

fn in_name(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_' || c == '-'
}

fn fact(path: &str) -> Option<Slot> {
    let parts: Vec<&str> = path.split('.').collect();
    match parts.as_slice() {
        [stage, job, name] if parts.iter().all(|part| !part.is_empty()) => Some(Slot::Fact(format!("{stage}.{job}"), (*name).to_owned())),
        _ => None,
    }
}

fn hash(globs: &str) -> Result<Slot, (String, String)> {
    let globs: Vec<String> = globs.split(',').map(|glob| glob.trim().to_owned()).collect();
    for glob in &globs {
        let outside = glob.starts_with('/') || glob.split('/').any(|part| part == "..");
        if glob.is_empty() || outside {
            return Err(("`{hash:…}` needs globs of files below the job's folder".into(), "such as `{hash:src/**,Makefile}`".into()));
        }
        if let Err(error) = globset::Glob::new(glob) {
            return Err((format!("`{glob}` is not a glob: {}", error.kind()), "such as `{hash:src/**,Makefile}`".into()));
        }
    }
    Ok(Slot::Hash(globs))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_are_read_filled_and_written_again() {
        let text = "obj-{each.cc}-{{x}-{hash:src/**,Makefile}";
        let template = Template::parse(text).unwrap();
        assert_eq!(template.source(), text);
        let filled = template.fill(|slot| matches!(slot, Slot::Each(_)).then(|| "g{c}c".to_owned()));
        assert_eq!(filled.source(), "obj-g{{c}c-{{x}-{hash:src/**,Makefile}");
        assert_eq!(filled.plain(), None);
        let plain = filled.fill(|_| Some("1234".into())).plain();
        assert_eq!(plain.as_deref(), Some("obj-g{c}c-{x}-1234"));
    }

    #[test]
    fn mistakes_point_at_the_braces_and_name_what_is_near() {
        let mistakes = Template::parse("a{brunch}b{each.}c{hash:../x}").unwrap_err();
        let told: Vec<(Span, &str)> = mistakes.iter().map(|m| (m.span.clone(), m.message.as_str())).collect();
        assert_eq!(told[0], (1..9, "there is no placeholder `{brunch}`"));
        assert!(mistakes[0].hint.starts_with("did you mean `{branch}`?"), "{}", mistakes[0].hint);
        assert_eq!(told.len(), 3);
        assert_eq!(Template::parse("open {").unwrap_err()[0].span, 5..6);
    }
}
