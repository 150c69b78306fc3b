//! `logs`: a job's log as the bytes it is, and with `--follow` until the job ends.

mod lines;
mod options;

pub(crate) use options::LogsOptions;

use super::patience::patiently;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::reference::run_ref;
use crate::written;
use options::WAIT_MS;
use ordotaxis_wire::run::JobView;
use reqwest::{Method, Response};

pub(super) async fn logs(ask: LogsOptions, api: &Api) -> Done {
    let run = &run_ref(&ask.run)?;
    let view = api.run(run).await?;
    if let Some(job) = view.jobs.iter().flatten().find(|job| job.id.as_str() == ask.job && job.attempts.is_empty() && job.state.is_end()) {
        return none_of(job);
    }
    if ask.step.is_some() || ask.since.is_some() || ask.grep.is_some() || ask.times {
        return lines::print(api, &view, &ask).await;
    }
    let beside = ask.beside.as_ref().map(|name| format!("&beside={name}")).unwrap_or_default();
    let (mut offset, mut attempt) = (0, ask.attempt);
    loop {
        let wait = if ask.follow { WAIT_MS } else { 0 };
        let query = format!("offset={offset}&wait_ms={wait}{beside}");
        let more = || part(api, &run.project, view.number, &ask.job, attempt, &query);
        // A follower goes on where it was when the service is back.
        let part = if ask.follow { patiently(more).await? } else { more().await? };
        if !written::bytes(&part.bytes) {
            return OK;
        }
        offset += part.bytes.len() as u64;
        if !part.open || (!ask.follow && part.bytes.is_empty()) {
            return OK;
        }
        // A job that waits has no attempt yet; once one has begun, its log is read to its end.
        attempt = attempt.or((offset > 0).then_some(part.attempt));
    }
}

/// A job that never ran has no log; one that was reused has another's.
fn none_of(job: &JobView) -> Done {
    match &job.reused_from {
        Some(run) => {
            out::remark(format!("{0} was not run: it is the same as in {run}; `ordotaxis logs {run} '{0}'` prints that log", job.id))
        }
        None => out::remark(format!("{} did not run: {}", job.id, job.why.as_deref().unwrap_or(job.state.word()))),
    }
    OK
}

pub(super) struct Part {
    pub(super) bytes: Vec<u8>,
    attempt: u32,
    open: bool,
}

pub(super) async fn part(api: &Api, project: &str, number: i64, job: &str, attempt: Option<u32>, query: &str) -> Result<Part, Failure> {
    let attempt = attempt.map(|attempt| format!("&attempt={attempt}")).unwrap_or_default();
    let answer = api.send(api.request(Method::GET, &format!("runs/{project}/{number}/jobs/{job}/log?{query}{attempt}"))).await?;
    let (attempt, open) = (number_of(&answer, "ordotaxis-attempt"), header(&answer, "ordotaxis-log-open") == "true");
    let broken = |_| Failure::new(3, "the log broke off", "try again");
    let bytes = answer.bytes().await.map_err(broken)?.to_vec();
    Ok(Part { bytes, attempt, open })
}

fn header(answer: &Response, name: &str) -> String {
    answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
}

fn number_of(answer: &Response, name: &str) -> u32 {
    header(answer, name).parse().unwrap_or(1)
}
