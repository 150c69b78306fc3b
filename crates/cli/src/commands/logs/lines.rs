//! A job's log line by line: of one step, since some moment, with what one looks for in it, with times.

use super::options::{LogsOptions, WAIT_MS};
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::written;
use jiff::Timestamp;
use ordotaxis_wire::log::LinesView;
use ordotaxis_wire::run::{AttemptView, RunView};
use regex::Regex;

/// How many lines one call brings.
const PAGE: u32 = 5_000;

pub(super) async fn print(api: &Api, run: &RunView, ask: &LogsOptions) -> Done {
    let pattern = ask.grep.as_deref().map(Regex::new).transpose();
    let pattern = pattern.map_err(|error| {
        let why = error.to_string();
        let last = why.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        Failure::new(2, format!("--grep is not a regular expression: {last}"), "write a backslash before signs that are meant as such")
    })?;
    let since = ask.since.as_deref().map(moment).transpose()?;
    let log = Log { api, run, ask };
    let step = ask.step.as_deref().map(|name| log.step(name)).transpose()?;
    let mut from = match step {
        Some((start, _)) => log.lines(&format!("from_offset={start}&count=1")).await?.first,
        None => 0,
    };
    if let Some(since) = since {
        from = from.max(log.first_since(since).await?);
    }
    let end = step.and_then(|(_, end)| end);
    let mut wait = String::new();
    loop {
        let page = log.lines(&format!("from={from}&count={PAGE}{wait}")).await?;
        let count = u64::try_from(page.times.len()).unwrap_or(0);
        let unfinished = page.open && !page.text.ends_with('\n');
        let (text, done) = chosen(&page, end, pattern.as_ref(), ask.times);
        if !written::bytes(text.as_bytes()) || done {
            return OK;
        }
        // A last line without its end is printed once, when it is whole or nothing more comes.
        from += count - u64::from(unfinished && count > 0);
        let complete = from + u64::from(unfinished) >= page.total;
        if complete && !(page.open && ask.follow) {
            return OK;
        }
        wait = if complete { format!("&more_than={}&wait_ms={WAIT_MS}", page.total) } else { String::new() };
    }
}

/// The lines of a page that are wanted, and whether the end was reached.
fn chosen(page: &LinesView, end: Option<u64>, pattern: Option<&Regex>, times: bool) -> (String, bool) {
    let mut offset = page.offset;
    let mut out = String::new();
    for (line, at) in page.text.split_inclusive('\n').zip(&page.times) {
        if end.is_some_and(|end| offset >= end) {
            return (out, true);
        }
        offset += line.len() as u64;
        let whole = line.ends_with('\n') || !page.open;
        if !whole || pattern.is_some_and(|pattern| !pattern.is_match(line.trim_end_matches('\n'))) {
            continue;
        }
        if times {
            let clock = ordotaxis_wire::moment(*at).strftime("%H:%M:%S%.3f");
            out.push_str(&format!("{clock} "));
        }
        out.push_str(line);
    }
    (out, false)
}

struct Log<'a> {
    api: &'a Api,
    run: &'a RunView,
    ask: &'a LogsOptions,
}

impl Log<'_> {
    async fn lines(&self, query: &str) -> Result<LinesView, Failure> {
        let RunView { project, number, .. } = self.run;
        let attempt = self.ask.attempt.map(|attempt| format!("&attempt={attempt}")).unwrap_or_default();
        let beside = self.ask.beside.as_ref().map(|name| format!("&beside={name}")).unwrap_or_default();
        self.api.get(&format!("runs/{project}/{number}/jobs/{}/lines?{query}{attempt}{beside}", self.ask.job)).await
    }

    /// Where a step's output begins, and ends if another phase has begun.
    fn step(&self, name: &str) -> Result<(u64, Option<u64>), Failure> {
        let job = self.run.jobs.iter().flatten().find(|job| job.id.as_str() == self.ask.job);
        let number = |attempt: &&AttemptView| self.ask.attempt.is_none_or(|wanted| attempt.number == wanted);
        let phases =
            job.and_then(|job| job.attempts.iter().rev().find(number)).map(|attempt| attempt.phases.as_slice()).unwrap_or_default();
        let found =
            phases.iter().position(|phase| phase.name == name).or_else(|| phases.iter().position(|phase| phase.name.contains(name)));
        let Some(at) = found else {
            let names: Vec<&str> = phases.iter().map(|phase| phase.name.as_str()).collect();
            let next = if names.is_empty() { "nothing of it has begun".to_owned() } else { format!("it has: {}", names.join(", ")) };
            return Err(Failure::new(2, format!("{} has no step {name}", self.ask.job), next));
        };
        Ok((phases[at].log_from, phases.get(at + 1).map(|next| next.log_from)))
    }

    /// The first line that was printed at this moment or later.
    async fn first_since(&self, since: Timestamp) -> Result<u64, Failure> {
        let since = since.as_millisecond();
        let (mut low, mut high) = (0, self.lines("from=0&count=0").await?.total);
        while low < high {
            let middle = low + (high - low) / 2;
            let at = self.lines(&format!("from={middle}&count=1")).await?.times.first().copied();
            if at.is_some_and(|at| at < since) { low = middle + 1 } else { high = middle }
        }
        Ok(low)
    }
}

/// `5m` before now, or a moment as it is written in records.
fn moment(text: &str) -> Result<Timestamp, Failure> {
    if let Ok(before) = humantime::parse_duration(text) {
        return Ok(Timestamp::now().checked_sub(before).unwrap_or(Timestamp::MIN));
    }
    text.parse().map_err(|_| {
        Failure::new(2, format!("--since says no time: {text}"), "write a length of time before now, such as 5m, or 2026-11-23T10:00:00Z")
    })
}
