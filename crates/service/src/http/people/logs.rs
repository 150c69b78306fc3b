//! Logs: bytes from an offset, lines by number, lines by what is in them; and for those who follow, calls that are
//! held until there is more.

use super::runs::unknown_job;
use super::views::{find_run, state_of};
use crate::app::App;
use crate::clock;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use ordotaxis_store::{Found, Lines, LogId};
use ordotaxis_wire::log::{FoundView, LinesView, SearchView};
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
    /// The log of this helper in place of the job's own.
    beside: Option<String>,
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
#[utoipa::path(get, operation_id = "read_log", path = "/api/v1/runs/{project}/{number}/jobs/{job}/log", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), Part), responses((status = 200, description = "the bytes", content_type = "text/plain"), (status = 404, body = Problem), (status = 410, body = Problem)))]
pub(crate) async fn read(
    State(app): State<App>,
    Path((project, number, job)): Path<(String, i64, String)>,
    Query(part): Query<Part>,
) -> Result<(HeaderMap, Vec<u8>), ApiError> {
    let (run, at) = find_job(&app, &project, number, &job).await?;
    let until = Instant::now() + Duration::from_millis(part.wait_ms.unwrap_or(0).min(LONGEST_WAIT_MS));
    let mut grown = app.logs.grown();
    loop {
        grown.borrow_and_update();
        // Whether it is open is asked before the bytes are read: what came between is read in the next call.
        let (attempt, open) = attempt_state(&app, run, at, part.attempt).await?;
        let (logs, id) = (app.logs.clone(), log_id(run, at, attempt, part.beside.as_deref())?);
        let (offset, tail, limit) = (part.offset, part.tail, part.limit.unwrap_or(LIMIT).min(LIMIT));
        let (bytes, from, length) = tokio::task::spawn_blocking(move || {
            let from = match tail {
                Some(tail) => logs.read(&id, 0, 0)?.1.saturating_sub(tail),
                None => offset.unwrap_or(0),
            };
            let (bytes, length) = logs.read(&id, from, limit)?;
            Ok::<_, std::io::Error>((bytes, from, length))
        })
        .await
        .map_err(std::io::Error::other)??;
        there(&app, run, at, attempt, open || length > 0).await?;
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

/// A run's id and a job's place in it.
pub(super) async fn find_job(app: &App, project: &str, number: i64, job: &str) -> Result<(i64, usize), ApiError> {
    let run = find_run(app, project, number).await?;
    let plan = app.plan_of(run.id).await?.ok_or_else(|| ApiError::not_found("job", "the run could not be planned: it has no jobs"))?;
    match plan.jobs.iter().position(|planned| planned.id.as_str() == job) {
        Some(at) => Ok((run.id, at)),
        None => {
            let known: Vec<String> = plan.jobs.iter().map(|job| job.id.to_string()).collect();
            Err(unknown_job(job, &known))
        }
    }
}

/// The log of an attempt, or of one of its helpers.
fn log_id(run: i64, job: usize, attempt: u32, beside: Option<&str>) -> Result<LogId, ApiError> {
    let id = LogId::new(run, job, attempt);
    match beside {
        None => Ok(id),
        Some(name) => id.beside(name).ok_or_else(|| ApiError::not_found("log", format!("no helper is called {name}"))),
    }
}

/// The attempt that is meant, and whether its log may still grow.
async fn attempt_state(app: &App, run: i64, job: usize, wanted: Option<u32>) -> Result<(u32, bool), ApiError> {
    let number = i64::try_from(job).unwrap_or(i64::MAX);
    let Some((newest, state)) = app.records.job_state(run, number).await? else { return Ok((wanted.unwrap_or(1), false)) };
    let attempt = wanted.unwrap_or(newest);
    let open = attempt >= newest && !state_of(&state).is_end();
    Ok((attempt.max(1), open))
}

/// A log of which nothing is there may have been dropped: that is another answer than nothing printed.
async fn there(app: &App, run: i64, job: usize, attempt: u32, found: bool) -> Result<(), ApiError> {
    if found {
        return Ok(());
    }
    let Some(at) = app.records.log_dropped(run, i64::try_from(job).unwrap_or(i64::MAX), attempt).await? else { return Ok(()) };
    let age = app.settings.ages.logs.map(|age| format!("; logs are kept for {}", humantime::format_duration(age)));
    let detail = format!("this log was dropped on {}{}", clock::words(at), age.unwrap_or_default());
    Err(ApiError::new(StatusCode::GONE, "dropped-log", detail))
}

/// How many lines one call brings at most.
const MOST_LINES: u64 = 5_000;
/// How many finds one call brings at most.
const MOST_FOUND: usize = 1_000;
/// The longest pattern, and the most memory that it may take when compiled.
const LONGEST_PATTERN: usize = 1_000;
const LARGEST_PATTERN: usize = 1 << 20;
/// How most tools mark a line with an error: the word, or a test runner's "not ok".
pub(super) const ERRORS: &str =
    r"(?i)\b(error|fail|fatal|panicked|traceback|exception|undefined reference)\b|^not ok\b|\bFAILED\b|^ordotaxis: ";

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Asked {
    /// The newest when absent.
    attempt: Option<u32>,
    /// The log of this helper in place of the job's own.
    beside: Option<String>,
    /// The first line, counted from 0.
    from: Option<u64>,
    /// Begin with the line in which this byte stands instead.
    from_offset: Option<u64>,
    /// Begin this many lines before the end instead.
    last: Option<u64>,
    /// How many lines at most (5,000 at most).
    count: Option<u64>,
    /// Hold the call this long, at most 25 s, until there are more lines than this many.
    wait_ms: Option<u64>,
    more_than: Option<u64>,
}

/// Lines of a job's log by number, each with its time.
#[utoipa::path(get, operation_id = "read_lines", path = "/api/v1/runs/{project}/{number}/jobs/{job}/lines", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), Asked), responses((status = 200, body = LinesView), (status = 404, body = Problem), (status = 410, body = Problem)))]
pub(crate) async fn lines(
    State(app): State<App>,
    Path((project, number, job)): Path<(String, i64, String)>,
    Query(asked): Query<Asked>,
) -> Result<Json<LinesView>, ApiError> {
    let (run, at) = find_job(&app, &project, number, &job).await?;
    let until = Instant::now() + Duration::from_millis(asked.wait_ms.unwrap_or(0).min(LONGEST_WAIT_MS));
    let count = asked.count.unwrap_or(1_000).min(MOST_LINES);
    let mut grown = app.logs.grown();
    loop {
        grown.borrow_and_update();
        let (attempt, open) = attempt_state(&app, run, at, asked.attempt).await?;
        let (logs, id) = (app.logs.clone(), log_id(run, at, attempt, asked.beside.as_deref())?);
        let (from, from_offset, last) = (asked.from.unwrap_or(0), asked.from_offset, asked.last);
        let read = tokio::task::spawn_blocking(move || {
            let from = match (last, from_offset) {
                (Some(last), _) => logs.lines(&id, 0, 0)?.total.saturating_sub(last),
                (None, Some(offset)) => logs.line_of(&id, offset)?,
                (None, None) => from,
            };
            logs.lines(&id, from, count)
        });
        let lines = read.await.map_err(std::io::Error::other)??;
        there(&app, run, at, attempt, open || lines.total > 0).await?;
        let more = asked.more_than.is_none_or(|known| lines.total > known);
        if more || !open || Instant::now() >= until {
            return Ok(Json(lines_view(attempt, open, lines)));
        }
        tokio::select! {
            _ = grown.changed() => {}
            () = tokio::time::sleep_until(until) => {}
            () = app.stop.cancelled() => return Ok(Json(lines_view(attempt, open, lines))),
        }
    }
}

fn lines_view(attempt: u32, open: bool, lines: Lines) -> LinesView {
    let text = String::from_utf8_lossy(&lines.bytes).into_owned();
    LinesView { attempt, open, total: lines.total, first: lines.first, offset: lines.offset, text, times: lines.times }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Wanted {
    /// The newest when absent.
    attempt: Option<u32>,
    /// The log of this helper in place of the job's own.
    beside: Option<String>,
    /// A regular expression; lines that look like errors when absent.
    pattern: Option<String>,
    /// The first line to look at, counted from 0.
    from: Option<u64>,
    /// How many finds at most (1,000 at most).
    most: Option<usize>,
}

/// Lines of a job's log in which something stands.
#[utoipa::path(get, operation_id = "search_log", path = "/api/v1/runs/{project}/{number}/jobs/{job}/search", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), Wanted), responses((status = 200, body = SearchView), (status = 404, body = Problem), (status = 410, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn search(
    State(app): State<App>,
    Path((project, number, job)): Path<(String, i64, String)>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<SearchView>, ApiError> {
    let (run, at) = find_job(&app, &project, number, &job).await?;
    let pattern = wanted.pattern.as_deref().unwrap_or(ERRORS);
    if pattern.len() > LONGEST_PATTERN {
        return Err(ApiError::field("/pattern", format!("the pattern is longer than {LONGEST_PATTERN} characters")));
    }
    let built = regex::bytes::RegexBuilder::new(pattern).size_limit(LARGEST_PATTERN).build();
    let pattern = built.map_err(|error| ApiError::field("/pattern", format!("it is not a regular expression: {}", last_line(&error))))?;
    let (attempt, _) = attempt_state(&app, run, at, wanted.attempt).await?;
    let (logs, id) = (app.logs.clone(), log_id(run, at, attempt, wanted.beside.as_deref())?);
    let (from, most) = (wanted.from.unwrap_or(0), wanted.most.unwrap_or(100).min(MOST_FOUND));
    let searched = tokio::task::spawn_blocking(move || logs.search(&id, &pattern, from, most)).await.map_err(std::io::Error::other)??;
    there(&app, run, at, attempt, !searched.found.is_empty()).await?;
    let view = |found: Found| FoundView {
        line: found.line,
        offset: found.offset,
        at: found.at,
        text: String::from_utf8_lossy(&found.text).into_owned(),
    };
    Ok(Json(SearchView { attempt, found: searched.found.into_iter().map(view).collect(), more_from: searched.more_from }))
}

/// What is wrong; the lines before show the pattern again.
fn last_line(error: &regex::Error) -> String {
    error.to_string().lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned()
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
