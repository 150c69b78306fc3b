//! How large a plan would become: patterns and matrices multiply what a small file says. Told before it is made.

use super::follow::Whole;
use super::resolve::File;
use crate::language::{Body, Code, Diagnostic, Env, Pipeline};

/// The most bytes of text a plan may hold.
const LIMIT: usize = 128 * 1024 * 1024;

fn env(env: &Env) -> usize {
    env.iter().map(|(name, value)| name.len() + value.value.parts.len() * 32 + (value.span.end - value.span.start)).sum()
}

fn body(body: &Body) -> usize {
    let steps =
        body.steps.iter().chain(&body.prepare).flatten().map(|step| step.run.len() + step.name.len() + env(&step.env) + 64).sum::<usize>();
    let takes = body.takes.iter().flatten().map(|take| take.span.end - take.span.start + 64).sum::<usize>();
    let gives = body
        .gives
        .iter()
        .flatten()
        .map(|give| give.artifact.len() + give.paths.iter().map(|path| path.span.end - path.span.start + 32).sum::<usize>())
        .sum::<usize>();
    let extras = body.extras.as_deref().map_or(0, |extras| {
        let after = extras.afterwards.values().flatten().map(|step| step.run.len() + step.name.len() + 64).sum::<usize>();
        after + extras.beside.iter().map(|helper| helper.run.len() + helper.name.len() + 64).sum::<usize>()
    });
    extras + steps + takes + gives + env(&body.env) + env(&body.given) + 64
}

/// Whether the jobs with their patterns, and what all share, can be held.
pub(super) fn bearable(pipeline: &Pipeline, jobs: &[Whole<'_>], diagnostics: &mut Vec<Diagnostic>) -> bool {
    let shared = env(&pipeline.env) + body(&pipeline.defaults);
    let total = jobs.iter().fold(0usize, |total, whole| total.saturating_add(shared + body(&whole.body)));
    told(total, 0..0, diagnostics)
}

/// The same with every cell written out.
pub(super) fn cells_bearable(file: &File<'_>, diagnostics: &mut Vec<Diagnostic>) -> bool {
    let shared = env(&file.pipeline.env) + body(&file.pipeline.defaults);
    let mut total = 0usize;
    let mut largest = (0, 0..0);
    for (whole, cells) in file.jobs.iter().zip(&file.cells) {
        let axes = cells.first().map_or(0, |cell| cell.len() * 48);
        let weight = (shared + body(&whole.body) + axes).saturating_mul(cells.len());
        total = total.saturating_add(weight);
        if weight > largest.0 {
            largest = (weight, whole.job.span.clone());
        }
    }
    told(total, largest.1, diagnostics)
}

fn told(total: usize, span: std::ops::Range<usize>, diagnostics: &mut Vec<Diagnostic>) -> bool {
    if total <= LIMIT {
        return true;
    }
    let message = format!("written out, the plan would hold {} MiB of text; at most {} are planned", total >> 20, LIMIT >> 20);
    diagnostics.push(Diagnostic::error(Code::Limit, span, message).hint("put long steps into a script of the repository"));
    false
}
