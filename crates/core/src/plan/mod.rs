//! A pipeline and an occasion make a [`Plan`]: what will run, what waits for what, and why.
//!
//! [`resolve`](resolve::resolve) turns names into numbers and finds what does not fit together; [`plan`] makes the value
//! that is written down with the run and that [`crate::engine`] walks; [`edges`] spells the waits out job by job.

mod dot;
mod edges;
mod occasion;
mod resolve;
mod value;

pub use dot::dot;
pub use edges::{Because, Edge, edges};
pub use occasion::{Event, Occasion, starts};
pub use value::{Plan, PlannedJob, PlannedStage, PlannedTake, Wait, WaitOn};

use crate::language::{self, Diagnostic, Pipeline, has_errors};

/// Every mistake that can be found without an occasion, in the order of the file.
pub fn check(text: &str) -> Vec<Diagnostic> {
    match prepare(text) {
        Ok((_, _, diagnostics)) | Err(diagnostics) => diagnostics,
    }
}

/// Plans the pipeline in `text`. `name` is the pipeline's name (the file's stem). Errors are all that `check` finds.
pub fn plan(text: &str, name: &str, occasion: &Occasion) -> Result<Plan, Vec<Diagnostic>> {
    let (pipeline, graph, _) = prepare(text)?;
    Ok(value::build(&pipeline, &graph, name, occasion))
}

/// Reads the start rules alone: what makes the pipeline in `text` begin. None when the file has mistakes.
pub fn start_rules(text: &str) -> Option<language::Starts> {
    prepare(text).ok().map(|(pipeline, ..)| pipeline.starts)
}

fn prepare(text: &str) -> Result<(Pipeline, resolve::Graph, Vec<Diagnostic>), Vec<Diagnostic>> {
    let (pipeline, mut diagnostics) = language::read(text);
    let graph = resolve::resolve(&pipeline, &mut diagnostics);
    diagnostics.sort_by_key(|diagnostic| (diagnostic.span.start, diagnostic.span.end));
    match graph {
        Some(graph) if !has_errors(&diagnostics) => Ok((pipeline, graph, diagnostics)),
        _ => Err(diagnostics),
    }
}
