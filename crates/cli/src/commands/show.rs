//! `show` and `why`: a run, its jobs and their steps, and the reason for each state.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::reference::{RunRef, run_ref};
use jiff::Timestamp;
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::Event;
use ordotaxis_wire::run::{AttemptView, JobView, RunView, WhyView};
use ordotaxis_wire::words;

/// `show`
#[derive(clap::Args)]
pub(crate) struct ShowOptions {
    /// `PROJECT/NUMBER`, or `PROJECT` for its newest
    run: String,
    /// Of a project, the newest run of this pipeline
    #[arg(long)]
    pipeline: Option<String>,
}

/// `why`
#[derive(clap::Args)]
pub(crate) struct WhyOptions {
    run: String,
    job: Option<String>,
}

pub(super) async fn show(options: ShowOptions, api: &Api, json: bool) -> Done {
    let mut wanted = run_ref(&options.run)?;
    if options.pipeline.is_some() && wanted.number.is_some() {
        return Err(Failure::new(2, format!("{} is one run: it has its pipeline", options.run), "name a project with --pipeline"));
    }
    wanted.pipeline = options.pipeline.or(wanted.pipeline);
    let run = api.run(&wanted).await?;
    if json {
        out::json(&run);
    } else {
        print_run(&run);
    }
    OK
}

pub(super) fn head(run: &RunView) -> Vec<String> {
    let occasion = &run.occasion;
    let branch = match (&occasion.tag, &occasion.target, &run.branch) {
        (Some(tag), ..) => format!(" · tag {tag}"),
        (_, Some(target), _) if run.occasion.event == Event::Landing => format!(" · lands in {target}"),
        (_, Some(target), _) => format!(" · proposed to {target}"),
        (.., Some(branch)) => format!(" · on {branch}"),
        _ => String::new(),
    };
    let by = run.occasion.by.as_deref().unwrap_or("someone");
    let begun = match run.occasion.event {
        Event::Push | Event::Tag => format!("pushed by {by}"),
        Event::Proposal => format!("offered by {by}"),
        Event::ByHand => format!("started by {by}"),
        Event::Schedule => "by its schedule".into(),
        Event::Landing => "tried before it lands".into(),
        Event::Promotion | Event::RollBack | Event::Closing => {
            let done = match run.occasion.event {
                Event::Promotion => "promoted into",
                Event::RollBack => "rolled back in",
                _ => "taken out of",
            };
            let (environment, from) =
                (run.occasion.environment.as_deref().unwrap_or_default(), run.occasion.from.as_deref().unwrap_or_default());
            format!("{from} {done} {environment} by {by}")
        }
        Event::Pipeline => "since another pipeline passed".into(),
    };
    let usual = run.usual_ms.map(|ms| format!("; usually passes in {}", words::duration(ms))).unwrap_or_default();
    vec![
        format!("{} {}  {}{}", out::as_state(run.state, out::symbol(run.state)), out::bold(&run.run), run.sentence, out::dim(&usual)),
        out::dim(&format!(
            "  {} {}{branch} · {begun} · {}",
            run.commit.get(..8).unwrap_or(&run.commit),
            run.commit_title,
            out::moment(run.created_at)
        )),
    ]
}

/// Caches that should have been saved or used and were not, a line each.
pub(super) fn uncached(run: &RunView) -> Vec<String> {
    run.uncached.iter().map(|one| format!("  {}: cache {}: {}", one.job, one.key, one.why)).collect()
}

fn print_run(run: &RunView) {
    head(run).iter().for_each(out::print);
    uncached(run).iter().for_each(out::print);
    for diagnostic in &run.diagnostics {
        out::print(format!(
            "\n  {}:{}:{}: {} [{}]",
            diagnostic.file, diagnostic.line, diagnostic.column, diagnostic.message, diagnostic.code
        ));
        diagnostic.hint.iter().for_each(|hint| out::print(out::dim(&format!("    {hint}"))));
    }
    let jobs = run.jobs.as_deref().unwrap_or_default();
    let rows: Vec<Vec<String>> =
        jobs.iter().map(|job| vec![format!("  {}", out::state(job.state)), job.id.to_string(), took(job), runner(job)]).collect();
    let mut stage = "";
    for (job, line) in jobs.iter().zip(out::columns(&rows)) {
        if job.stage != stage {
            stage = &job.stage;
            out::print(format!("\n{}", out::bold(stage)));
        }
        out::print(line);
        print_job(job);
    }
}

