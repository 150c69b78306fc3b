//! The matrix: axes → cells, `except` taken out, `also` added, in the order they are written.

use super::follow::Whole;
use crate::dispatch::version_wanted;
use crate::language::{At, Cell, Code, Diagnostic, JOB_LIMIT, Matrix, Placed, nearest};
use crate::template::Slot;
use std::collections::HashSet;

/// The axis that a `split` makes.
const SHARE: &str = "share";

/// For each job its cells; a job without a matrix has one without values. Too many are an error and cut off.
pub(super) fn cells(jobs: &[Whole<'_>], diagnostics: &mut Vec<Diagnostic>) -> Vec<Vec<Cell>> {
    let mut left = JOB_LIMIT;
    let mut told = false;
    let mut all = Vec::with_capacity(jobs.len());
    for whole in jobs {
        let copies = whole.body.extras.as_ref().and_then(|extras| extras.split.as_ref()).map_or(1, |split| split.into as usize);
        let Some(matrix) = &whole.body.matrix else {
            left = left.saturating_sub(copies);
            all.push(shared_out(vec![Cell::new()], copies));
            continue;
        };
        check_values(whole, matrix, diagnostics);
        if let Some(values) = matrix.each.get(SHARE).filter(|_| copies > 1) {
            let span = values.first().map_or(matrix.span.clone(), |value| value.span.clone());
            let message = format!("job {} has an axis `{SHARE}` and a `split`, which makes one of that name", whole.job.id());
            diagnostics.push(Diagnostic::error(Code::Matrix, span, message).hint("call the axis otherwise"));
        }
        let wanted = matrix.each.values().map(Vec::len).fold(1usize, usize::saturating_mul).saturating_add(matrix.also.len());
        let wanted = wanted.saturating_mul(copies);
        if wanted > left {
            if !std::mem::replace(&mut told, true) {
                let message = format!("with the {wanted} cells of job {} the pipeline has more than {JOB_LIMIT} jobs", whole.job.id());
                diagnostics.push(
                    Diagnostic::error(Code::Limit, matrix.span.clone(), message).hint("take values out of an axis, or split the pipeline"),
                );
            }
            all.push(vec![Cell::new()]);
            continue;
        }
        let cells = shared_out(expand(whole, matrix, diagnostics), copies);
        left = left.saturating_sub(cells.len());
        all.push(cells);
    }
    all
}

/// Copies of a `split` are cells with one axis more: `1-of-3`.
fn shared_out(cells: Vec<Cell>, copies: usize) -> Vec<Cell> {
    if copies == 1 {
        return cells;
    }
    let copy = |cell: &Cell, number: usize| {
        let mut cell = cell.clone();
        cell.insert(SHARE.to_owned(), format!("{number}-of-{copies}"));
        cell
    };
    cells.iter().flat_map(|cell| (1..=copies).map(move |number| copy(cell, number))).collect()
}

fn expand(whole: &Whole<'_>, matrix: &Matrix, diagnostics: &mut Vec<Diagnostic>) -> Vec<Cell> {
    let id = whole.job.id();
    let mut cells: Vec<Cell> = vec![Cell::new()];
    for (axis, values) in &matrix.each {
        let with = |cell: &Cell, value: &At<String>| {
            let mut cell = cell.clone();
            cell.insert(axis.clone(), value.value.clone());
            cell
        };
        cells = cells.iter().flat_map(|cell| values.iter().map(move |value| with(cell, value))).collect();
    }
    if matrix.each.is_empty() {
        cells.clear();
    }
    for except in &matrix.except {
        check_axes(whole, matrix, except, diagnostics);
        let before = cells.len();
        cells.retain(|cell| !fits(cell, &except.value));
        let known = |(axis, value): (&String, &String)| {
            matrix.each.get(axis).is_some_and(|values| values.iter().any(|known| known.value == *value))
        };
        if cells.len() == before && except.value.iter().all(known) && except.value.keys().all(|axis| matrix.each.contains_key(axis)) {
            let message = format!("job {id} has no cell {} to take out", spoken(&except.value));
            diagnostics.push(Diagnostic::warning(Code::Matrix, except.span.clone(), message));
        }
    }
    let mut known: HashSet<Vec<String>> = cells.iter().map(|cell| cell.values().cloned().collect()).collect();
    for also in &matrix.also {
        check_axes(whole, matrix, also, diagnostics);
        let missing: Vec<&String> = matrix.each.keys().filter(|axis| !also.value.contains_key(*axis)).collect();
        if let Some(first) = missing.first() {
            let message = format!("this added cell of job {id} says nothing for axis `{first}`");
            diagnostics.push(Diagnostic::error(Code::Matrix, also.span.clone(), message).hint("an added cell has a value for every axis"));
            continue;
        }
        let ordered: Cell = match matrix.each.is_empty() {
            true => also.value.clone(),
            false => matrix.each.keys().filter_map(|axis| Some((axis.clone(), also.value.get(axis)?.clone()))).collect(),
        };
        if known.insert(ordered.values().cloned().collect()) {
            cells.push(ordered);
        } else {
            diagnostics.push(Diagnostic::warning(
                Code::Matrix,
                also.span.clone(),
                format!("job {id} has the cell {} already", spoken(&also.value)),
            ));
        }
    }
    if matrix.each.is_empty() && matrix.also.is_empty() {
        return vec![Cell::new()];
    }
    check_settings(whole, matrix, &cells, diagnostics);
    check_versions(whole, &cells, diagnostics);
    if cells.is_empty() {
        let message = format!("no cell of job {id} is left");
        diagnostics
            .push(Diagnostic::error(Code::Matrix, matrix.span.clone(), message).hint("give each axis a value, and take fewer cells out"));
        cells.push(Cell::new());
    }
    cells
}

/// True when a cell has all these values.
pub(super) fn fits(cell: &Cell, values: &Cell) -> bool {
    values.iter().all(|(axis, value)| cell.get(axis) == Some(value))
}

/// A cell as it is in an id: its values, joined by commas.
pub(super) fn label(cell: &Cell) -> String {
    cell.values().map(String::as_str).collect::<Vec<_>>().join(",")
}

fn spoken(cell: &Cell) -> String {
    format!("{{ {} }}", cell.iter().map(|(axis, value)| format!("{axis} = \"{value}\"")).collect::<Vec<_>>().join(", "))
}

/// A value becomes a part of the job's id and of a folder's name.
fn check_values(whole: &Whole<'_>, matrix: &Matrix, diagnostics: &mut Vec<Diagnostic>) {
    let id = whole.job.id();
    let added = matrix.also.iter().flat_map(|cell| cell.value.values().map(|value| (value.as_str(), cell.span.clone())));
    let own = matrix.each.values().flatten().map(|value| (value.value.as_str(), value.span.clone()));
    for (value, span) in own.chain(added) {
        let bad = value.is_empty()
            || value.len() > 64
            || value == "."
            || value == ".."
            || value.contains(|c: char| c.is_control() || "[],/\\".contains(c));
        if bad {
            let message = format!("`{value}` cannot be a value of job {id}'s matrix: it becomes part of the job's name");
            diagnostics.push(Diagnostic::error(Code::Matrix, span, message).hint("1 to 64 characters, without [ ] , / \\"));
        }
    }
    for (axis, values) in &matrix.each {
        let mut seen = HashSet::new();
        for value in values {
            if !seen.insert(value.value.as_str()) {
                let message = format!("axis `{axis}` has the value `{}` twice", value.value);
                diagnostics.push(Diagnostic::error(Code::Matrix, value.span.clone(), message));
            }
        }
    }
}

/// What is said for some cells must be said for one that there is.
fn check_settings(whole: &Whole<'_>, matrix: &Matrix, cells: &[Cell], diagnostics: &mut Vec<Diagnostic>) {
    let axes: Vec<&str> = cells.first().into_iter().flat_map(|cell| cell.keys()).map(String::as_str).collect();
    for settings in &whole.body.settings {
        let told = |message: String| Diagnostic::error(Code::Matrix, settings.span.clone(), message);
        if let Some(axis) = settings.of.keys().find(|axis| !axes.contains(&axis.as_str())) {
            diagnostics.push(told(format!("job {} has no axis `{axis}`", whole.job.id())).axes(axis, axes.iter().copied()));
        } else if !cells.iter().any(|cell| fits(cell, &settings.of)) {
            let told = told(format!("job {} has no cell {}", whole.job.id(), spoken(&settings.of)));
            let near = settings.of.iter().find_map(|(axis, value)| {
                let known = matrix.each.get(axis)?.iter().map(|value| value.value.as_str());
                nearest(value, known)
            });
            diagnostics.push(match near {
                Some(near) => told.hint(format!("did you mean `{near}`?")),
                None => told,
            });
        }
    }
}

/// Versions of tools that are made of a cell's values: each that is none, once.
fn check_versions(whole: &Whole<'_>, cells: &[Cell], diagnostics: &mut Vec<Diagnostic>) {
    let own = whole.body.extras.iter().flat_map(|extras| &extras.tools);
    let all = own.chain(whole.body.settings.iter().flat_map(|settings| &settings.tools));
    for (tool, Placed(wanted)) in all.filter(|(_, wanted)| wanted.0.value.plain().is_none()) {
        let of = |cell: &Cell| wanted.value.fill(|slot| if let Slot::Each(axis) = slot { cell.get(axis).cloned() } else { None }).plain();
        let wrong = cells.iter().find_map(|cell| Some((cell, of(cell).filter(|text| version_wanted(text).is_none())?)));
        if let Some((cell, text)) = wrong {
            let message = format!("`{text}`, as cell {} has it, says no version of {tool}", label(cell));
            let hint = "write \">=4\", \"12\", \"~3.11\", or \"*\" for any";
            diagnostics.push(Diagnostic::error(Code::BadValue, wanted.span.clone(), message).hint(hint));
        }
    }
}

fn check_axes(whole: &Whole<'_>, matrix: &Matrix, cell: &At<Cell>, diagnostics: &mut Vec<Diagnostic>) {
    for (axis, value) in cell.value.iter().filter(|_| !matrix.each.is_empty()) {
        match matrix.each.get(axis) {
            None => {
                let message = format!("job {} has no axis `{axis}`", whole.job.id());
                diagnostics
                    .push(Diagnostic::error(Code::Matrix, cell.span.clone(), message).axes(axis, matrix.each.keys().map(String::as_str)));
            }
            Some(values)
                if matrix.except.iter().any(|except| std::ptr::eq(except, cell)) && !values.iter().any(|known| known.value == *value) =>
            {
                let diagnostic = Diagnostic::warning(Code::Matrix, cell.span.clone(), format!("axis `{axis}` has no value `{value}`"));
                diagnostics.push(match nearest(value, values.iter().map(|value| value.value.as_str())) {
                    Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
                    None => diagnostic,
                });
            }
            Some(_) => {}
        }
    }
}
