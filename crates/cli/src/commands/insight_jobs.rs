//! `insight`: what the history of jobs comes to; of one project, of one job, of all projects, and as a table.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out::{self, table};
use ordotaxis_wire::insight::{BranchInsight, ChangeView, JobInsight, LevelView, ProjectInsight, ProjectUse, ServiceInsight};
use ordotaxis_wire::words;
use reqwest::Method;

/// `insight`
#[derive(clap::Args)]
pub(crate) struct InsightOptions {
    /// The project; all projects, by what they take of runners, when it is left out
    project: Option<String>,
    /// The steps of this job, too: its id, with or without its cell
    #[arg(long, requires = "project")]
    job: Option<String>,
    /// Over how many days
    #[arg(long, default_value_t = 30)]
    days: i64,
    /// Every attempt as a line of a table, in CSV
    #[arg(long, requires = "project", conflicts_with = "job")]
    csv: bool,
}

pub(super) async fn insight(options: InsightOptions, api: &Api, json: bool) -> Done {
    let days = [("days", options.days)];
    let Some(project) = &options.project else {
        let all: ServiceInsight = api.read(api.request(Method::GET, "insight").query(&days)).await?;
        if json {
            out::json(&all);
        } else {
            of_service(&all);
        }
        return OK;
    };
    if options.csv {
        return sheet(project, &days, api).await;
    }
    let found: ProjectInsight = api.read(api.request(Method::GET, &format!("projects/{project}/insight/jobs")).query(&days)).await?;
    if json {
        out::json(&found);
        return OK;
    }
    match &options.job {
        Some(job) => of_job(&found, job),
        None => {
            of_project(&found);
            OK
        }
    }
}

fn of_service(all: &ServiceInsight) {
    let head = ["project", "attempts", "failed", "runners' time", "half queued", "most queued", "cost"].map(str::to_owned).to_vec();
    let row = |one: &ProjectUse| {
        vec![
            one.project.clone(),
            one.attempts.to_string(),
            one.failed.to_string(),
            words::duration(one.runner_ms),
            length(one.waited.p50_ms),
            length(one.waited.p90_ms),
            money(one.cost),
        ]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.projects.iter().map(row)).collect();
    table(&rows, "no job ended in that time");
    if let Some(cost) = all.unused_cost.filter(|cost| *cost > 0.0) {
        out::remark(format!("machines that no job used cost {}", money(Some(cost))));
    }
    out::remark(format!("{}; half of all queued no longer than the one, nine in ten no longer than the other", last(all.days)));
    cut(all.cut);
}

