//! `compare RUN RUN`: what differs between two runs of a project.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::reference::run_ref;
use ordotaxis_core::engine::shown;
use ordotaxis_wire::compare::{ArtifactDifference, CompareView, JobDifference};
use ordotaxis_wire::words;

/// `compare`
#[derive(clap::Args)]
pub(crate) struct CompareOptions {
    before: String,
    after: String,
}

pub(super) async fn compare(options: CompareOptions, api: &Api, json: bool) -> Done {
    let (before, after) = (run_ref(&options.before)?, run_ref(&options.after)?);
    if before.project != after.project {
        return Err(Failure::new(2, "runs of two projects cannot be compared", "name two runs of one project"));
    }
    let (old, new) = (api.run(&before).await?.number, api.run(&after).await?.number);
    let view: CompareView = api.get(&format!("runs/{}/{old}/compare/{new}", before.project)).await?;
    if json {
        out::json(&view);
        return OK;
    }
    let took = |ms: Option<i64>| ms.map_or_else(|| "has not ended".to_owned(), words::duration);
    let (before, after) = (out::bold(&view.before), out::bold(&view.after));
    out::print(format!("{before} {}  →  {after} {}", took(view.before_ms), took(view.after_ms)));
    section("jobs", ["", "before", "after", "caches restored", ""], view.jobs.iter().map(job).collect());
    let end = |end: Option<ordotaxis_core::report::CaseEnd>| end.map_or("not there", |end| end.word()).to_owned();
    let test = |test: &ordotaxis_wire::compare::TestDifference| {
        let name = if test.suite.is_empty() { test.name.clone() } else { format!("{} > {}", test.suite, test.name) };
        vec![name, end(test.before), end(test.after), test.job.clone(), String::new()]
    };
    section("tests that ended otherwise", ["", "before", "after", "job", ""], view.tests.iter().map(test).collect());
    section("artifacts", ["", "before", "after", "", ""], view.artifacts.iter().map(artifact).collect());
    let number = |number: &ordotaxis_wire::compare::NumberDifference| {
        let value = |value: Option<f64>| value.map_or_else(|| "none".to_owned(), shown);
        vec![number.name.clone(), value(number.before), value(number.after), String::new(), String::new()]
    };
    section("numbers that changed", ["", "before", "after", "", ""], view.numbers.iter().map(number).collect());
    OK
}

fn section(title: &str, head: [&str; 5], rows: Vec<Vec<String>>) {
    if rows.is_empty() {
        return;
    }
    out::print(format!("\n{}", out::bold(title)));
    let head: Vec<String> = head.map(|word| out::dim(word).to_string()).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(rows).collect();
    out::columns(&rows).iter().for_each(|line| out::print(format!("  {}", line.trim_end())));
}

fn job(job: &JobDifference) -> Vec<String> {
    let side = |state: Option<ordotaxis_core::engine::State>, ms: Option<i64>| match (state, ms) {
        (None, _) => "not there".to_owned(),
        (Some(state), None) => state.word().to_owned(),
        (Some(state), Some(ms)) => format!("{} {}", state.word(), words::duration(ms)),
    };
    let caches = match (&job.before_caches, &job.after_caches) {
        (None, None) => String::new(),
        (before, after) => format!("{} → {}", before.as_deref().unwrap_or("none"), after.as_deref().unwrap_or("none")),
    };
    let waits = if job.waits_differ { "waits for others" } else { "" };
    vec![job.id.clone(), side(job.before, job.before_ms), side(job.after, job.after_ms), caches, waits.to_owned()]
}

fn artifact(artifact: &ArtifactDifference) -> Vec<String> {
    let size = |bytes: Option<u64>| bytes.map_or_else(|| "not there".to_owned(), words::bytes);
    let same = if artifact.same { "the same files" } else { "" };
    vec![artifact.name.clone(), size(artifact.before_bytes), size(artifact.after_bytes), same.to_owned(), String::new()]
}
