//! Logs: bytes from an offset, and for those who follow a call that is held until there are more.

use super::auth::Person;
use super::error::ApiError;
use super::runs::unknown_job;
use super::views::{find_run, plan_of, state_of};
use crate::app::App;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use std::time::Duration;
use tokio::time::Instant;
use utoipa::IntoParams;

const LIMIT: u64 = 4 * 1024 * 1024;
const LONGEST_WAIT_MS: u64 = 25_000;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Part {
    /// The newest when absent.
    attempt: Option<u32>,
    /// Where to begin, in bytes.
    offset: Option<u64>,
    /// Begin this many bytes before the end instead.
    tail: Option<u64>,
    /// How many bytes at most (4 MiB at most).
    limit: Option<u64>,
    /// Hold the call this long, at most 25 s, until there is something from `offset` or the log is complete.
    wait_ms: Option<u64>,
}

/// A job's log: its bytes, with headers `ordotaxis-attempt`, `ordotaxis-log-offset` (where these bytes begin),
/// `ordotaxis-log-length` (how many there are now) and `ordotaxis-log-open` (whether more may come).
#[utoipa::path(get, operation_id = "read_log", path = "/api/v1/runs/{project}/{number}/jobs/{job}/log", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), Part), responses((status = 200, description = "the bytes", content_type = "text/plain"), (status = 404, body = Problem)))]
pub(super) async fn read(
    State(app): State<App>,
    _: Person,
    Path((project, number, job)): Path<(String, i64, String)>,
    Query(part): Query<Part>,
) -> Result<(HeaderMap, Vec<u8>), ApiError> {
    let run = find_run(&app, &project, number).await?;
    let plan = plan_of(&app, run.id).await?.ok_or_else(|| ApiError::not_found("job", "the run could not be planned: it has no jobs"))?;
    let Some(at) = plan.jobs.iter().position(|planned| planned.id.as_str() == job) else {
        let known: Vec<String> = plan.jobs.iter().map(|job| job.id.to_string()).collect();
        return Err(unknown_job(&job, &known));
    };
    let until = Instant::now() + Duration::from_millis(part.wait_ms.unwrap_or(0).min(LONGEST_WAIT_MS));
    let mut grown = app.logs.grown();
    loop {
        grown.borrow_and_update();
        // Whether it is open is asked before the bytes are read: what came between is read in the next call.
        let (attempt, open) = attempt_state(&app, run.id, at, part.attempt).await?;
        let logs = app.logs.clone();
        let (offset, tail, limit) = (part.offset, part.tail, part.limit.unwrap_or(LIMIT).min(LIMIT));
        let (bytes, from, length) = tokio::task::spawn_blocking(move || {
            let from = match tail {
                Some(tail) => logs.read(run.id, at, attempt, 0, 0)?.1.saturating_sub(tail),
                None => offset.unwrap_or(0),
            };
            let (bytes, length) = logs.read(run.id, at, attempt, from, limit)?;
            Ok::<_, std::io::Error>((bytes, from, length))
        })
        .await
        .map_err(std::io::Error::other)??;
        if !bytes.is_empty() || !open || Instant::now() >= until {
            return Ok((headers(attempt, from, length, open || from + (bytes.len() as u64) < length), bytes));
        }
        tokio::select! {
            _ = grown.changed() => {}
            () = tokio::time::sleep_until(until) => {}
            () = app.stop.cancelled() => return Ok((headers(attempt, from, length, open), bytes)),
        }
    }
}

/// The attempt that is meant, and whether its log may still grow.
async fn attempt_state(app: &App, run: i64, job: usize, wanted: Option<u32>) -> Result<(u32, bool), ApiError> {
    let jobs = app.records.jobs(run).await?;
    let Some(row) = jobs.get(job) else { return Ok((wanted.unwrap_or(1), false)) };
    let newest = row.attempt;
    let attempt = wanted.unwrap_or(newest);
    let open = attempt >= newest && !state_of(&row.state).is_end();
    Ok((attempt.max(1), open))
}

fn headers(attempt: u32, offset: u64, length: u64, open: bool) -> HeaderMap {
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    for (name, value) in [("ordotaxis-attempt", u64::from(attempt)), ("ordotaxis-log-offset", offset), ("ordotaxis-log-length", length)] {
        headers.insert(HeaderName::from_static(name), HeaderValue::from(value));
    }
    headers.insert(HeaderName::from_static("ordotaxis-log-open"), HeaderValue::from_static(if open { "true" } else { "false" }));
    headers
}
