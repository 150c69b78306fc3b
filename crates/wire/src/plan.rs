//! A plan and diagnostics as other programs read them.

use ordotaxis_core::engine::{Event, Run, State};
use ordotaxis_core::language::{Diagnostic, JobId, Lines, Severity};
use ordotaxis_core::plan::{Because, Occasion, Plan, PlannedBorrow, edges};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// What would run, why each job waits, and why some will not run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanView {
    pub pipeline: String,
    pub title: Option<String>,
    pub occasion: Occasion,
    /// Names, in the order of the file's `order`.
    pub stages: Vec<String>,
    pub jobs: Vec<PlannedJobView>,
    /// What patterns were borrowed from, each with the commit that it was resolved to.
    pub borrowed: Vec<PlannedBorrow>,
    pub diagnostics: Vec<DiagnosticView>,
}

/// A job of a plan: each cell of a matrix is one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlannedJobView {
    pub id: JobId,
    pub stage: String,
    pub name: String,
    /// Axis to value; empty for a job without a matrix.
    pub cell: BTreeMap<String, String>,
    pub waits_for: Vec<WaitView>,
    pub takes: Vec<String>,
    pub gives: Vec<String>,
    /// Why it will not run, or null.
    pub skipped: Option<String>,
    /// The environment that it puts something into, where that is known ahead.
    #[serde(default)]
    pub deploys: Option<String>,
}

/// A job that another waits for, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WaitView {
    pub job: JobId,
    pub because: Because,
    /// Other waits already say it.
    pub implied: bool,
}

/// A diagnostic with its place; lines and columns count from 1, columns in Unicode characters.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnosticView {
    pub code: String,
    pub severity: Severity,
    pub message: String,
    pub hint: Option<String>,
    pub file: String,
    pub line: usize,
    pub column: usize,
    pub end_line: usize,
    pub end_column: usize,
    /// In Unicode characters.
    pub length: usize,
    pub related: Vec<RelatedView>,
}

/// A further place that belongs to a diagnostic: one edge of a circle, say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RelatedView {
    pub message: String,
    pub line: usize,
    pub column: usize,
}

impl PlanView {
    /// The view of a plan; diagnostics are left empty for the caller to add.
    pub fn new(plan: &Plan) -> PlanView {
        let skips = foreseen_skips(plan);
        let jobs = plan.jobs.iter().enumerate().zip(edges(plan)).zip(skips).map(|(((at, job), edges), skipped)| PlannedJobView {
            deploys: plan.environment(at),
            id: job.id.clone(),
            stage: plan.stages[job.stage].name.clone(),
            name: job.name.clone(),
            cell: job.cell.iter().map(|(axis, value)| (axis.clone(), value.clone())).collect(),
            waits_for: edges
                .into_iter()
                .map(|edge| WaitView { job: plan.jobs[edge.job].id.clone(), because: edge.because, implied: edge.implied })
                .collect(),
            takes: job
                .takes
                .iter()
                .flat_map(|take| (take.job..take.job + take.cells).map(|from| format!("{}/{}", plan.jobs[from].id, take.artifact)))
                .collect(),
            gives: job.gives.iter().map(|give| give.artifact.clone()).collect(),
            skipped,
        });
        PlanView {
            pipeline: plan.pipeline.clone(),
            title: plan.title.clone(),
            occasion: plan.occasion.clone(),
            stages: plan.stages.iter().map(|stage| stage.name.clone()).collect(),
            jobs: jobs.collect(),
            borrowed: plan.borrowed.clone(),
            diagnostics: Vec::new(),
        }
    }
}

/// For each job why it will not run, as far as that is known before anything has: by its own condition, or because of
/// others that will not. What the engine does at a run's begin, so that a plan never says otherwise.
pub fn foreseen_skips(plan: &Plan) -> Vec<Option<String>> {
    if plan.jobs.iter().all(|job| job.skipped.is_none()) {
        return vec![None; plan.jobs.len()];
    }
    let mut run = Run::new(Arc::new(plan.clone()), 0);
    let _ = run.apply(&Event::Begun, 0);
    run.jobs().iter().map(|job| if job.state() == State::Skipped { job.why().map(Into::into) } else { None }).collect()
}

/// Diagnostics of a file with their places.
pub fn diagnostic_views(file: &str, text: &str, diagnostics: &[Diagnostic]) -> Vec<DiagnosticView> {
    let lines = Lines::new(text);
    let view = |d: &Diagnostic| {
        let ((line, column), (end_line, end_column)) = (lines.position(d.span.start), lines.position(d.span.end));
        let related = d.related.iter().map(|(span, message)| {
            let (line, column) = lines.position(span.start);
            RelatedView { message: message.clone(), line, column }
        });
        DiagnosticView {
            code: d.code.word().to_owned(),
            severity: d.severity,
            message: d.message.clone(),
            hint: d.hint.clone(),
            file: file.to_owned(),
            line,
            column,
            end_line,
            end_column,
            length: text.get(d.span.clone()).map_or(0, |part| part.chars().count()),
            related: related.collect(),
        }
    };
    diagnostics.iter().map(view).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::plan::check;

    #[test]
    fn places_count_characters() {
        let text = "language = 1\ntitle = \"Høyvann\"\n[job.a.b]\nsteps = [\"x\"]\n# æøå\nstpes = 1\n";
        let views = diagnostic_views("ordotaxis.toml", text, &check(text));
        assert_eq!(views.len(), 1);
        let one = &views[0];
        assert_eq!((one.line, one.column, one.end_line, one.end_column, one.length), (6, 1, 6, 6, 5));
        assert_eq!((one.code.as_str(), one.file.as_str()), ("unknown-key", "ordotaxis.toml"));
    }
}
