//! `logs`: a job's log as the bytes it is, and with `--follow` until the job ends.

use super::{Done, Failure, OK};
use crate::api::Api;
use crate::reference::RunRef;
use reqwest::{Method, Response};
use std::io::Write;

/// How long one call of a follower is held by the service.
const WAIT_MS: u32 = 20_000;

pub(super) async fn logs(api: &Api, run: &RunRef, job: &str, follow: bool, attempt: Option<u32>) -> Done {
    let number = api.run(run).await?.number;
    let (mut offset, mut attempt) = (0, attempt);
    loop {
        let wait = if follow { WAIT_MS } else { 0 };
        let part = part(api, &run.project, number, job, attempt, &format!("offset={offset}&wait_ms={wait}")).await?;
        if !write(&part.bytes) {
            return OK;
        }
        offset += part.bytes.len() as u64;
        if !part.open || (!follow && part.bytes.is_empty()) {
            return OK;
        }
        // A job that waits has no attempt yet; once one has begun, its log is read to its end.
        attempt = attempt.or((offset > 0).then_some(part.attempt));
    }
}

/// False when nobody reads any more.
fn write(bytes: &[u8]) -> bool {
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush()).is_ok()
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
