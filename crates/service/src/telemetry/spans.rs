//! A run as a trace: the run, its jobs, their attempts, and the phases of each are spans. Built from what is stored once the run has
//! ended. Names of attributes are those of the semantic conventions of OpenTelemetry for CI/CD where they have one.

use super::otlp::{nanos, number, text};
use crate::traced::TraceMark;
use opentelemetry_proto::tonic::common::v1::KeyValue;
use opentelemetry_proto::tonic::trace::v1::{Span, Status, span::SpanKind, status::StatusCode};
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::Plan;
use ordotaxis_store::{AttemptRow, JobRow, RunRow};
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Parent};
use std::collections::HashMap;

/// What is stored of a run that has ended.
pub(super) struct Stored<'a> {
    pub(super) row: &'a RunRow,
    pub(super) plan: Option<&'a Plan>,
    pub(super) jobs: &'a [JobRow],
    pub(super) attempts: &'a [AttemptRow],
    pub(super) url: &'a str,
}

/// One span before its ids are written out.
struct Part {
    own: u64,
    parent: Option<u64>,
    name: String,
    from: i64,
    to: i64,
    state: State,
    why: Option<String>,
    attributes: Vec<KeyValue>,
}

/// All spans of a run, the run's own first.
pub(super) fn spans(mark: &TraceMark, of: &Stored<'_>) -> Vec<Span> {
    let run = of.row.id;
    let trace = mark.trace(run).to_vec();
    let mut by_job: HashMap<i64, Vec<&AttemptRow>> = HashMap::new();
    for attempt in of.attempts.iter().filter(|attempt| attempt.ended_at.is_some()) {
        by_job.entry(attempt.job).or_default().push(attempt);
    }
    let mut parts = vec![of_run(mark, of)];
    for job in of.jobs {
        let attempts = by_job.remove(&job.number).unwrap_or_default();
        parts.extend(of_job(mark, of, job, &attempts));
    }
    parts.into_iter().map(|part| part.span(&trace)).collect()
}

fn of_run(mark: &TraceMark, of: &Stored<'_>) -> Part {
    let (row, state) = (of.row, state(&of.row.state));
    let name = format!("{}/{}", row.project, row.number);
    let mut attributes = vec![
        text("cicd.pipeline.name", &*row.pipeline),
        text("cicd.pipeline.run.id", &*name),
        text("cicd.pipeline.run.url.full", format!("{}/runs/{name}", of.url)),
        text("cicd.pipeline.result", result(state)),
        text("vcs.ref.head.revision", &*row.commit_id),
        text("ordotaxis.project", &*row.project),
        text("ordotaxis.state", state.word()),
        text("ordotaxis.event", &*row.event),
    ];
    attributes.extend(row.branch.as_ref().map(|branch| text("vcs.ref.head.name", &**branch)));
    Part {
        own: mark.run(row.id),
        parent: None,
        name: format!("run {}", row.pipeline),
        from: row.started_at.unwrap_or(row.created_at),
        to: row.ended_at.unwrap_or(row.created_at),
        state,
        why: row.why.clone(),
        attributes,
    }
}

/// A job from when it first queued, its attempts and their phases. One that was never tried is a moment.
fn of_job(mark: &TraceMark, of: &Stored<'_>, job: &JobRow, attempts: &[&AttemptRow]) -> Vec<Part> {
    let Ok(at) = usize::try_from(job.number) else { return Vec::new() };
    let planned = of.plan.and_then(|plan| plan.jobs.get(at)).map(|job| job.id.to_string());
    let Some(name) = planned.or_else(|| attempts.first()?.job_id.clone()) else { return Vec::new() };
    let begun = attempts.iter().map(|attempt| attempt.queued_at.unwrap_or(attempt.started_at)).min();
    let ended = attempts.iter().filter_map(|attempt| attempt.ended_at).max();
    let Some(to) = ended.or(job.ended_at) else { return Vec::new() };
    let state = state(&job.state);
    let own = mark.job(of.row.id, at);
    let attributes = vec![
        text("cicd.pipeline.task.name", &*name),
        text("cicd.pipeline.task.run.id", format!("{}/{} {name}", of.row.project, of.row.number)),
        text("cicd.pipeline.task.run.result", result(state)),
        text("ordotaxis.state", state.word()),
    ];
    let from = begun.unwrap_or(to);
    let mut parts =
        vec![Part { own, parent: Some(mark.run(of.row.id)), name: name.clone(), from, to, state, why: job.why.clone(), attributes }];
    for attempt in attempts {
        parts.extend(of_attempt(mark, attempt, at, own, &name));
    }
    parts
}

