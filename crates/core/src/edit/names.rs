//! Where a file names jobs and stages: `after`, `takes`, assets of releases, and `fact.STAGE.NAME.…` in expressions and
//! placeholders. A change of a name goes through all of it; steps are never touched, they are commands.

use super::keys::retain;
use toml_edit::{DocumentMut, Item, TableLike, Value};

/// Keys whose texts are commands, or are read by nobody.
const COMMANDS: [&str; 8] = ["steps", "run", "prepare", "afterwards", "checkpoint", "beside", "switch", "says"];

pub(super) fn rename_job(file: &mut DocumentMut, job: &str, to: &str) {
    let (artifact, new_artifact) = (format!("{job}/"), format!("{to}/"));
    let (fact, new_fact) = (format!("fact.{job}."), format!("fact.{to}."));
    walk(file.as_table_mut(), &mut |key, text| match key {
        "after" if text == job => Some(to.to_owned()),
        "takes" | "from" | "assets" => text.strip_prefix(&artifact).map(|rest| format!("{new_artifact}{rest}")),
        _ => replaced(text, &fact, &new_fact),
    });
}

pub(super) fn rename_stage(file: &mut DocumentMut, stage: &str, to: &str) {
    let (job, new_job) = (format!("{stage}."), format!("{to}."));
    let (fact, new_fact) = (format!("fact.{stage}."), format!("fact.{to}."));
    walk(file.as_table_mut(), &mut |key, text| match key {
        "after" if text == stage => Some(to.to_owned()),
        "after" | "takes" | "from" | "assets" => text.strip_prefix(&job).map(|rest| format!("{new_job}{rest}")),
        _ => replaced(text, &fact, &new_fact),
    });
}

/// Nothing comes after the job or takes from it any more.
pub(super) fn drop_job(file: &mut DocumentMut, job: &str) {
    let artifact = format!("{job}/");
    drop_from(file, &|key, text| match key {
        "after" => text == job,
        _ => text.starts_with(&artifact),
    });
}

/// Nothing comes after the stage any more, and nothing holds for all its jobs.
pub(super) fn drop_stage(file: &mut DocumentMut, stage: &str) {
    drop_from(file, &|key, text| key == "after" && text == stage);
    let Some(stages) = file.get_mut("stage").and_then(Item::as_table_like_mut) else { return };
    stages.remove(stage);
    if stages.is_empty() {
        file.remove("stage");
    }
}

/// All of a text's places where `old` stands for itself, and is not the end of a longer name.
fn replaced(text: &str, old: &str, new: &str) -> Option<String> {
    if !text.contains(old) {
        return None;
    }
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = rest.find(old) {
        let inner =
            rest[..at].chars().next_back().or_else(|| out.chars().next_back()).is_some_and(|c| c.is_alphanumeric() || "_.".contains(c));
        out.push_str(&rest[..at]);
        out.push_str(if inner { old } else { new });
        rest = &rest[at + old.len()..];
    }
    out.push_str(rest);
    Some(out)
}

/// Asks about every text that is no command, with the key that it stands under; an answer takes its place.
fn walk(table: &mut dyn TableLike, change: &mut dyn FnMut(&str, &str) -> Option<String>) {
    for (key, item) in table.iter_mut() {
        let key = key.get().to_owned();
        if COMMANDS.contains(&key.as_str()) {
            continue;
        }
        match item {
            Item::Table(table) => walk(table, change),
            Item::ArrayOfTables(tables) => tables.iter_mut().for_each(|table| walk(table, change)),
            Item::Value(value) => walk_value(&key, value, change),
            Item::None => {}
        }
    }
}

fn walk_value(key: &str, value: &mut Value, change: &mut dyn FnMut(&str, &str) -> Option<String>) {
    match value {
        Value::InlineTable(table) => walk(table, change),
        Value::Array(list) => list.iter_mut().for_each(|one| walk_value(key, one, change)),
        Value::String(text) => {
            if let Some(new) = change(key, text.value()) {
                let decor = value.decor().clone();
                *value = Value::from(new);
                *value.decor_mut() = decor;
            }
        }
        _ => {}
    }
}

/// Takes entries out of the lists `after` and `takes` of jobs and patterns; lists that hold none any more go.
fn drop_from(file: &mut DocumentMut, gone: &dyn Fn(&str, &str) -> bool) {
    let jobs = file.get_mut("job").and_then(Item::as_table_like_mut);
    for (_, stage) in jobs.into_iter().flat_map(TableLike::iter_mut) {
        for (_, job) in stage.as_table_like_mut().into_iter().flat_map(TableLike::iter_mut) {
            job.as_table_like_mut().into_iter().for_each(|job| drop_links(job, gone));
        }
    }
    let patterns = file.get_mut("pattern").and_then(Item::as_table_like_mut);
    for (_, pattern) in patterns.into_iter().flat_map(TableLike::iter_mut) {
        pattern.as_table_like_mut().into_iter().for_each(|pattern| drop_links(pattern, gone));
    }
}

fn drop_links(table: &mut dyn TableLike, gone: &dyn Fn(&str, &str) -> bool) {
    for key in ["after", "takes"] {
        let Some(list) = table.get_mut(key).and_then(Item::as_array_mut) else { continue };
        let before = list.len();
        retain(list, |one| !name_of(one).is_some_and(|name| gone(key, name)));
        if list.is_empty() && before > 0 {
            table.remove(key);
        }
    }
}

fn name_of(entry: &Value) -> Option<&str> {
    entry.as_str().or_else(|| entry.as_inline_table()?.get("from")?.as_str())
}
