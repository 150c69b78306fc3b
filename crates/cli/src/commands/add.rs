//! `add job`: one more job at the end of its stage's jobs; comments and layout stay as they are.

use super::check;
use crate::failure::{Done, Failure, OK};
use crate::out;
use clap::Subcommand;
use ordotaxis_core::language::{Code, Diagnostic, Severity, has_errors};
use ordotaxis_core::plan;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value, value};

#[derive(Subcommand)]
pub(crate) enum AddCommand {
    /// Add a job, keeping everything else as it is written
    Job {
        /// `STAGE.NAME`
        name: String,
        /// A command; may stand several times
        #[arg(long, required = true)]
        step: Vec<String>,
        /// An artifact to take: STAGE.NAME/ARTIFACT
        #[arg(long)]
        takes: Vec<String>,
        /// A job or stage to come after
        #[arg(long)]
        after: Vec<String>,
        /// A file to leave as an artifact: NAME=GLOB
        #[arg(long, value_name = "NAME=GLOB")]
        gives: Vec<String>,
        #[arg(long, default_value = "ordotaxis.toml")]
        file: PathBuf,
    },
}

pub(super) fn add(command: AddCommand) -> Done {
    let AddCommand::Job { name, step, takes, after, gives, file } = command;
    let text = check::read(&file)?;
    // A stage that is ordered and has no job yet is what the job is for.
    let unfilled = |one: &Diagnostic| {
        one.code == Code::EmptyStage && one.message.contains(&format!("`{}`", name.split('.').next().unwrap_or_default()))
    };
    let before: Vec<Diagnostic> = plan::check(&text).into_iter().filter(|one| !unfilled(one)).collect();
    if has_errors(&before) {
        check::print(&file.display().to_string(), &text, &before)?;
        return Err(Failure::new(1, format!("{} has mistakes already", file.display()), "mend these first; nothing was written"));
    }
    let Some((stage, job)) = name.split_once('.') else {
        return Err(Failure::new(2, format!("`{name}` is not a job's name"), "name it as STAGE.NAME"));
    };
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| Failure::new(1, error.message().to_owned(), ""))?;
    put(&mut document, stage, job, &new_job(&step, &takes, &after, &gives)?)?;
    name_stage(&mut document, stage);
    let written = document.to_string();
    let found = plan::check(&written);
    if has_errors(&found) {
        let errors: Vec<_> = found.into_iter().filter(|one| one.severity == Severity::Error).collect();
        check::print(&file.display().to_string(), &written, &errors)?;
        return Err(Failure::new(1, "with that job the file would have mistakes", "nothing was written"));
    }
    replace(&file, &written)?;
    out::print(format!("{}: job {name} is added", file.display()));
    OK
}

fn new_job(steps: &[String], takes: &[String], after: &[String], gives: &[String]) -> Result<Table, Failure> {
    let list = |items: &[String]| Item::Value(Value::Array(items.iter().map(String::as_str).collect::<Array>()));
    let mut job = Table::new();
    if !takes.is_empty() {
        job.insert("takes", list(takes));
    }
    if !after.is_empty() {
        job.insert("after", list(after));
    }
    job.insert("steps", list(steps));
    let mut given = InlineTable::new();
    for give in gives {
        let Some((name, glob)) = give.split_once('=') else {
            return Err(Failure::new(2, format!("`--gives {give}` is not NAME=GLOB"), "such as --gives report=out/report.xml"));
        };
        given.insert(name, Value::Array([glob].into_iter().collect()));
    }
    if !given.is_empty() {
        job.insert("gives", value(given));
    }
    Ok(job)
}

/// Puts the job after the last one of its stage, else after the last job of all.
fn put(document: &mut DocumentMut, stage: &str, name: &str, job: &Table) -> Result<(), Failure> {
    let place = place(document, stage);
    let jobs = document.entry("job").or_insert_with(implicit).as_table_mut();
    let stages = jobs.ok_or_else(|| Failure::new(1, "`job` is not a table", "write jobs as [job.STAGE.NAME]"))?;
    stages.set_implicit(true);
    let jobs = stages.entry(stage).or_insert_with(implicit).as_table_mut();
    let jobs = jobs.ok_or_else(|| Failure::new(1, format!("`job.{stage}` is not a table"), "write jobs as [job.STAGE.NAME]"))?;
    if jobs.contains_key(name) {
        return Err(Failure::new(2, format!("there is a job {stage}.{name} already"), "choose another name; nothing was written"));
    }
    let mut job = job.clone();
    job.decor_mut().set_prefix("\n");
    // Tables of the document are written by position: the same as the one it follows puts it right behind.
    job.set_position(place);
    jobs.insert(name, Item::Table(job));
    Ok(())
}

fn implicit() -> Item {
    let mut table = Table::new();
    table.set_implicit(true);
    Item::Table(table)
}

/// The position of the last table of the stage's jobs, else of all jobs.
fn place(document: &DocumentMut, stage: &str) -> Option<isize> {
    let jobs = document.get("job")?.as_table()?;
    let last = |table: &Table| deepest(table);
    match jobs.get(stage).and_then(Item::as_table) {
        Some(stage) => last(stage),
        None => last(jobs),
    }
}

/// The largest position of a table and all tables in it.
fn deepest(table: &Table) -> Option<isize> {
    let inner = table.iter().filter_map(|(_, item)| match item {
        Item::Table(table) => deepest(table),
        Item::ArrayOfTables(tables) => tables.iter().filter_map(deepest).max(),
        _ => None,
    });
    inner.max().max(table.position())
}

/// A stage that the order does not name yet comes last in it.
fn name_stage(document: &mut DocumentMut, stage: &str) {
    let Some(order) = document.get("order").and_then(Item::as_str).map(str::to_owned) else { return };
    let named = order.split(|c: char| !(c.is_alphanumeric() || c == '-' || c == '_')).any(|word| word == stage);
    if !named
        && let Some(item) = document.get_mut("order")
        && let Some(old) = item.as_value()
    {
        let decor = old.decor().clone();
        let mut new = Value::from(format!("{order} > {stage}"));
        *new.decor_mut() = decor;
        *item = Item::Value(new);
    }
}

/// Writes beside the file and renames, so that it is never half written.
fn replace(file: &Path, text: &str) -> Result<(), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(1, format!("{} could not be written: {error}", file.display()), "nothing was changed");
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut staging = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    staging.write_all(text.as_bytes()).map_err(failed)?;
    if let Ok(known) = std::fs::metadata(file) {
        std::fs::set_permissions(staging.path(), known.permissions()).map_err(failed)?;
    }
    staging.persist(file).map_err(|error| failed(error.error))?;
    Ok(())
}
