//! How lines are written: as OTLP log records, or a line of JSON each.

use super::gather::Part;
use crate::collector::Form;
use crate::telemetry::otlp;
use crate::traced::TraceMark;
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, any_value::Value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs, SeverityNumber};
use ordotaxis_wire::moment;
use ordotaxis_wire::runner::AttemptId;
use prost::Message;
use serde_json::json;

/// What a body needs beside the lines.
pub(super) struct About<'a> {
    pub(super) url: &'a str,
    pub(super) traces: Option<&'a TraceMark>,
    pub(super) now: i64,
}

/// The media type, and all parts as one body.
pub(super) fn body(form: Form, parts: &[Part], about: &About<'_>) -> (&'static str, Vec<u8>) {
    match form {
        Form::Otlp => (otlp::FORM, otlp_body(parts, about)),
        Form::Lines => ("application/x-ndjson", lines_body(parts)),
    }
}

/// Run, job and attempt, as people write them.
fn run(part: &Part) -> String {
    format!("{}/{}", part.row.project, part.row.number)
}

fn otlp_body(parts: &[Part], about: &About<'_>) -> Vec<u8> {
    let resource_logs = parts.iter().map(|part| resource_logs(part, about)).collect();
    ExportLogsServiceRequest { resource_logs }.encode_to_vec()
}

fn resource_logs(part: &Part, about: &About<'_>) -> ResourceLogs {
    let row = &part.row;
    let of = [
        otlp::text("ordotaxis.project", &*row.project),
        otlp::text("cicd.pipeline.name", &*row.pipeline),
        otlp::text("cicd.pipeline.run.id", run(part)),
        otlp::text("cicd.pipeline.task.name", row.job_id.as_deref().unwrap_or_default()),
        otlp::text("cicd.worker.name", &*row.runner),
        otlp::number("ordotaxis.attempt", row.attempt.into()),
    ];
    let job = usize::try_from(row.job).unwrap_or(usize::MAX);
    let parent = about.traces.map(|mark| mark.parent(AttemptId { run: row.run_id, job, attempt: row.attempt }));
    let record = |(at, (time, text)): (i64, &(i64, String))| LogRecord {
        time_unix_nano: otlp::nanos(*time),
        observed_time_unix_nano: otlp::nanos(about.now),
        severity_number: SeverityNumber::Unspecified.into(),
        body: Some(AnyValue { value: Some(Value::StringValue(text.clone())) }),
        // With the attempt, it names the line: one that comes twice is known by it.
        attributes: vec![otlp::number("ordotaxis.line", row.lines + at + 1)],
        trace_id: parent.map(|parent| parent.trace.to_vec()).unwrap_or_default(),
        span_id: parent.map(|parent| parent.span.to_be_bytes().to_vec()).unwrap_or_default(),
        ..LogRecord::default()
    };
    let log_records = (0..).zip(&part.lines).map(record).collect();
    let scoped = ScopeLogs { scope: Some(otlp::scope()), log_records, ..ScopeLogs::default() };
    ResourceLogs { resource: Some(otlp::resource(about.url, of.to_vec())), scope_logs: vec![scoped], ..ResourceLogs::default() }
}

fn lines_body(parts: &[Part]) -> Vec<u8> {
    let mut body = Vec::new();
    for part in parts {
        let row = &part.row;
        for (at, (time, text)) in (0..).zip(&part.lines) {
            let line = json!({
                "at": moment(*time), "project": row.project, "run": run(part), "pipeline": row.pipeline, "job": row.job_id,
                "attempt": row.attempt, "runner": row.runner, "line": row.lines + at + 1, "text": text,
            });
            body.extend_from_slice(line.to_string().as_bytes());
            body.push(b'\n');
        }
    }
    body
}
