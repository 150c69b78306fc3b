//! `start`, `again`, `runs`, `stop`.

use super::{Done, Failure, OK, show, table, watch};
use crate::api::Api;
use crate::out;
use crate::reference::RunRef;
use ordotaxis_wire::ask::{Again, NewRun, StartJob, Stop};
use ordotaxis_wire::view::RunView;
use ordotaxis_wire::words;
use std::collections::BTreeMap;

pub(super) async fn start(api: &Api, project: &str, ask: NewRun, follow: bool, json: bool) -> Done {
    let run: RunView = api.post(&format!("projects/{project}/runs"), &ask).await?;
    if follow {
        return watch::watch(api, &RunRef { project: run.project.clone(), number: Some(run.number) }, json).await;
    }
    if json {
        out::json(&run);
    } else {
        out::print(format!("{} begun: {}", out::bold(&run.run), run.sentence));
        out::remark(format!("  follow it: ordotaxis watch {}", run.run));
    }
    OK
}

/// What `start` was given with a run in place of a project.
pub(super) struct ByHand {
    pub(super) reference: Option<String>,
    pub(super) pipeline: Option<String>,
    pub(super) inputs: BTreeMap<String, String>,
    pub(super) jobs: Vec<String>,
    pub(super) watch: bool,
}

/// Starts jobs of a run that start by hand only.
pub(super) async fn start_jobs(api: &Api, run: &RunRef, ask: ByHand, json: bool) -> Done {
    if ask.reference.is_some() || ask.pipeline.is_some() {
        return Err(Failure::new(2, "a run has its commit and pipeline already", "leave out --ref and --pipeline, or name a project"));
    }
    if ask.jobs.is_empty() {
        return Err(Failure::new(2, "no job is named", format!("name the job: ordotaxis start {} --job STAGE.NAME", spoken(run))));
    }
    let number = api.run(run).await?.number;
    let mut view = None;
    for job in ask.jobs {
        let start = StartJob { job: job.clone(), inputs: ask.inputs.clone() };
        let started: RunView = api.post(&format!("runs/{}/{number}/start", run.project), &start).await?;
        if !json {
            out::print(format!("{}: {job} started; {}", started.run, started.sentence));
        }
        view = Some(started);
    }
    follow(api, view, ask.watch, json).await
}

/// Does a run's commit once more, or some of its jobs.
pub(super) async fn again(api: &Api, run: &RunRef, ask: Again, watch: bool, json: bool) -> Done {
    let number = api.run(run).await?.number;
    let within = ask.failed || !ask.jobs.is_empty();
    let view: RunView = api.post(&format!("runs/{}/{number}/again", run.project), &ask).await?;
    if !json {
        let what = if within { "goes on".to_owned() } else { format!("begun, {}/{number} once more", run.project) };
        out::print(format!("{} {what}: {}", out::bold(&view.run), view.sentence));
        if !watch {
            out::remark(format!("  follow it: ordotaxis watch {}", view.run));
        }
    }
    follow(api, Some(view), watch, json).await
}

async fn follow(api: &Api, view: Option<RunView>, watch: bool, json: bool) -> Done {
    let Some(view) = view else { return OK };
    if watch {
        return watch::watch(api, &RunRef { project: view.project.clone(), number: Some(view.number) }, json).await;
    }
    if json {
        out::json(&view);
    }
    OK
}

fn spoken(run: &RunRef) -> String {
    run.number.map_or_else(|| run.project.clone(), |number| format!("{}/{number}", run.project))
}

pub(super) async fn list(api: &Api, project: Option<String>, count: usize, json: bool) -> Done {
    let mut path = project.as_ref().map_or("runs".to_owned(), |project| format!("runs?project={project}"));
    let mut runs: Vec<RunView> = Vec::new();
    while runs.len() < count {
        let answer = api.send(api.request(reqwest::Method::GET, &path)).await?;
        let next = answer.headers().get("link").and_then(|value| value.to_str().ok()).and_then(next_page);
        let not_ours = |_| Failure::new(3, "the service's answer could not be read", "check that client and service have the same version");
        runs.extend(answer.json::<Vec<RunView>>().await.map_err(not_ours)?);
        match next {
            Some(next) => path = next,
            None => break,
        }
    }
    runs.truncate(count);
    if json {
        out::json(&runs);
        return OK;
    }
    let head = ["run", "state", "branch", "commit", "time", "begun", "what happened"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(runs.iter().map(row)).collect();
    table(&rows, "there are no runs yet; push a commit, or `ordotaxis start PROJECT`");
    OK
}

/// The path behind `rel="next"`, below `/api/v1/`.
fn next_page(link: &str) -> Option<String> {
    let path = link.strip_prefix('<')?.split('>').next()?;
    Some(path.strip_prefix("/api/v1/")?.to_owned())
}

fn row(run: &RunView) -> Vec<String> {
    let end = run.ended_at.unwrap_or_else(jiff::Timestamp::now);
    let took = run.started_at.map(|started| end.as_millisecond() - started.as_millisecond() - run.rest_ms);
    let commit = run.commit.get(..8).unwrap_or(&run.commit);
    vec![
        run.run.clone(),
        out::state(run.state),
        place(run),
        format!("{commit} {}", out::cut(&run.commit_title, 36)),
        took.filter(|_| !run.counts.is_empty()).map(words::duration).unwrap_or_default(),
        show::moment(run.created_at),
        run.sentence.clone(),
    ]
}

/// The branch, the tag, or what a proposal is aimed at.
fn place(run: &RunView) -> String {
    let target = run.occasion.target.as_ref().map(|target| format!("→ {target}"));
    let tag = run.occasion.tag.as_ref().map(|tag| format!("tag {tag}"));
    target.or(tag).or_else(|| run.branch.clone()).unwrap_or_default()
}

/// Lets a run go on that comes from outside.
pub(super) async fn allow(api: &Api, run: &RunRef, json: bool) -> Done {
    let number = api.run(run).await?.number;
    let view: RunView = api.post(&format!("runs/{}/{number}/allow", run.project), &serde_json::json!({})).await?;
    if json {
        out::json(&view);
    } else {
        out::print(format!("{}: allowed; {}", view.run, view.sentence));
    }
    OK
}

pub(super) async fn stop(api: &Api, run: &RunRef, job: Option<String>, json: bool) -> Done {
    let number = api.run(run).await?.number;
    let what = job.clone().map_or("the run".to_owned(), |job| format!("job {job}"));
    let view: RunView = api.post(&format!("runs/{}/{number}/stop", run.project), &Stop { job }).await?;
    if json {
        out::json(&view);
    } else {
        out::print(format!("{}: asked to stop {what}; {}", view.run, view.sentence));
    }
    OK
}
