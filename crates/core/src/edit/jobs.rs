//! The tables `[job.STAGE.NAME]`: found, added, taken out, put under another name.

use super::change::{Edit, EditError};
use toml_edit::{Array, DocumentMut, InlineTable, Item, Key, Table, TableLike, Value, value};

/// A job's table, however it is written.
pub(super) fn find<'d>(file: &'d mut DocumentMut, job: &str) -> Result<&'d mut dyn TableLike, EditError> {
    let none = || EditError::NoJob(job.to_owned());
    let (stage, name) = job.split_once('.').ok_or_else(none)?;
    let jobs = file.get_mut("job").and_then(Item::as_table_like_mut).and_then(|jobs| jobs.get_mut(stage));
    let item = jobs.and_then(Item::as_table_like_mut).and_then(|stage| stage.get_mut(name)).ok_or_else(none)?;
    item.as_table_like_mut().ok_or_else(|| EditError::NoTable(format!("job.{job}")))
}

/// Whether a stage has jobs.
pub(super) fn has_stage(file: &DocumentMut, stage: &str) -> Result<(), EditError> {
    let jobs = file.get("job").and_then(Item::as_table_like).and_then(|jobs| jobs.get(stage));
    match jobs.and_then(Item::as_table_like) {
        Some(jobs) if !jobs.is_empty() => Ok(()),
        _ => Err(EditError::NoStage(stage.to_owned())),
    }
}

/// Whether a stage has one job and no more.
pub(super) fn is_alone(file: &DocumentMut, stage: &str) -> bool {
    let jobs = file.get("job").and_then(Item::as_table_like).and_then(|jobs| jobs.get(stage));
    jobs.and_then(Item::as_table_like).is_some_and(|jobs| jobs.len() == 1)
}

/// Whether a job can come after another job, or after a stage.
pub(super) fn may_follow(file: &mut DocumentMut, job: &str, of: &str) -> Result<(), EditError> {
    find(file, job)?;
    if job == of || job.split_once('.').is_some_and(|(stage, _)| stage == of) {
        return Err(EditError::Itself(job.to_owned()));
    }
    if of.contains('.') { find(file, of).map(drop) } else { has_stage(file, of) }
}

pub(super) fn add(file: &mut DocumentMut, stage: &str, name: &str, edit: &Edit) -> Result<(), EditError> {
    let place = last_of(file, stage);
    let jobs = stage_table(file, stage)?;
    if jobs.contains_key(name) {
        return Err(EditError::JobThere(format!("{stage}.{name}")));
    }
    let mut job = written(edit);
    job.decor_mut().set_prefix("\n");
    // Tables of the document are written by position: the same as the one it follows puts it right behind.
    job.set_position(place);
    jobs.insert(name, Item::Table(job));
    Ok(())
}

fn written(edit: &Edit) -> Table {
    let mut job = Table::new();
    let Edit::AddJob { steps, takes, after, gives, .. } = edit else { return job };
    let list = |items: &[String]| Item::Value(Value::Array(items.iter().map(String::as_str).collect::<Array>()));
    for (key, items) in [("takes", takes), ("after", after)] {
        if !items.is_empty() {
            job.insert(key, list(items));
        }
    }
    job.insert("steps", list(steps));
    let mut given = InlineTable::new();
    for (name, globs) in gives {
        given.insert(name, Value::Array(globs.iter().map(String::as_str).collect()));
    }
    if !given.is_empty() {
        job.insert("gives", value(given));
    }
    job
}

/// The table of a stage's jobs, made where there is none.
fn stage_table<'d>(file: &'d mut DocumentMut, stage: &str) -> Result<&'d mut Table, EditError> {
    let table = |item: &'d mut Item, called: String| item.as_table_mut().ok_or(EditError::NoTable(called));
    let jobs = table(file.entry("job").or_insert_with(implicit), "job".into())?;
    jobs.set_implicit(true);
    table(jobs.entry(stage).or_insert_with(implicit), format!("job.{stage}"))
}

fn implicit() -> Item {
    let mut table = Table::new();
    table.set_implicit(true);
    Item::Table(table)
}

/// The position of the last table of the stage's jobs, else of all jobs.
fn last_of(file: &DocumentMut, stage: &str) -> Option<isize> {
    let jobs = file.get("job")?.as_table()?;
    jobs.get(stage).and_then(Item::as_table).map_or_else(|| deepest(jobs), deepest)
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

/// Takes a job's table out, and the table of its stage where that was the last of it.
pub(super) fn remove(file: &mut DocumentMut, job: &str) -> Result<Item, EditError> {
    find(file, job)?;
    let none = || EditError::NoJob(job.to_owned());
    let (stage, name) = job.split_once('.').ok_or_else(none)?;
    let jobs = file.get_mut("job").and_then(Item::as_table_like_mut).ok_or_else(none)?;
    let of_stage = jobs.get_mut(stage).and_then(Item::as_table_like_mut).ok_or_else(none)?;
    let taken = of_stage.remove(name).ok_or_else(none)?;
    if of_stage.is_empty() {
        jobs.remove(stage);
    }
    Ok(taken)
}

/// Puts a job's table under another name, where it stands in the text.
pub(super) fn rename(file: &mut DocumentMut, job: &str, to: &str) -> Result<(), EditError> {
    let (stage, name) = named(to)?;
    if job == to {
        return find(file, job).map(drop);
    }
    find(file, job)?;
    if find(file, to).is_ok() {
        return Err(EditError::JobThere(to.to_owned()));
    }
    // Before anything is taken out: what is refused leaves the text as it is.
    stage_table(file, stage)?;
    let table = match remove(file, job)? {
        Item::Table(table) => table,
        Item::Value(Value::InlineTable(table)) => table.into_table(),
        _ => return Err(EditError::NoTable(format!("job.{job}"))),
    };
    stage_table(file, stage)?.insert_formatted(&Key::new(name), Item::Table(table));
    Ok(())
}

pub(super) fn rename_stage(file: &mut DocumentMut, stage: &str, to: &str) -> Result<(), EditError> {
    fits(to)?;
    has_stage(file, stage)?;
    if stage == to {
        return Ok(());
    }
    if has_stage(file, to).is_ok() {
        return Err(EditError::StageThere(to.to_owned()));
    }
    for table in ["job", "stage"] {
        let Some(all) = file.get_mut(table).and_then(Item::as_table_like_mut) else { continue };
        if let Some(taken) = all.remove(stage) {
            all.insert(to, taken);
        }
    }
    Ok(())
}

/// Stage and name of a job, both as names have to be.
pub(super) fn named(job: &str) -> Result<(&str, &str), EditError> {
    let (stage, name) = job.split_once('.').ok_or_else(|| EditError::NoName(job.to_owned()))?;
    for part in [stage, name] {
        fits(part)?;
    }
    Ok((stage, name))
}

fn fits(name: &str) -> Result<(), EditError> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    if name.is_empty() || name.len() > 64 || name.starts_with('-') || !name.chars().all(plain) {
        return Err(EditError::BadName(name.to_owned()));
    }
    Ok(())
}