/// How long a job has run, or ran, in its newest attempt.
pub(super) fn took(job: &JobView) -> String {
    let Some(attempt) = job.attempts.last() else { return String::new() };
    let end = attempt.ended_at.unwrap_or_else(Timestamp::now);
    words::duration(end.as_millisecond() - attempt.started_at.as_millisecond())
}

fn runner(job: &JobView) -> String {
    let Some(attempt) = job.attempts.last() else { return String::new() };
    if attempt.number > 1 { format!("{}, attempt {}", attempt.runner, attempt.number) } else { attempt.runner.clone() }
}

fn print_job(job: &JobView) {
    if let Some(why) = &job.why {
        out::print(out::dim(&format!("    {why}")));
    }
    if matches!(job.state, State::Failed | State::Running) {
        job.attempts.last().into_iter().for_each(print_steps);
    }
}

fn print_steps(attempt: &AttemptView) {
    for phase in &attempt.phases {
        let state = match phase.duration_ms {
            None => State::Running,
            Some(_) if phase.failed => State::Failed,
            Some(_) => State::Passed,
        };
        let took = phase.duration_ms.map(words::duration).unwrap_or_default();
        out::print(format!(
            "      {} {:<8} {}  {}",
            out::as_state(state, out::symbol(state)),
            phase.kind.word(),
            phase.name,
            out::dim(&took)
        ));
    }
}

pub(super) async fn why(options: WhyOptions, api: &Api, json: bool) -> Done {
    let (run, job) = (&run_ref(&options.run)?, options.job.as_deref());
    let number = api.run(run).await?.number;
    let why: WhyView = api.get(&format!("runs/{}/{number}/why", run.project)).await?;
    let Some(name) = job else {
        if json {
            out::json(&why);
            return OK;
        }
        out::print(format!("{} {}  {}", out::as_state(why.state, out::symbol(why.state)), out::bold(&why.run), why.why));
        let rows: Vec<Vec<String>> = why.jobs.iter().map(|job| vec![out::state(job.state), job.id.to_string(), job.why.clone()]).collect();
        out::columns(&rows).iter().for_each(out::print);
        return OK;
    };
    let found = why.jobs.iter().find(|job| job.id.as_str() == name);
    match found {
        Some(job) if json => out::json(job),
        Some(job) => out::print(format!("{} {}  {}", out::state(job.state).trim_end(), out::bold(job.id.as_str()), job.why)),
        None => return no_reason(api, run, number, name, json).await,
    }
    OK
}

/// The job passed, so there is nothing to explain, or there is no such job.
async fn no_reason(api: &Api, run: &RunRef, number: i64, name: &str, json: bool) -> Done {
    let view = api.run(&RunRef::numbered(&run.project, number)).await?;
    let jobs = view.jobs.unwrap_or_default();
    let Some(job) = jobs.iter().find(|job| job.id.as_str() == name) else {
        let ids: Vec<&str> = jobs.iter().map(|job| job.id.as_str()).collect();
        let hint = match ordotaxis_core::language::nearest(name, ids.iter().copied()) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("it has: {}", ids.join(", ")),
        };
        return Err(Failure::new(3, format!("{} has no job {name}", view.run), hint));
    };
    if json {
        out::json(&serde_json::json!({ "id": job.id, "state": job.state, "why": null }));
    } else {
        out::print(format!("{} {}  everything it waited for ended well, and so did it", out::state(job.state).trim_end(), out::bold(name)));
    }
    OK
}
