//! The order lines: a stage named, moved, renamed, taken out. A line is written anew only where it changes.

use super::change::{EditError, Place, Side};
use crate::order::{Item as Part, Line, parse};
use toml_edit::{DocumentMut, Item, Table, Value};

/// What is said where a line has no text of its own.
const NOWHERE: std::ops::Range<usize> = 0..0;

/// A stage that the order does not name yet: last in it, or where its place is said. A file without an order gets one only
/// when a place is said.
pub(super) fn name(file: &mut DocumentMut, stage: &str, at: Option<&Place>) -> Result<(), EditError> {
    let lines = read(file)?;
    if lines.iter().any(|line| names(line, stage)) {
        return Ok(());
    }
    match (at, lines.is_empty()) {
        (Some(at), _) => place(file, stage, at),
        (None, true) => Ok(()),
        (None, false) => {
            let mut lines = lines;
            let last = lines.len() - 1;
            lines[last].groups.push(vec![part(stage)]);
            write(file, &lines)
        }
    }
}

pub(super) fn place(file: &mut DocumentMut, stage: &str, at: &Place) -> Result<(), EditError> {
    if stage == at.of {
        return Err(EditError::Itself(stage.to_owned()));
    }
    let mut lines: Vec<Line> = read(file)?.into_iter().filter_map(|line| without(line, stage)).collect();
    if lines.is_empty() {
        // Without an order all stages stand side by side.
        let others = stages(file).into_iter().filter(|other| other != stage).map(|other| part(&other)).collect();
        lines.push(Line { groups: vec![others], span: NOWHERE });
    }
    if !lines.iter_mut().any(|line| put(line, stage, at)) {
        return Err(EditError::NoStage(at.of.clone()));
    }
    write(file, &lines)
}

pub(super) fn rename(file: &mut DocumentMut, stage: &str, to: &str) -> Result<(), EditError> {
    let mut lines = read(file)?;
    if lines.iter().any(|line| names(line, stage)) {
        lines.iter_mut().for_each(|line| call(line, stage, to));
        write(file, &lines)?;
    }
    Ok(())
}

pub(super) fn drop(file: &mut DocumentMut, stage: &str) -> Result<(), EditError> {
    let lines = read(file)?;
    if !lines.iter().any(|line| names(line, stage)) {
        return Ok(());
    }
    let left: Vec<Line> = lines.into_iter().filter_map(|line| without(line, stage)).collect();
    write(file, &left)
}

fn part(stage: &str) -> Part {
    Part::Stage { name: stage.to_owned(), span: NOWHERE }
}

fn stages(file: &DocumentMut) -> Vec<String> {
    let jobs = file.get("job").and_then(Item::as_table_like);
    jobs.into_iter().flat_map(|jobs| jobs.iter().map(|(stage, _)| stage.to_owned())).collect()
}

/// The lines of `order` as they are written: one text, or a list of them.
pub(super) fn texts(file: &Table) -> Vec<&str> {
    match file.get("order") {
        None => Vec::new(),
        Some(item) if item.is_str() => item.as_str().into_iter().collect(),
        Some(item) => item.as_array().into_iter().flatten().filter_map(Value::as_str).collect(),
    }
}

fn read(file: &DocumentMut) -> Result<Vec<Line>, EditError> {
    texts(file.as_table()).into_iter().map(|text| parse(text).map_err(|mistake| EditError::Order(mistake.message))).collect()
}

/// Lines that are as before keep how they are written.
fn write(file: &mut DocumentMut, lines: &[Line]) -> Result<(), EditError> {
    if lines.is_empty() {
        file.remove("order");
        return Ok(());
    }
    let before = read(file)?;
    match file.get_mut("order") {
        Some(Item::Value(Value::Array(list))) => {
            while list.len() > lines.len() {
                let at = (0..list.len()).find(|at| lines.get(*at) != before.get(*at)).unwrap_or(list.len() - 1);
                list.remove(at);
            }
            for (at, line) in lines.iter().enumerate() {
                if list.get(at).and_then(Value::as_str).and_then(|text| parse(text).ok()).as_ref().map(written) != Some(written(line))
                    && let Some(value) = list.get_mut(at)
                {
                    replace(value, &written(line));
                }
            }
        }
        Some(Item::Value(value)) => replace(value, &written(&lines[0])),
        _ => {
            file.insert("order", Item::Value(Value::from(written(&lines[0]))));
        }
    }
    Ok(())
}

fn replace(value: &mut Value, text: &str) {
    let decor = value.decor().clone();
    *value = Value::from(text);
    *value.decor_mut() = decor;
}

fn written(line: &Line) -> String {
    let part = |part: &Part| match part {
        Part::Stage { name, .. } => name.clone(),
        Part::Line(line) => format!("({})", written(line)),
    };
    let group = |group: &Vec<Part>| group.iter().map(part).collect::<Vec<_>>().join(", ");
    line.groups.iter().map(group).collect::<Vec<_>>().join(" > ")
}

fn names(line: &Line, stage: &str) -> bool {
    line.stages().iter().any(|(name, _)| *name == stage)
}

fn call(line: &mut Line, stage: &str, to: &str) {
    for part in line.groups.iter_mut().flatten() {
        match part {
            Part::Stage { name, .. } if name == stage => to.clone_into(name),
            Part::Stage { .. } => {}
            Part::Line(line) => call(line, stage, to),
        }
    }
}

/// None where nothing is left. Parentheses around what is alone go.
fn without(line: Line, stage: &str) -> Option<Line> {
    let keep = |part: Part| match part {
        Part::Stage { name, .. } if name == stage => None,
        Part::Line(line) => without(line, stage).map(|left| match alone(&left) {
            Some(part) => part,
            None => Part::Line(left),
        }),
        part @ Part::Stage { .. } => Some(part),
    };
    let groups: Vec<Vec<Part>> = line
        .groups
        .into_iter()
        .map(|group| group.into_iter().filter_map(keep).collect())
        .filter(|group: &Vec<Part>| !group.is_empty())
        .collect();
    (!groups.is_empty()).then_some(Line { groups, span: line.span })
}

fn alone(line: &Line) -> Option<Part> {
    match line.groups.as_slice() {
        [group] if group.len() == 1 => group.first().cloned(),
        _ => None,
    }
}

/// Puts a stage beside another one, wherever that stands; false where it does not.
fn put(line: &mut Line, stage: &str, at: &Place) -> bool {
    let is = |part: &Part| matches!(part, Part::Stage { name, .. } if *name == at.of);
    if let Some(found) = line.groups.iter().position(|group| group.iter().any(is)) {
        match at.side {
            Side::Before => line.groups.insert(found, vec![part(stage)]),
            Side::After => line.groups.insert(found + 1, vec![part(stage)]),
            Side::Beside => line.groups[found].push(part(stage)),
        }
        return true;
    }
    let inner = line.groups.iter_mut().flatten().filter_map(|part| match part {
        Part::Line(line) => Some(line),
        Part::Stage { .. } => None,
    });
    inner.into_iter().any(|line| put(line, stage, at))
}
