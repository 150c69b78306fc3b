//! What a key of a job says, changed: of lists and tables only what is other than before, so that comments between their
//! lines stay.

use super::change::EditError;
use serde_json::Value as Json;
use toml_edit::{Array, ArrayOfTables, InlineTable, Item, TableLike, Value};

/// How deep a value may nest.
const DEEPEST: usize = 8;

pub(super) fn set(job: &mut dyn TableLike, key: &str, value: Option<&Json>) -> Result<(), EditError> {
    let Some(value) = value.filter(|value| !value.is_null()) else {
        job.remove(key);
        return Ok(());
    };
    let wrong = || EditError::Value(key.to_owned());
    match job.get_mut(key) {
        Some(item) if is_like(item, value) => change(item, value, DEEPEST).ok_or_else(wrong),
        other => {
            if other.is_some() {
                job.remove(key);
            }
            job.insert(key, Item::Value(made(value, DEEPEST).ok_or_else(wrong)?));
            Ok(())
        }
    }
}

/// Whether a value can be changed as it is written, without being written anew.
fn is_like(item: &Item, new: &Json) -> bool {
    match item {
        Item::Table(_) => new.is_object(),
        Item::ArrayOfTables(_) => new.as_array().is_some_and(|list| list.iter().all(Json::is_object)),
        _ => true,
    }
}

/// None where it cannot be said.
fn change(item: &mut Item, new: &Json, deep: usize) -> Option<()> {
    match (&mut *item, new) {
        (Item::Table(table), Json::Object(new)) => change_table(table, new, deep.checked_sub(1)?),
        (Item::ArrayOfTables(tables), Json::Array(list)) => change_tables(tables, list, deep.checked_sub(1)?),
        (Item::Value(old), new) => change_value(old, new, deep),
        (item, new) => {
            *item = Item::Value(made(new, deep)?);
            Some(())
        }
    }
}

fn change_value(old: &mut Value, new: &Json, deep: usize) -> Option<()> {
    match (&mut *old, new) {
        (Value::Array(list), Json::Array(new)) => change_list(list, new, deep.checked_sub(1)?),
        (Value::InlineTable(table), Json::Object(new)) => change_inline(table, new, deep.checked_sub(1)?),
        (old, new) => {
            let decor = old.decor().clone();
            let made = made(new, deep)?;
            if said(old) != said(&made) {
                *old = made;
                *old.decor_mut() = decor;
            }
            Some(())
        }
    }
}

/// Tables that are written `[[…]]`, one after the other.
fn change_tables(tables: &mut ArrayOfTables, new: &[Json], deep: usize) -> Option<()> {
    while tables.len() > new.len() {
        tables.remove(tables.len() - 1);
    }
    for (at, one) in new.iter().enumerate() {
        match tables.get_mut(at) {
            Some(table) => change_table(table, one.as_object()?, deep)?,
            None => tables.push(made(one, deep)?.as_inline_table()?.clone().into_table()),
        }
    }
    Some(())
}

/// In one line the blank before the closing brace belongs to the last value, whichever that is.
fn change_inline(table: &mut InlineTable, new: &serde_json::Map<String, Json>, deep: usize) -> Option<()> {
    let end = table.iter().last().and_then(|(_, last)| last.decor().suffix()?.as_str().map(str::to_owned));
    change_table(table, new, deep)?;
    let Some(end) = end.filter(|end| end.trim().is_empty()) else { return Some(()) };
    let count = table.len();
    for (at, (_, value)) in table.iter_mut().enumerate() {
        value.decor_mut().set_suffix(if at + 1 == count { end.as_str() } else { "" });
    }
    Some(())
}

/// What a value says, however it is written.
fn said(value: &Value) -> String {
    let mut plain = value.clone();
    plain.decor_mut().clear();
    match plain {
        Value::String(text) => format!("{:?}", text.value()),
        Value::Integer(number) => number.value().to_string(),
        other => other.to_string(),
    }
}

fn change_table(table: &mut dyn TableLike, new: &serde_json::Map<String, Json>, deep: usize) -> Option<()> {
    let gone: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).filter(|key| !new.contains_key(key)).collect();
    for key in gone {
        table.remove(&key);
    }
    for (key, value) in new {
        match table.get_mut(key) {
            Some(item) => change(item, value, deep)?,
            None => {
                table.insert(key, Item::Value(made(value, deep)?));
            }
        }
    }
    Some(())
}

