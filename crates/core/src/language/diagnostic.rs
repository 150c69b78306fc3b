//! What is wrong with a pipeline file, where, and what to do: a [`Diagnostic`] for each mistake. Codes are stable; to
//! add one, add a variant to [`Code`] and its word to [`Code::word`].

use serde::{Deserialize, Serialize};
use std::ops::Range;

/// The kind of mistake. Its word is part of the interface and never changes meaning.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Code {
    Syntax,
    UnknownKey,
    WrongType,
    BadValue,
    BadName,
    MissingKey,
    OrderSyntax,
    EmptyStage,
    UnorderedStage,
    UnknownJob,
    UnknownArtifact,
    DuplicateTake,
    Circle,
    OutsidePath,
    NoJobs,
    Limit,
    MissingFile,
    Placeholder,
    Expression,
    UnknownPattern,
    UnknownInput,
    Given,
    Borrow,
    MovedTag,
    Matrix,
    NeverTaken,
    NeverTrue,
    SamePath,
    Unused,
    OpenSecret,
    /// Told by who knows the runners.
    NoRunner,
    UnknownStage,
    NoStart,
    NearLabel,
    /// Of a forge profile, tried on a sample.
    NotThere,
}

impl Code {
    /// Every kind, in the order of the language guide.
    pub const ALL: [Code; 35] = [
        Code::Syntax,
        Code::UnknownKey,
        Code::WrongType,
        Code::BadValue,
        Code::BadName,
        Code::MissingKey,
        Code::OrderSyntax,
        Code::EmptyStage,
        Code::UnorderedStage,
        Code::UnknownJob,
        Code::UnknownArtifact,
        Code::DuplicateTake,
        Code::Circle,
        Code::OutsidePath,
        Code::NoJobs,
        Code::Limit,
        Code::MissingFile,
        Code::Placeholder,
        Code::Expression,
        Code::UnknownPattern,
        Code::UnknownInput,
        Code::Given,
        Code::Borrow,
        Code::MovedTag,
        Code::Matrix,
        Code::NeverTaken,
        Code::NeverTrue,
        Code::SamePath,
        Code::Unused,
        Code::OpenSecret,
        Code::NoRunner,
        Code::UnknownStage,
        Code::NoStart,
        Code::NearLabel,
        Code::NotThere,
    ];

    /// What the kind means, in a few words.
    pub fn means(self) -> &'static str {
        match self {
            Code::Syntax => "The file cannot be read as TOML",
            Code::UnknownKey => "A key that the language does not have",
            Code::WrongType => "A value of the wrong kind",
            Code::BadValue => "A value that cannot be",
            Code::BadName => "A name that cannot be",
            Code::MissingKey => "A key that must be there",
            Code::OrderSyntax => "An order line that cannot be read",
            Code::EmptyStage => "The order names a stage without jobs",
            Code::UnorderedStage => "A stage with jobs that the order does not name",
            Code::UnknownJob => "A job or stage that does not exist",
            Code::UnknownArtifact => "An artifact that the job does not give",
            Code::DuplicateTake => "The same artifact is taken twice",
            Code::Circle => "Things that wait for each other",
            Code::OutsidePath => "A path outside the job's folder",
            Code::NoJobs => "A file without jobs",
            Code::Limit => "More than is allowed",
            Code::MissingFile => "A file that is not there",
            Code::Placeholder => "A placeholder that cannot be filled",
            Code::Expression => "An expression that cannot be decided",
            Code::UnknownPattern => "A pattern that does not exist",
            Code::UnknownInput => "An input that does not exist",
            Code::Given => "An input that is missing or cannot be",
            Code::Borrow => "Something that cannot be borrowed",
            Code::MovedTag => "A borrowed tag that names another commit than before",
            Code::Matrix => "A matrix that does not work out",
            Code::NeverTaken => "Cells that are taken and never given",
            Code::NeverTrue => "A condition that no start rule can make true",
            Code::SamePath => "Two artifacts that write the same path",
            Code::Unused => "Something that nothing uses",
            Code::OpenSecret => "A secret that a proposal from outside could reach",
            Code::NoRunner => "A job that no connected runner would take",
            Code::UnknownStage => "Rules for a stage without jobs",
            Code::NoStart => "A file that nothing can start",
            Code::NearLabel => "A label that is nearly another",
            Code::NotThere => "A place of a forge profile where a sample holds nothing",
        }
    }

    /// The stable word for this kind, as it is in every output.
    pub fn word(self) -> &'static str {
        match self {
            Code::Syntax => "syntax",
            Code::UnknownKey => "unknown-key",
            Code::WrongType => "wrong-type",
            Code::BadValue => "bad-value",
            Code::BadName => "bad-name",
            Code::MissingKey => "missing-key",
            Code::OrderSyntax => "order-syntax",
            Code::EmptyStage => "empty-stage",
            Code::UnorderedStage => "unordered-stage",
            Code::UnknownJob => "unknown-job",
            Code::UnknownArtifact => "unknown-artifact",
            Code::DuplicateTake => "duplicate-take",
            Code::Circle => "circle",
            Code::OutsidePath => "outside-path",
            Code::NoJobs => "no-jobs",
            Code::Limit => "limit",
            Code::MissingFile => "missing-file",
            Code::Placeholder => "placeholder",
            Code::Expression => "expression",
            Code::UnknownPattern => "unknown-pattern",
            Code::UnknownInput => "unknown-input",
            Code::Given => "given",
            Code::Borrow => "borrow",
            Code::MovedTag => "moved-tag",
            Code::Matrix => "matrix",
            Code::NeverTaken => "never-taken",
            Code::NeverTrue => "never-true",
            Code::SamePath => "same-path",
            Code::Unused => "unused",
            Code::OpenSecret => "open-secret",
            Code::NoRunner => "no-runner",
            Code::UnknownStage => "unknown-stage",
            Code::NoStart => "no-start",
            Code::NearLabel => "near-label",
            Code::NotThere => "not-there",
        }
    }
}