fn of_attempt(mark: &TraceMark, attempt: &AttemptRow, job: usize, parent: u64, name: &str) -> Vec<Part> {
    let id = mark.parent(AttemptId { run: attempt.run_id, job, attempt: attempt.number });
    let mut attributes = vec![
        text("cicd.worker.name", &*attempt.runner),
        text("cicd.pipeline.task.run.result", result(state(&attempt.state))),
        number("ordotaxis.attempt", attempt.number.into()),
    ];
    let waited = attempt.queued_at.map(|queued| number("ordotaxis.queued_ms", (attempt.started_at - queued).max(0)));
    attributes.extend(waited);
    attributes.extend(attempt.exit_code.map(|code| number("process.exit.code", code.into())));
    let to = attempt.ended_at.unwrap_or(attempt.started_at);
    let mut parts = vec![Part {
        own: id.span,
        parent: Some(parent),
        name: format!("attempt {} at {name}", attempt.number),
        from: attempt.started_at,
        to,
        state: state(&attempt.state),
        why: attempt.why.clone(),
        attributes,
    }];
    let phases: Vec<PhaseView> = serde_json::from_str(&attempt.phases).unwrap_or_default();
    parts.extend(phases.iter().enumerate().filter_map(|(number, phase)| of_phase(id, number, phase, to)));
    parts
}

/// A phase that had not ended when its attempt did ended with it.
fn of_phase(attempt: Parent, number_of: usize, phase: &PhaseView, attempt_ended: i64) -> Option<Part> {
    let own = attempt.of_phase(number_of)?.span;
    let from = phase.started_at.as_millisecond();
    let kind = serde_json::to_value(phase.kind).ok();
    let mut attributes = vec![text("ordotaxis.phase", kind.as_ref().and_then(|kind| kind.as_str()).unwrap_or_default())];
    attributes.extend(phase.exit_code.map(|code| number("process.exit.code", code.into())));
    Some(Part {
        own,
        parent: Some(attempt.span),
        name: phase.name.clone(),
        from,
        to: phase.duration_ms.map_or(attempt_ended, |took| from + took),
        state: if phase.failed { State::Failed } else { State::Passed },
        why: None,
        attributes,
    })
}

impl Part {
    fn span(self, trace: &[u8]) -> Span {
        let bad = matches!(self.state, State::Failed | State::Lost);
        let status = bad.then(|| Status { message: self.why.unwrap_or_default(), code: StatusCode::Error.into() });
        Span {
            trace_id: trace.to_vec(),
            span_id: self.own.to_be_bytes().to_vec(),
            parent_span_id: self.parent.map(|parent| parent.to_be_bytes().to_vec()).unwrap_or_default(),
            name: self.name,
            kind: SpanKind::Internal.into(),
            start_time_unix_nano: nanos(self.from),
            // A clock that was set back makes no span that ends before it began.
            end_time_unix_nano: nanos(self.to.max(self.from)),
            attributes: self.attributes,
            status,
            ..Span::default()
        }
    }
}

fn state(word: &str) -> State {
    State::from_word(word).unwrap_or(State::Lost)
}

/// A state in the words of the conventions.
fn result(state: State) -> &'static str {
    match state {
        State::Passed | State::Reused => "success",
        State::Failed => "failure",
        State::Skipped => "skip",
        State::Stopped | State::Overtaken | State::Refused => "cancellation",
        _ => "error",
    }
}