fn of_project(found: &ProjectInsight) {
    out::print(format!("{}: {} of runners' time in {}", out::bold(&found.project), words::duration(found.runner_ms), last(found.days)));
    saved(found).iter().for_each(|line| out::print(format!("  {line}")));
    let head = ["job", "passed", "failed", "half took", "most took", "half queued", "most queued", "runners' time", "changed"];
    let rows: Vec<Vec<String>> = std::iter::once(head.map(str::to_owned).to_vec()).chain(found.jobs.iter().map(job_row)).collect();
    out::print("");
    table(&rows, "no job ended in that time");
    if found.more_jobs > 0 {
        out::remark(format!("{} jobs that took less are not listed", found.more_jobs));
    }
    let head = ["branch", "passed", "failed", "other", "half took", "most took"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(found.branches.iter().map(branch_row)).collect();
    out::print("");
    table(&rows, "no run ended in that time");
    out::remark("half of all took no longer than the one, nine in ten no longer than the other");
    cut(found.cut);
}

/// What was done in vain, and what was not done since it had been done before.
fn saved(found: &ProjectInsight) -> Vec<String> {
    let mut lines = Vec::new();
    if found.retried > 0 {
        let times = if found.retried == 1 { "once".to_owned() } else { format!("{} times", found.retried) };
        lines.push(format!("{times} a job failed and passed when it was tried again: {} in vain", words::duration(found.retried_ms)));
    }
    if found.reused > 0 {
        let results = if found.reused == 1 { "1 result was".to_owned() } else { format!("{} results were", found.reused) };
        lines.push(format!("{results} taken over: {} saved", words::duration(found.reused_ms)));
    }
    if found.caches > 0 {
        let bytes = words::bytes(found.caches_bytes.unsigned_abs());
        lines.push(format!("caches were there {} of {} times, with {bytes}", found.caches_restored, found.caches));
    }
    lines.extend(found.cost.map(|cost| format!("its share of machines cost {}", money(Some(cost)))));
    lines
}

fn job_row(job: &JobInsight) -> Vec<String> {
    vec![
        name(job),
        job.passed.to_string(),
        job.failed.to_string(),
        length(job.took.p50_ms),
        length(job.took.p90_ms),
        length(job.waited.p50_ms),
        length(job.waited.p90_ms),
        words::duration(job.runner_ms),
        job.change.as_ref().map(change).unwrap_or_default(),
    ]
}

/// The pipeline is said where it is not the one that most projects have.
fn name(job: &JobInsight) -> String {
    if job.pipeline == "main" { job.job.clone() } else { format!("{} of {}", job.job, job.pipeline) }
}

fn change(change: &ChangeView) -> String {
    let how = if change.after_ms > change.before_ms { "slower" } else { "faster" };
    format!("{how} since {}: {} → {}", change.run, words::duration(change.before_ms), words::duration(change.after_ms))
}

fn branch_row(one: &BranchInsight) -> Vec<String> {
    let LevelView { p50_ms, p90_ms } = one.took;
    vec![
        one.branch.clone().unwrap_or("all others".into()),
        one.passed.to_string(),
        one.failed.to_string(),
        one.other.to_string(),
        length(p50_ms),
        length(p90_ms),
    ]
}

fn of_job(found: &ProjectInsight, wanted: &str) -> Done {
    let fits = |job: &&JobInsight| job.job == wanted || job.job.split('[').next() == Some(wanted);
    let jobs: Vec<&JobInsight> = found.jobs.iter().filter(fits).collect();
    if jobs.is_empty() {
        let names: Vec<&str> = found.jobs.iter().map(|job| job.job.as_str()).take(12).collect();
        let there = if names.is_empty() { "none ended in that time".to_owned() } else { format!("there are: {}", names.join(", ")) };
        return Err(Failure::new(2, format!("no job {wanted} of {} ended in {}; {there}", found.project, last(found.days)), ""));
    }
    for job in jobs {
        let took = format!("half took {}, most {}", length(job.took.p50_ms), length(job.took.p90_ms));
        out::print(format!("{}: {} passed, {} failed; {took}", out::bold(&name(job)), job.passed, job.failed));
        job.change.iter().for_each(|one| out::print(format!("  {}", change(one))));
        let head = ["  step", "done", "half took", "most took"].map(str::to_owned).to_vec();
        let row = |step: &ordotaxis_wire::insight::StepInsight| {
            vec![format!("  {}", step.name), step.count.to_string(), length(step.took.p50_ms), length(step.took.p90_ms)]
        };
        let rows: Vec<Vec<String>> = std::iter::once(head).chain(job.steps.iter().map(row)).collect();
        table(&rows, "  none of its steps is known");
    }
    OK
}

async fn sheet(project: &str, days: &[(&str, i64)], api: &Api) -> Done {
    let request = api.request(Method::GET, &format!("projects/{project}/insight/attempts.csv"));
    out::pour(api.send(request.query(days)).await?).await
}

fn length(ms: Option<i64>) -> String {
    ms.map_or("–".to_owned(), words::duration)
}

fn money(cost: Option<f64>) -> String {
    cost.map(|cost| if cost == 0.0 { "0".to_owned() } else { format!("{cost:.4}") }).unwrap_or_default()
}

fn last(days: i64) -> String {
    if days == 1 { "the last day".to_owned() } else { format!("the last {days} days") }
}

fn cut(cut: bool) {
    if cut {
        out::remark("there were more attempts than are looked at: these are the newest; `--days` asks for less");
    }
}
