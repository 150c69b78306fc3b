//! A file's text as a TOML tree, every slip in its writing told once; what the tree should hold is the caller's affair.

use super::diagnostic::{Code, Diagnostic, Lines};
use super::place::Span;
use super::reader::Reader;
use std::collections::BTreeSet;
use toml::de::DeTable;

/// Parses a text and hands its tree to `take`, which notes what it finds wrong. Gives what `take` made, and all
/// diagnostics.
pub(crate) fn read<T>(text: &str, take: impl FnOnce(&mut Reader<'_>, &DeTable<'_>) -> T) -> (T, Vec<Diagnostic>) {
    let mut reader = Reader { text, diagnostics: Vec::new() };
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let message = error.message().trim_end_matches('.').to_owned();
        let mut diagnostic = Diagnostic::error(Code::Syntax, span.clone(), message);
        if let Some(hint) = syntax_hint(text, &span, error.message()) {
            diagnostic = diagnostic.hint(hint);
        }
        reader.note(diagnostic);
    }
    let made = take(&mut reader, document.get_ref());
    let diagnostics = if errors_of_syntax(&reader.diagnostics) { without_echoes(text, reader.diagnostics) } else { reader.diagnostics };
    (made, diagnostics)
}

fn errors_of_syntax(diagnostics: &[Diagnostic]) -> bool {
    diagnostics.iter().any(|found| found.code == Code::Syntax)
}

/// One slip makes the parser stumble several times, and leaves values of odd kinds behind: of each line the first
/// stumble is enough.
fn without_echoes(text: &str, diagnostics: Vec<Diagnostic>) -> Vec<Diagnostic> {
    let lines = Lines::new(text);
    let mut stumbled = BTreeSet::new();
    let mut kept = Vec::new();
    for found in diagnostics {
        let (line, _) = lines.position(found.span.start);
        let echo = match found.code {
            Code::Syntax => !stumbled.insert(line),
            Code::WrongType => stumbled.contains(&line),
            _ => false,
        };
        if !echo {
            kept.push(found);
        }
    }
    kept
}

/// What people most often meant where TOML cannot be read.
fn syntax_hint(text: &str, span: &Span, message: &str) -> Option<&'static str> {
    let line_start = text[..floor(text, span.start)].rfind('\n').map_or(0, |at| at + 1);
    let line = text[line_start..].lines().next().unwrap_or_default();
    let said = message.to_lowercase();
    match () {
        () if said.contains("duplicate") => Some("the same name is there twice: put both together, or give one another name"),
        () if line.contains('\t') && line.trim_start().starts_with('-') || line.trim_start().starts_with("- ") => {
            Some("a list is written in brackets: steps = [\"make\", \"make test\"]")
        }
        () if line.contains(": ") && !line.contains('=') => Some("a value follows `=`: name = \"value\""),
        () if line.contains('‘') || line.contains('“') || line.contains('”') => {
            Some("these are a word processor's quotes: write \" or '")
        }
        () if said.contains("quoted") => Some("text needs quotes: name = \"value\""),
        () if line.trim_start().starts_with('[') && !line.contains(']') => Some("close the table's name with `]`"),
        () if said.contains("array") || line.contains('[') && !line.contains(']') => {
            Some("close the list with `]`, with `,` between its items")
        }
        () if said.contains("string") => Some("close the text with the same quote that opens it"),
        () if said.contains("table") && line.contains('{') => Some("close the table with `}`"),
        () => None,
    }
}

/// The nearest place at or before `at` that is between two characters.
fn floor(text: &str, mut at: usize) -> usize {
    at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}