/// How serious a diagnostic is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    Error,
    Warning,
    Note,
}

/// One mistake in a file. `span` counts bytes of the file's text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    pub code: Code,
    pub severity: Severity,
    /// What is wrong, in plain words, without a full stop.
    pub message: String,
    /// What to do about it.
    pub hint: Option<String>,
    pub span: Range<usize>,
    /// Other places that belong to the mistake, in the order they should be read: each edge of a circle, say.
    pub related: Vec<(Range<usize>, String)>,
}

impl Diagnostic {
    /// A mistake: the pipeline cannot be run.
    pub fn error(code: Code, span: Range<usize>, message: impl Into<String>) -> Self {
        Diagnostic { code, severity: Severity::Error, message: message.into(), hint: None, span, related: Vec::new() }
    }

    /// Something that is probably not meant.
    pub fn warning(code: Code, span: Range<usize>, message: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Warning, ..Diagnostic::error(code, span, message) }
    }

    /// Something that is good to know.
    pub fn note(code: Code, span: Range<usize>, message: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Note, ..Diagnostic::error(code, span, message) }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// Points to the nearest of `known`, when one is near enough to be what was meant.
    #[must_use]
    pub fn nearest<'a>(self, name: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        match nearest(name, known) {
            Some(near) => self.hint(format!("did you mean `{near}`?")),
            None => self,
        }
    }
}

impl Diagnostic {
    /// Says which axis is meant, or which there are.
    pub(crate) fn axes<'a>(self, name: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        let known: Vec<&str> = known.into_iter().collect();
        match (nearest(name, known.iter().copied()), known.is_empty()) {
            (Some(near), _) => self.hint(format!("did you mean `{near}`?")),
            (None, true) => self.hint("it has no matrix; `each` makes one"),
            (None, false) => self.hint(format!("its axes are `{}`", known.join("`, `"))),
        }
    }
}

/// True when a file with these diagnostics must not run.
pub fn has_errors(diagnostics: &[Diagnostic]) -> bool {
    diagnostics.iter().any(|d| d.severity == Severity::Error)
}

/// `1 file`, `3 files`.
pub fn counted(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// How many names are compared at most: a hostile file must not buy quadratic work with misspelt names.
const NEAREST_LIMIT: usize = 2_000;

/// The name in `known` that `name` was most likely meant to be: at most a third of its letters away.
pub fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = (name.chars().count() / 3).max(1);
    known
        .into_iter()
        .take(NEAREST_LIMIT)
        .map(|other| (strsim::damerau_levenshtein(name, other), other))
        .filter(|(distance, _)| *distance <= allowed)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, other)| other)
}

/// Finds line and column of byte offsets; both count from 1, columns in Unicode characters.
pub struct Lines<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> Lines<'a> {
    /// Prepares the places of all lines of a text, so that a byte can be turned into line and column.
    pub fn new(text: &'a str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        Lines { text, starts }
    }

    /// Line and column of a byte offset; an offset past the end or inside a character is moved back to the nearest start.
    pub fn position(&self, offset: usize) -> (usize, usize) {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let line = self.starts.partition_point(|&start| start <= offset);
        let start = self.starts[line - 1];
        (line, self.text[start..offset].chars().count() + 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_count_characters_not_bytes() {
        let lines = Lines::new("a\ntide = \"æøå\" x\n");
        assert_eq!(lines.position(0), (1, 1));
        let x = "a\ntide = \"æøå\" x".len() - 1;
        assert_eq!(lines.position(x), (2, 14));
        assert_eq!(lines.position(999), (3, 1));
    }

    #[test]
    fn only_a_near_name_is_offered() {
        assert_eq!(nearest("stpes", ["steps", "takes"]), Some("steps"));
        assert_eq!(nearest("lighthouse", ["steps", "takes"]), None);
    }
}
