//! Wrong files as people write them, each with all that it is told: a snapshot beside each file of `tests/wrong`.
//! To add a case, write the file and let `cargo insta` (or `INSTA_UPDATE=always`) write what is told; then read it.

use ordotaxis_core::language::{Diagnostic, Lines};
use ordotaxis_core::plan::check;
use std::fmt::Write;

fn told(text: &str, diagnostics: &[Diagnostic]) -> String {
    let lines = Lines::new(text);
    let mut out = String::new();
    for d in diagnostics {
        let ((line, column), (end_line, end_column)) = (lines.position(d.span.start), lines.position(d.span.end));
        let end = if end_line == line { end_column.to_string() } else { format!("{end_line}:{end_column}") };
        let severity = format!("{:?}", d.severity).to_lowercase();
        let _ = writeln!(out, "{line}:{column}-{end} {severity} {}: {}", d.code.word(), d.message);
        d.hint.iter().for_each(|hint| {
            let _ = writeln!(out, "    {hint}");
        });
        for (span, message) in &d.related {
            let (line, column) = lines.position(span.start);
            let _ = writeln!(out, "    {line}:{column} {message}");
        }
    }
    out
}

#[test]
fn every_mistake_is_told_with_its_place_and_a_hint() {
    let mut settings = insta::Settings::clone_current();
    settings.set_snapshot_path("../wrong");
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    settings.bind(|| {
        insta::glob!("../wrong", "*.toml", |path: &Path| {
            let text = std::fs::read_to_string(path).unwrap();
            let diagnostics = check(&text);
            assert!(!diagnostics.is_empty(), "{} has nothing wrong", path.display());
            insta::assert_snapshot!("told", told(&text, &diagnostics));
        });
    });
}

#[test]
fn the_corpus_is_as_large_as_it_should_be() {
    let files = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/wrong")).unwrap().flatten();
    let count = files.filter(|file| file.path().extension().is_some_and(|ext| ext == "toml")).count();
    assert!(count >= 60, "{count}");
}
