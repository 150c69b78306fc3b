//! A plan in the DOT language, for any program that draws graphs from it. Implied edges are left out.
//! Source of the format: the DOT grammar; strings quote `"` and `\`.

use super::edges::{Because, edges};
use super::value::Plan;
use std::fmt::Write;

/// The plan as a graph in the DOT language (graphviz.org/doc/info/lang.html).
///
/// ```
/// use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, dot, plan};
/// let text = "language = 1
/// [job.a.x]
/// steps = ['true']
/// [job.b.y]
/// steps = ['true']
/// after = ['a.x']
/// ";
/// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
/// let drawn = dot(&plan(source, &Occasion::push("main")).expect("a plan").plan);
/// assert!(drawn.starts_with("digraph pipeline {") && drawn.contains("->"));
/// ```
pub fn dot(plan: &Plan) -> String {
    let mut out = String::from("digraph pipeline {\n  rankdir = LR;\n  node [shape = box, fontname = \"sans-serif\"];\n");
    for (number, stage) in plan.stages.iter().enumerate() {
        let _ = writeln!(out, "  subgraph cluster_{number} {{\n    label = {};", quoted(&stage.name));
        for job in plan.jobs.iter().filter(|job| job.stage == number) {
            let _ = writeln!(
                out,
                "    {} [label = {}];",
                quoted(job.id.as_str()),
                quoted(job.id.as_str().split_once('.').map_or(job.id.as_str(), |(_, name)| name))
            );
        }
        out.push_str("  }\n");
    }
    for (job, edges) in plan.jobs.iter().zip(edges(plan)) {
        for edge in edges.iter().filter(|edge| !edge.implied) {
            let style = match edge.because {
                Because::Takes => "style = solid",
                Because::After => "style = dashed",
                Because::AtOnce | Because::Rollout => "style = dashed, color = gray",
                Because::Order => "style = dotted",
            };
            let from = quoted(plan.jobs[edge.job].id.as_str());
            let _ = writeln!(out, "  {from} -> {} [{style}];", quoted(job.id.as_str()));
        }
    }
    out.push_str("}\n");
    out
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
