//! `start`, `again`, `runs`, `stop`.

use super::local::inputs;
use super::watch::watch_run;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::out::table;
use crate::reference::{RunRef, run_ref};
use ordotaxis_core::engine::State;
use ordotaxis_wire::environment::AskEmergency;
use ordotaxis_wire::run::RunView;
use ordotaxis_wire::run::{Again, NewRun, StartJob, Stop};
use ordotaxis_wire::words;
use std::collections::BTreeMap;

/// `start`
#[derive(clap::Args)]
pub(crate) struct StartOptions {
    /// `PROJECT`; or `PROJECT/NUMBER` with --job
    #[arg(value_name = "PROJECT|RUN")]
    project: String,
    /// A branch, tag or commit; the main branch when absent
    #[arg(long = "ref")]
    reference: Option<String>,
    #[arg(long)]
    pipeline: Option<String>,
    /// A value for an input of the file: NAME=VALUE
    #[arg(long, value_name = "NAME=VALUE")]
    input: Vec<String>,
    /// Only this job or stage, and those it takes from
    #[arg(long)]
    job: Vec<String>,
    /// Of a RUN and a --job that deploys: past the rules of its environment, if these name you; someone else must confirm it
    #[arg(long, requires = "reason")]
    emergency: bool,
    /// Why it is an emergency: everybody reads it
    #[arg(long, requires = "emergency")]
    reason: Option<String>,
    /// Follow it until it ends
    #[arg(long)]
    watch: bool,
}

/// `runs`
#[derive(clap::Args)]
pub(crate) struct RunsOptions {
    project: Option<String>,
    /// Only of this pipeline
    #[arg(long)]
    pipeline: Option<String>,
    /// How many at most
    #[arg(long, default_value_t = 20)]
    count: usize,
}

/// `again`
#[derive(clap::Args)]
pub(crate) struct AgainOptions {
    run: String,
    /// Within this run: what did not end well, and what follows it
    #[arg(long)]
    failed: bool,
    /// Within this run: this job and what follows it
    #[arg(long, conflicts_with = "failed")]
    job: Vec<String>,
    /// Take nothing from before: neither caches nor earlier results
    #[arg(long)]
    fresh: bool,
    /// Follow it until it ends
    #[arg(long)]
    watch: bool,
}

/// `allow`
#[derive(clap::Args)]
pub(crate) struct AllowOptions {
    run: String,
}

/// `stop`
#[derive(clap::Args)]
pub(crate) struct StopOptions {
    run: String,
    job: Option<String>,
}

/// Starts a run by hand, or where a run is named jobs of it.
pub(super) async fn start(options: StartOptions, api: &Api, json: bool) -> Done {
    if options.project.contains('/') {
        return start_jobs(options, api, json).await;
    }
    if options.emergency {
        return Err(Failure::new(
            2,
            "an emergency is of one job of a run",
            "write ordotaxis start PROJECT/NUMBER --job STAGE.NAME --emergency --reason …",
        ));
    }
    let StartOptions { project, reference, pipeline, input, job, watch, .. } = options;
    let ask = NewRun { reference, pipeline, inputs: inputs(&input)?.into_iter().collect(), jobs: job };
    let run: RunView = api.post(&format!("projects/{project}/runs"), &ask).await?;
    if watch {
        return watch_run(api, &RunRef::numbered(&run.project, run.number), json).await;
    }
    if json {
        out::json(&run);
    } else {
        out::print(format!("{} begun: {}", out::bold(&run.run), run.sentence));
        out::remark(format!("  follow it: ordotaxis watch {}", run.run));
    }
    OK
}

/// Starts jobs of a run that start by hand only.
async fn start_jobs(ask: StartOptions, api: &Api, json: bool) -> Done {
    let run = &run_ref(&ask.project)?;
    if ask.reference.is_some() || ask.pipeline.is_some() {
        return Err(Failure::new(2, "a run has its commit and pipeline already", "leave out --ref and --pipeline, or name a project"));
    }
    if ask.job.is_empty() {
        return Err(Failure::new(2, "no job is named", format!("name the job: ordotaxis start {} --job STAGE.NAME", spoken(run))));
    }
    let inputs: BTreeMap<String, String> = inputs(&ask.input)?.into_iter().collect();
    let number = api.run(run).await?.number;
    let mut view = None;
    for job in ask.job {
        if let Some(reason) = &ask.reason {
            let urgent = AskEmergency { job: job.clone(), reason: reason.clone() };
            let started: RunView = api.post(&format!("runs/{}/{number}/emergency", run.project), &urgent).await?;
            if !json {
                out::print(format!(
                    "{}: {job} goes past the rules; someone else must confirm it: ordotaxis approve {0} {job}",
                    started.run
                ));
            }
            view = Some(started);
            continue;
        }
        let start = StartJob { job: job.clone(), inputs: inputs.clone() };
        let started: RunView = api.post(&format!("runs/{}/{number}/start", run.project), &start).await?;
        if !json {
            out::print(format!("{}: {job} started; {}", started.run, started.sentence));
        }
        view = Some(started);
    }
    follow(api, view, ask.watch, json).await
}

