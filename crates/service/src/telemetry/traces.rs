//! The work after a run that has ended: its trace is sent to the collector, in parts. Sent once more it has the same ids.

use super::otlp::{FORM, resource, scope};
use super::spans::{Stored, spans};
use crate::app::App;
use crate::collector::{NotSent, Traces};
use crate::traced::TraceMark;
use crate::work::Outcome;
use opentelemetry_proto::tonic::collector::trace::v1::{ExportTraceServiceRequest, ExportTraceServiceResponse};
use opentelemetry_proto::tonic::trace::v1::{ResourceSpans, ScopeSpans, Span};
use ordotaxis_store::{DueWork, NewWork, RunEvent, StoreError, WorkKind};
use prost::Message;
use serde::{Deserialize, Serialize};

/// So many spans are sent at once.
const AT_ONCE: usize = 1_000;
/// After so many tries, about half a day, a trace is given up.
const TRIES: u32 = 150;

/// The body of its work, version 1.
#[derive(Debug, Serialize, Deserialize)]
struct Ended {
    run: i64,
}

/// A run has ended, and traces are wanted.
pub(crate) async fn follows(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.ended_at.is_none() || app.traces.is_none() {
        return Ok(Vec::new());
    }
    let body = serde_json::to_string(&Ended { run }).unwrap_or_default();
    Ok(vec![NewWork { kind: WorkKind::Spans, project_id: event.project_id, lane: run.to_string(), once: None, body }])
}

/// Sends a run's trace.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Ok(Ended { run }) = serde_json::from_str::<Ended>(&due.body) else {
        return Ok(Outcome::Hopeless("the work cannot be read".into()));
    };
    let (Some(traces), Some(mark)) = (&app.settings.traces, &app.traces) else {
        return Ok(Outcome::Done(Some("traces are not wanted any more".into())));
    };
    let all = of_run(app, mark, run).await?;
    let mut parts: Vec<Vec<Span>> = all.chunks(AT_ONCE).rev().map(<[Span]>::to_vec).collect();
    while let Some(part) = parts.pop() {
        match send(app, traces, &part).await {
            Ok(()) => {}
            Err(NotSent::TooLarge) if part.len() > 1 => {
                let (first, rest) = part.split_at(part.len() / 2);
                parts.extend([rest.to_vec(), first.to_vec()]);
            }
            Err(NotSent::TooLarge) => return Ok(Outcome::Hopeless("one span is too large for the collector".into())),
            Err(NotSent::Passing { why, after }) => return Ok(Outcome::Failed { why, tries: TRIES, after }),
            Err(NotSent::Final(why)) => return Ok(Outcome::Hopeless(why)),
        }
    }
    Ok(Outcome::Done(Some(format!("{} spans", all.len()))))
}

/// None where the run is gone by now.
async fn of_run(app: &App, mark: &TraceMark, run: i64) -> Result<Vec<Span>, StoreError> {
    let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { return Ok(Vec::new()) };
    let plan = app.plan_of(run).await?;
    let (jobs, attempts) = (app.records.jobs(run).await?, app.records.attempts(run).await?);
    Ok(spans(mark, &Stored { row: &row, plan: plan.as_deref(), jobs: &jobs, attempts: &attempts, url: &app.public_url }))
}

async fn send(app: &App, traces: &Traces, spans: &[Span]) -> Result<(), NotSent> {
    let scoped = ScopeSpans { scope: Some(scope()), spans: spans.to_vec(), ..ScopeSpans::default() };
    let of = ResourceSpans { resource: Some(resource(&app.public_url, Vec::new())), scope_spans: vec![scoped], ..ResourceSpans::default() };
    let body = ExportTraceServiceRequest { resource_spans: vec![of] }.encode_to_vec();
    let answer = traces.to.send(&app.http, FORM, body).await?;
    let partly = ExportTraceServiceResponse::decode(&*answer).ok().and_then(|answer| answer.partial_success);
    if let Some(partly) = partly.filter(|partly| partly.rejected_spans > 0) {
        tracing::warn!(refused = partly.rejected_spans, why = partly.error_message, "the collector did not take all spans of a run");
    }
    Ok(())
}
