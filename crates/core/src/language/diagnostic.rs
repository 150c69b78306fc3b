//! What is wrong with a pipeline file, where, and what to do: a [`Diagnostic`] for each mistake. Codes are stable; to
//! add one, add a variant to [`Code`] and its word to [`Code::word`].

use serde::{Deserialize, Serialize};
use std::ops::Range;

/// The kind of mistake. Its word is part of the interface and never changes meaning.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Code {
    Syntax,
    UnknownKey,
    NotYet,
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
}

impl Code {
    /// The stable word for this kind, as it stands in every output.
    pub fn word(self) -> &'static str {
        match self {
            Code::Syntax => "syntax",
            Code::UnknownKey => "unknown-key",
            Code::NotYet => "not-yet",
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
        }
    }
}

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
    pub fn error(code: Code, span: Range<usize>, message: impl Into<String>) -> Self {
        Diagnostic { code, severity: Severity::Error, message: message.into(), hint: None, span, related: Vec::new() }
    }

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

/// True when a file with these diagnostics must not run.
pub fn has_errors(diagnostics: &[Diagnostic]) -> bool {
    diagnostics.iter().any(|d| d.severity == Severity::Error)
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
