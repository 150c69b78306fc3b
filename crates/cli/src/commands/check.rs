//! `check`: every mistake of pipeline files, with its place underlined.

use super::runners_there::{self, Known, There};
use super::{local, sarif};
use crate::failure::{Done, Failure, OK, failed};
use crate::global::Global;
use crate::out;
use crate::written;
use clap::ValueEnum;
use codespan_reporting::diagnostic::{Diagnostic as Shown, Label};
use codespan_reporting::files::SimpleFile;
use codespan_reporting::term::{self, Config, Styles, StylesWriter};
use ordotaxis_core::language::{Code, Diagnostic, Severity, Span, counted, has_errors};
use ordotaxis_core::plan::{self, BorrowedFiles, Occasion, Source};
use ordotaxis_core::rules;
use ordotaxis_wire::plan::{DiagnosticView, diagnostic_views};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// `check`
#[derive(clap::Args)]
pub(crate) struct CheckOptions {
    /// `ordotaxis.toml` and `ordotaxis/*.toml` when none is named
    files: Vec<PathBuf>,
    #[arg(long, value_enum, default_value_t = CheckFormat::Human)]
    format: CheckFormat,
    /// Ask the service what its runners have: a job that none would take is told
    #[arg(long)]
    runners: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CheckFormat {
    Human,
    Json,
    Sarif,
}

pub(super) async fn check(options: CheckOptions, global: &Global) -> Done {
    let CheckOptions { files, format, runners } = options;
    let known = if runners { Some(known_runners(global).await?) } else { None };
    let json = global.json;
    let files = if files.is_empty() { found()? } else { files };
    let mut views: Vec<DiagnosticView> = Vec::new();
    let mut errors = false;
    let format = if json { CheckFormat::Json } else { format };
    for file in &files {
        let name = file.display().to_string();
        let text = match (bytes(file)?, format) {
            (bytes, CheckFormat::Human) => text(file, bytes)?,
            (bytes, _) => match String::from_utf8(bytes) {
                Ok(text) => text,
                Err(error) => {
                    errors = true;
                    views.push(not_text(&name, &error));
                    continue;
                }
            },
        };
        let diagnostics = if file.ends_with(rules::FILE) { rules_told(&text, file) } else { pipeline_told(&text, known.as_ref()).await };
        errors |= has_errors(&diagnostics);
        if format != CheckFormat::Human {
            views.extend(diagnostic_views(&name, &text, &diagnostics));
        } else if diagnostics.is_empty() {
            out::remark(format!("{name}: nothing wrong"));
        } else {
            print(&name, &text, &diagnostics)?;
        }
    }
    match format {
        CheckFormat::Human => {}
        CheckFormat::Json => out::json(&serde_json::json!({ "diagnostics": views })),
        CheckFormat::Sarif => out::json(&sarif::log(&views)),
    }
    if errors { Ok(failed()) } else { OK }
}

/// What is wrong with a pipeline file.
async fn pipeline_told(text: &str, known: Option<&Known>) -> Vec<Diagnostic> {
    let borrowed = local::fetch_borrowed(text).await;
    let mut diagnostics = plan::check_borrowing(text, &borrowed);
    if let Some(known) = known {
        diagnostics.extend(not_begun(known, text, &borrowed));
    }
    diagnostics
}

/// What is wrong with the rules; that they want a pipeline that is not here is a warning, since the service may keep it.
fn rules_told(text: &str, file: &Path) -> Vec<Diagnostic> {
    let (rules, mut diagnostics) = rules::read(text);
    let here = file.parent().and_then(Path::parent).unwrap_or(Path::new(""));
    let is_here = |name: &str| match name {
        "main" => here.join("ordotaxis.toml").exists(),
        name => here.join(format!("ordotaxis/{name}.toml")).exists(),
    };
    for (branch, rules) in rules.branches.iter().filter(|(_, rules)| rules.queue) {
        for name in rules.wants.iter().filter(|name| !is_here(name)) {
            let message = format!("[branch.{branch}] wants the pipeline `{name}`, which is not here");
            diagnostics.push(Diagnostic::warning(Code::MissingFile, rules.span.clone(), message));
        }
    }
    diagnostics
}

/// What the service's runners have. Not to know it is an error here: it was asked for.
async fn known_runners(global: &Global) -> Result<Known, Failure> {
    match runners_there::there(global, Path::new(".")).await {
        There::Known(known) => Ok(known),
        There::NotAsked(why) => Err(Failure::new(3, why, "leave out --runners, or try again")),
        There::NotSignedIn => {
            Err(Failure::new(2, "no service is known whose runners could be asked", "run `ordotaxis sign-in`, or leave out --runners"))
        }
    }
}

/// A warning for each job that no connected runner would take, whatever begins the run. Cells of one job for the same reason
/// are told once.
fn not_begun(known: &Known, text: &str, borrowed: &BorrowedFiles) -> Vec<Diagnostic> {
    let occasion = Occasion::by_hand();
    let Ok(planned) = plan::plan(Source { text, name: "main", borrowed }, &occasion) else { return Vec::new() };
    let refused = planned.plan.jobs.iter().filter_map(|job| Some((job.id.without_cell(), known.refuses(job, &occasion)?)));
    let distinct: BTreeSet<(&str, String)> = refused.collect();
    let warning =
        |(job, why): (&str, String)| Diagnostic::warning(Code::NoRunner, header(text, job), format!("job {job} would not begin: {why}"));
    distinct.into_iter().map(warning).collect()
}

/// Where a job's table begins; the file's start where it is written otherwise.
fn header(text: &str, job: &str) -> Span {
    let header = format!("[job.{job}]");
    text.find(&header).map_or(0..0, |at| at..at + header.len())
}

/// The pipeline files of this folder.
pub(super) fn found() -> Result<Vec<PathBuf>, Failure> {
    let mut files: Vec<PathBuf> = [PathBuf::from("ordotaxis.toml")].into_iter().filter(|file| file.exists()).collect();
    let folder = std::fs::read_dir("ordotaxis").into_iter().flatten().flatten().map(|entry| entry.path());
    let mut others: Vec<PathBuf> = folder.filter(|path| path.extension().is_some_and(|ext| ext == "toml")).collect();
    others.sort();
    files.extend(others);
    if files.is_empty() {
        return Err(Failure::new(2, "there is no pipeline file here", "write `ordotaxis.toml`, or name the file to check"));
    }
    Ok(files)
}

pub(super) fn read(file: &Path) -> Result<String, Failure> {
    text(file, bytes(file)?)
}

fn bytes(file: &Path) -> Result<Vec<u8>, Failure> {
    let failed = |error| Failure::new(2, format!("{} could not be read: {error}", file.display()), "name a pipeline file");
    std::fs::read(file).map_err(failed)
}

fn text(file: &Path, bytes: Vec<u8>) -> Result<String, Failure> {
    let not_text = |error: std::string::FromUtf8Error| {
        let at = error.utf8_error().valid_up_to();
        Failure::new(1, format!("{} is not UTF-8 text: byte {at} is the first that is not", file.display()), "save it as UTF-8")
    };
    String::from_utf8(bytes).map_err(not_text)
}

/// The same for programs, which read diagnostics.
fn not_text(name: &str, error: &std::string::FromUtf8Error) -> DiagnosticView {
    let (before, _) = error.as_bytes().split_at(error.utf8_error().valid_up_to());
    let before = String::from_utf8_lossy(before).into_owned();
    let told =
        Diagnostic::error(Code::Syntax, before.len()..before.len(), "the file is not UTF-8 text from here on").hint("save it as UTF-8");
    diagnostic_views(name, &before, &[told]).remove(0)
}

/// Prints diagnostics for a person: the line, what is wrong underlined, what to do.
pub(super) fn print(name: &str, text: &str, diagnostics: &[Diagnostic]) -> Result<(), Failure> {
    let file = SimpleFile::new(name, text);
    let config = Config::default();
    let styles = Styles::default();
    let mut buffer = termcolor::Buffer::ansi();
    for diagnostic in diagnostics {
        let mut writer = StylesWriter::new(&mut buffer, &styles);
        let written = term::emit_to_write_style(&mut writer, &config, &file, &shown(diagnostic));
        written.map_err(|error| Failure::new(1, format!("the mistakes could not be printed: {error}"), "use --format json"))?;
    }
    written::text(&String::from_utf8_lossy(buffer.as_slice()));
    let count = |severity: Severity| diagnostics.iter().filter(|d| d.severity == severity).count();
    let counts = [(count(Severity::Error), "mistake"), (count(Severity::Warning), "warning"), (count(Severity::Note), "note")];
    let said: Vec<String> = counts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| counted(*count, what)).collect();
    out::remark(out::bold(&format!("{name}: {}", said.join(", "))));
    Ok(())
}

fn shown(diagnostic: &Diagnostic) -> Shown<()> {
    let base = match diagnostic.severity {
        Severity::Error => Shown::error(),
        Severity::Warning => Shown::warning(),
        Severity::Note => Shown::note(),
    };
    let mut labels = vec![Label::primary((), diagnostic.span.clone())];
    // The whole way round of a circle: each edge at its own place.
    if let Some((_, first)) = diagnostic.related.first() {
        labels = vec![Label::primary((), diagnostic.span.clone()).with_message(first)];
        labels.extend(diagnostic.related.iter().skip(1).map(|(span, message)| Label::secondary((), span.clone()).with_message(message)));
    }
    let notes = diagnostic.hint.iter().cloned().collect();
    base.with_code(diagnostic.code.word()).with_message(&diagnostic.message).with_labels(labels).with_notes(notes)
}
