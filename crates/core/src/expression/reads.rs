//! What an expression reads and calls, found by a walk over its tree; each with its place in the source.

use crate::language::Span;
use cel::common::ast::{EntryExpr, Expr, IdedExpr, LiteralValue, SourceInfo, operators};
use std::collections::BTreeSet;
use std::fmt;

/// One value: `ref.branch`, `fact.build.gauge.size`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Read {
    pub path: Vec<String>,
    pub span: Span,
}

impl Read {
    /// The first name of the path, such as `ref` in `ref.branch`.
    pub fn root(&self) -> &str {
        &self.path[0]
    }
}

impl fmt::Display for Read {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.path.join("."))
    }
}

/// What an expression reads, calls and compares, without evaluating it.
#[derive(Default)]
pub(super) struct Found {
    pub(super) reads: Vec<Read>,
    pub(super) touched: Vec<String>,
    pub(super) calls: Vec<(String, Span)>,
    pub(super) literals: Vec<String>,
    pub(super) loops_in_loops: bool,
    /// Names that loops bind; they are not read from outside.
    bound: BTreeSet<String>,
    depth: usize,
}

/// Adds what an expression and all its parts read.
pub(super) fn walk(expression: &IdedExpr, places: &SourceInfo, source: &str, found: &mut Found) {
    if let Some(path) = path(expression) {
        return read(path, expression, places, source, found);
    }
    let mut go = |expression: &IdedExpr| walk(expression, places, source, found);
    match &expression.expr {
        Expr::Call(call) => {
            call.target.iter().for_each(|target| go(target));
            call.args.iter().for_each(&mut go);
            let span = span(expression, places, source);
            if call.func_name == "touches"
                && let [argument] = call.args.as_slice()
                && let Some(glob) = literal(argument)
            {
                found.touched.push(glob);
            }
            found.calls.push((call.func_name.clone(), span));
        }
        Expr::Select(select) => go(&select.operand),
        Expr::List(list) => list.elements.iter().for_each(go),
        Expr::Map(map) => map.entries.iter().for_each(|entry| entry_parts(&entry.expr, &mut go)),
        Expr::Struct(made) => {
            made.entries.iter().for_each(|entry| entry_parts(&entry.expr, &mut go));
            found.calls.push((made.type_name.clone(), span(expression, places, source)));
        }
        Expr::Comprehension(comprehension) => {
            go(&comprehension.iter_range);
            found.loops_in_loops |= found.depth > 0;
            found.depth += 1;
            let names = [Some(&comprehension.iter_var), comprehension.iter_var2.as_ref(), Some(&comprehension.accu_var)];
            let added: Vec<String> = names.into_iter().flatten().filter(|name| found.bound.insert((*name).clone())).cloned().collect();
            for part in [&comprehension.accu_init, &comprehension.loop_cond, &comprehension.loop_step, &comprehension.result] {
                walk(part, places, source, found);
            }
            added.iter().for_each(|name| {
                found.bound.remove(name);
            });
            found.depth -= 1;
        }
        Expr::Literal(LiteralValue::String(text)) => found.literals.push(text.inner().to_owned()),
        Expr::Literal(_) | Expr::Ident(_) | Expr::Unspecified => {}
    }
}

fn entry_parts(entry: &EntryExpr, go: &mut impl FnMut(&IdedExpr)) {
    match entry {
        EntryExpr::StructField(field) => go(&field.value),
        EntryExpr::MapEntry(entry) => {
            go(&entry.key);
            go(&entry.value);
        }
    }
}

/// Notes one name that is read, unless a loop binds it.
fn read(path: Vec<String>, expression: &IdedExpr, places: &SourceInfo, source: &str, found: &mut Found) {
    if found.bound.contains(&path[0]) || path[0].starts_with('@') || found.reads.iter().any(|read| read.path == path) {
        return;
    }
    // A selection's own place is its dot; the name begins where its root does.
    let mut root = expression;
    loop {
        root = match &root.expr {
            Expr::Select(select) => &select.operand,
            Expr::Call(call) if !call.args.is_empty() => &call.args[0],
            _ => break,
        };
    }
    let start = span(root, places, source).start;
    let written = path.join(".");
    let fits = source.get(start..).is_some_and(|rest| rest.starts_with(&written));
    let end = if fits { start + written.len() } else { span(expression, places, source).end.max(start) };
    found.reads.push(Read { path, span: start..end });
}

/// `a.b["c"]` as its parts; None for anything that is not a name.
fn path(expression: &IdedExpr) -> Option<Vec<String>> {
    match &expression.expr {
        Expr::Ident(name) => Some(vec![name.clone()]),
        Expr::Select(select) => {
            let mut parts = path(&select.operand)?;
            parts.push(select.field.clone());
            Some(parts)
        }
        Expr::Call(call) if call.func_name == operators::INDEX && call.args.len() == 2 => {
            let mut parts = path(&call.args[0])?;
            parts.push(literal(&call.args[1])?);
            Some(parts)
        }
        _ => None,
    }
}

fn literal(expression: &IdedExpr) -> Option<String> {
    match &expression.expr {
        Expr::Literal(LiteralValue::String(text)) => Some(text.inner().to_owned()),
        _ => None,
    }
}

/// The parser counts characters; everything else here counts bytes.
fn span(expression: &IdedExpr, places: &SourceInfo, source: &str) -> Span {
    let bytes = |characters: u32| {
        let count = usize::try_from(characters).unwrap_or(0);
        source.char_indices().nth(count).map_or(source.len(), |(at, _)| at)
    };
    places.offset_for(expression.id).map_or(0..source.len(), |(start, stop)| bytes(start)..bytes(stop + 1).max(bytes(start)))
}