/// What stands at the beginning and at the end of both stays as it is written.
fn change_list(list: &mut Array, new: &[Json], deep: usize) -> Option<()> {
    let wanted: Vec<Value> = new.iter().map(|one| made(one, deep)).collect::<Option<_>>()?;
    let old: Vec<Json> = list.iter().map(json).collect();
    let same = |pairs: &mut dyn Iterator<Item = (&Json, &Json)>| pairs.take_while(|(old, new)| old == new).count();
    let head = same(&mut old.iter().zip(new));
    let tail = same(&mut old[head..].iter().rev().zip(new[head..].iter().rev()));
    let (old_middle, new_middle) = (old.len() - head - tail, new.len() - head - tail);
    for at in 0..old_middle.min(new_middle) {
        change_value(list.get_mut(head + at)?, &new[head + at], deep)?;
    }
    for _ in new_middle..old_middle {
        remove(list, head + new_middle);
    }
    for (at, value) in wanted.into_iter().enumerate().take(head + new_middle).skip(head + old_middle) {
        let like = list.get(at.saturating_sub(1)).map(|before| before.decor().clone());
        let mut value = value;
        // A list with a line for each gets one more line.
        match like.filter(|_| at > 0) {
            Some(decor) => decor
                .prefix()
                .and_then(|prefix| prefix.as_str())
                .map(indent)
                .into_iter()
                .for_each(|prefix| value.decor_mut().set_prefix(prefix)),
            None => value.decor_mut().clear(),
        }
        list.insert_formatted(at, value);
    }
    tidy(list);
    Some(())
}

/// Takes one out of a list. What TOML puts behind a comma belongs to the line before: its comment stays, that of the one
/// taken out goes.
pub(super) fn remove(list: &mut Array, at: usize) {
    let prefix = |value: &Value| value.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default().to_owned();
    let own = list.get(at).map(prefix).unwrap_or_default();
    let next = list.get(at + 1).map_or_else(|| list.trailing().as_str().unwrap_or_default().to_owned(), prefix);
    if let (Some((line_before, _)), Some(end)) = (own.rsplit_once('\n'), next.find('\n')) {
        let joined = format!("{line_before}{}", &next[end..]);
        match list.get_mut(at + 1) {
            Some(value) => value.decor_mut().set_prefix(joined),
            None => list.set_trailing(joined),
        }
    }
    list.remove(at);
}

/// A list without those of its values that are gone.
pub(super) fn retain(list: &mut Array, stays: impl Fn(&Value) -> bool) {
    for at in (0..list.len()).rev() {
        if list.get(at).is_some_and(|value| !stays(value)) {
            remove(list, at);
        }
    }
    tidy(list);
}

/// What is first in a list of one line has no blank before it.
fn tidy(list: &mut Array) {
    if let Some(first) = list.get_mut(0)
        && first.decor().prefix().and_then(|prefix| prefix.as_str()) == Some(" ")
    {
        first.decor_mut().set_prefix("");
    }
}

/// The blank before a value of a list, without the comments in it.
fn indent(prefix: &str) -> String {
    match prefix.rsplit_once('\n') {
        Some((_, blank)) => format!("\n{blank}"),
        None => " ".to_owned(),
    }
}

/// A value as JSON, to compare it by what it says.
pub(super) fn json(value: &Value) -> Json {
    match value {
        Value::String(text) => Json::from(text.value().as_str()),
        Value::Integer(number) => Json::from(*number.value()),
        Value::Float(number) => Json::from(*number.value()),
        Value::Boolean(flag) => Json::from(*flag.value()),
        Value::Datetime(time) => Json::from(time.value().to_string()),
        Value::Array(list) => list.iter().map(json).collect(),
        Value::InlineTable(table) => Json::Object(table.iter().map(|(key, value)| (key.to_owned(), json(value))).collect()),
    }
}

fn made(value: &Json, deep: usize) -> Option<Value> {
    let inner = deep.checked_sub(1)?;
    match value {
        Json::Null => None,
        Json::Bool(flag) => Some(Value::from(*flag)),
        Json::Number(number) => number.as_i64().map(Value::from).or_else(|| number.as_f64().map(Value::from)),
        Json::String(text) => Some(Value::from(text.as_str())),
        Json::Array(list) => list.iter().map(|one| made(one, inner)).collect::<Option<Array>>().map(Value::Array),
        Json::Object(map) => {
            let mut table = InlineTable::new();
            for (key, value) in map {
                table.insert(key, made(value, inner)?);
            }
            Some(Value::InlineTable(table))
        }
    }
}

/// One more in a list of names, unless it is there.
pub(super) fn put_into(job: &mut dyn TableLike, key: &str, name: &str) -> Result<(), EditError> {
    let old = job.get(key).and_then(Item::as_value).map(json);
    let mut list = match old {
        Some(Json::Array(list)) => list,
        Some(_) => return Err(EditError::Value(key.to_owned())),
        None => Vec::new(),
    };
    if list.iter().any(|one| says(one, name)) {
        return Ok(());
    }
    list.push(Json::from(name));
    set(job, key, Some(&Json::Array(list)))
}

/// A list of names without one of them; a list that holds none any more goes.
pub(super) fn take_out(job: &mut dyn TableLike, key: &str, name: &str) {
    let Some(list) = job.get_mut(key).and_then(Item::as_array_mut) else { return };
    let before = list.len();
    retain(list, |one| !says(&json(one), name));
    if list.is_empty() && before > 0 {
        job.remove(key);
    }
}

/// Whether an entry of a list is this name: by itself, or in a table with `from`.
fn says(entry: &Json, name: &str) -> bool {
    entry.as_str().or_else(|| entry["from"].as_str()) == Some(name)
}
