//! `start`, `runs`, `stop`.

use super::{Done, OK, show, table, watch};
use crate::api::Api;
use crate::out;
use crate::reference::RunRef;
use ordotaxis_wire::ask::{NewRun, Stop};
use ordotaxis_wire::view::RunView;
use ordotaxis_wire::words;

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

pub(super) async fn list(api: &Api, project: Option<String>, count: usize, json: bool) -> Done {
    let mut path = project.as_ref().map_or("runs".to_owned(), |project| format!("runs?project={project}"));
    let mut runs: Vec<RunView> = Vec::new();
    while runs.len() < count {
        let answer = api.send(api.request(reqwest::Method::GET, &path)).await?;
        let next = answer.headers().get("link").and_then(|value| value.to_str().ok()).and_then(next_page);
        let not_ours =
            |_| super::Failure::new(3, "the service's answer could not be read", "check that client and service have the same version");
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
    let took = run.started_at.map(|started| run.ended_at.unwrap_or_else(jiff::Timestamp::now).as_millisecond() - started.as_millisecond());
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