/// Does a run's commit once more, or some of its jobs.
pub(super) async fn again(options: AgainOptions, api: &Api, json: bool) -> Done {
    let AgainOptions { run, failed, job, fresh, watch } = options;
    let (run, ask) = (&run_ref(&run)?, Again { failed, jobs: job, fresh });
    let before = api.run(run).await?;
    let number = before.number;
    let unwell = |state: State| matches!(state, State::Failed | State::Lost | State::Stopped | State::Overtaken | State::Refused);
    if ask.failed && before.ended_at.is_some() && !before.counts.iter().any(|count| unwell(count.state)) {
        out::remark(format!("{} ended well: nothing to do again", before.run));
        if json {
            out::json(&before);
        }
        return OK;
    }
    let within = ask.failed || !ask.jobs.is_empty();
    let view: RunView = api.post(&format!("runs/{}/{number}/again", run.project), &ask).await?;
    if !json {
        let what = if within { "continues".to_owned() } else { format!("begun, {}/{number} once more", run.project) };
        out::print(format!("{} {what}: {}", out::bold(&view.run), view.sentence));
        if !watch {
            out::remark(format!("  follow it: ordotaxis watch {}", view.run));
        }
    }
    follow(api, Some(view), watch, json).await
}

/// Tells of a run that was made from an earlier one, and follows it where that is asked.
pub(super) async fn begun(api: &Api, view: RunView, watch: bool, json: bool) -> Done {
    if !json && !watch {
        let from = view.occasion.from.as_deref().unwrap_or_default();
        out::print(format!("{} begun, with what {from} made: {}", out::bold(&view.run), view.sentence));
        out::remark(format!("  follow it: ordotaxis watch {}", view.run));
    }
    follow(api, Some(view), watch, json).await
}

pub(super) async fn follow(api: &Api, view: Option<RunView>, watch: bool, json: bool) -> Done {
    let Some(view) = view else { return OK };
    if watch {
        return watch_run(api, &RunRef::numbered(&view.project, view.number), json).await;
    }
    if json {
        out::json(&view);
    }
    OK
}

fn spoken(run: &RunRef) -> String {
    run.number.map_or_else(|| run.project.clone(), |number| format!("{}/{number}", run.project))
}

pub(super) async fn list(options: RunsOptions, api: &Api, json: bool) -> Done {
    let RunsOptions { project, pipeline, count } = options;
    let named = [("project", project), ("pipeline", pipeline)];
    let named: Vec<String> = named.iter().filter_map(|(key, value)| Some(format!("{key}={}", value.as_ref()?))).collect();
    if let Some(bad) = named.iter().find(|one| one.contains(|c: char| c.is_whitespace() || "&#?".contains(c))) {
        return Err(Failure::new(2, format!("`{bad}` is no name"), "`ordotaxis project list` shows projects"));
    }
    let mut path = format!("runs?{}", named.join("&"));
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
    let head = ["run", "pipeline", "state", "branch", "commit", "time", "begun", "what happened"].map(str::to_owned).to_vec();
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
        run.pipeline.clone(),
        out::state(run.state),
        place(run),
        format!("{commit} {}", out::cut(&run.commit_title, 36)),
        took.filter(|_| !run.counts.is_empty()).map(words::duration).unwrap_or_default(),
        out::moment(run.created_at),
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
pub(super) async fn allow(options: AllowOptions, api: &Api, json: bool) -> Done {
    let run = &run_ref(&options.run)?;
    let number = api.run(run).await?.number;
    let view: RunView = api.post(&format!("runs/{}/{number}/allow", run.project), &serde_json::json!({})).await?;
    if json {
        out::json(&view);
    } else {
        out::print(format!("{}: allowed; {}", view.run, view.sentence));
    }
    OK
}

pub(super) async fn stop(options: StopOptions, api: &Api, json: bool) -> Done {
    let (run, job) = (&run_ref(&options.run)?, options.job);
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
