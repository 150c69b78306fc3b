//! `watch`: a run as it goes. In a terminal one block that is redrawn; into a pipe a line whenever a job changes.
//! At the end the sentence, and of the first job that failed the end of its log.

use super::patience::patiently;
use super::{logs, show};
use crate::api::Api;
use crate::failure::{Done, Failure, failed};
use crate::out;
use crate::reference::{RunRef, run_ref};
use crate::written;
use ordotaxis_core::engine::State;
use ordotaxis_wire::run::{JobView, RunView};
use reqwest::Method;
use std::collections::HashMap;
use std::process::ExitCode;
use std::time::Duration;
use tokio::time::{sleep, timeout};

/// `watch`
#[derive(clap::Args)]
pub(crate) struct WatchOptions {
    run: String,
}

/// Room for a job's name; cells of a matrix have long ones.
const NAME_WIDTH: usize = 32;
/// How much of the failing log is shown.
const TAIL_LINES: usize = 25;
const TAIL_BYTES: usize = 16 * 1024;
/// A block in a terminal is redrawn at least this often, so that times move.
const REDRAW: Duration = Duration::from_millis(500);
/// The run is asked for at most this often.
const GATHER: Duration = Duration::from_millis(60);

pub(super) async fn watch(options: WatchOptions, api: &Api, json: bool) -> Done {
    watch_run(api, &run_ref(&options.run)?, json).await
}

pub(super) async fn watch_run(api: &Api, run: &RunRef, json: bool) -> Done {
    let (view, done) = follow(api, run, json, true).await?;
    if json {
        out::json(&view);
    }
    Ok(done)
}

/// As [`watch_run`], of a run that only this command knows. With `json` nothing is printed: the run is there to be printed.
pub(super) async fn watch_here(api: &Api, run: &RunRef, json: bool) -> Result<(RunView, ExitCode), Failure> {
    follow(api, run, json, false).await
}

async fn follow(api: &Api, run: &RunRef, json: bool, lasts: bool) -> Result<(RunView, ExitCode), Failure> {
    let mut view = shown(api.run(run).await?, lasts);
    let run = RunRef::numbered(&view.project, view.number);
    let mut screen = Screen::default();
    let mut news = None;
    while !view.state.is_end() {
        if !json && !out::quiet() {
            screen.draw(&view);
        }
        wait_for_news(api, &view.run, &mut news).await;
        view = shown(patiently(|| api.run(&run)).await?, lasts);
    }
    if !json {
        if !out::quiet() {
            screen.draw(&view);
        }
        end(api, &view, lasts).await?;
    }
    let done = if view.state == State::Passed { ExitCode::SUCCESS } else { failed() };
    Ok((view, done))
}

/// The run as it is shown: what a run that is soon gone says about itself must not send anyone there.
fn shown(mut run: RunView, lasts: bool) -> RunView {
    let jobs = run.jobs.iter_mut().flatten().filter(|_| !lasts);
    for (job, why) in jobs.filter_map(|job| Some((&job.id, job.why.as_mut()?))) {
        let there = format!("`ordotaxis start {} --job {job}` starts it", run.run);
        *why = why.replace(&there, &format!("`ordotaxis rehearse {job}` runs it"));
    }
    run
}

/// Returns when the run has changed, or it is time to redraw. Live events are read as they come; when the stream
/// breaks, asking now and then does as well until it is back.
async fn wait_for_news(api: &Api, run: &str, news: &mut Option<reqwest::Response>) {
    if news.is_none() {
        let request = api.request(Method::GET, &format!("live?run={run}")).header("accept", "text/event-stream");
        *news = timeout(REDRAW, api.send(request)).await.ok().and_then(Result::ok);
        return;
    }
    let Some(stream) = news else { return sleep(REDRAW).await };
    match timeout(REDRAW, stream.chunk()).await {
        Ok(Ok(Some(_))) => sleep(GATHER).await,
        Ok(_) => {
            *news = None;
            sleep(REDRAW).await;
        }
        Err(_) => {}
    }
}

#[derive(Default)]
struct Screen {
    /// Lines of the block that stands on the terminal.
    drawn: usize,
    told: HashMap<String, (State, Option<String>)>,
    begun: bool,
}

impl Screen {
    fn draw(&mut self, run: &RunView) {
        if out::live() { self.block(run) } else { self.lines(run) }
    }

    fn block(&mut self, run: &RunView) {
        let jobs = run.jobs.as_deref().unwrap_or_default();
        let width = out::width();
        let mut lines: Vec<String> = show::head(run);
        let room = out::height().saturating_sub(lines.len() + 2).max(3);
        lines.extend(chosen(jobs, room).map(|job| job_line(job, width)));
        if jobs.len() > room {
            lines.push(out::dim(&format!("  … {} more jobs", jobs.len() - room)));
        }
        // At one go, so that nothing flickers.
        let up = if self.drawn > 0 { format!("\u{1b}[{}A", self.drawn) } else { String::new() };
        let all: String = lines.iter().map(|line| format!("\u{1b}[2K{line}\n")).collect();
        written::text(&format!("{up}{all}\u{1b}[J"));
        self.drawn = lines.len();
    }

    fn lines(&mut self, run: &RunView) {
        if !std::mem::replace(&mut self.begun, true) {
            show::head(run).iter().for_each(out::print);
        }
        for job in run.jobs.iter().flatten() {
            // Reasons of those that wait change with every job that ends; a line for each change of state is enough.
            let why = if job.state.is_end() { job.why.clone() } else { None };
            let now = (job.state, why);
            if self.told.get(job.id.as_str()) != Some(&now) && job.state != State::Waiting {
                out::print(job_line(job, usize::MAX));
            }
            self.told.insert(job.id.to_string(), now);
        }
    }
}

/// The jobs that fit into the room: those that failed or run first, then what waits next, the order kept.
fn chosen(jobs: &[JobView], room: usize) -> impl Iterator<Item = &JobView> {
    let rank = |job: &JobView| match job.state {
        State::Failed | State::Lost | State::Refused => 0,
        State::Running => 1,
        State::Queued | State::Gated => 2,
        State::Waiting => 3,
        _ => 4,
    };
    let mut order: Vec<usize> = (0..jobs.len()).collect();
    order.sort_by_key(|&at| rank(&jobs[at]));
    order.truncate(room);
    order.sort_unstable();
    order.into_iter().map(|at| &jobs[at])
}

fn job_line(job: &JobView, width: usize) -> String {
    let name = format!("{:<NAME_WIDTH$}", out::cut(job.id.as_str(), NAME_WIDTH));
    let took = format!("{:>9}", show::took(job));
    let why = job.why.clone().unwrap_or_default();
    let room = width.saturating_sub(2 + 12 + name.chars().count() + took.chars().count() + 4);
    format!("  {} {name} {took}  {}", out::state(job.state), out::dim(&out::cut(&why, room)))
}

async fn end(api: &Api, run: &RunView, lasts: bool) -> Result<(), Failure> {
    for diagnostic in &run.diagnostics {
        out::print(format!("  {}:{}:{}: {}", diagnostic.file, diagnostic.line, diagnostic.column, diagnostic.message));
    }
    let first = run.jobs.iter().flatten().filter(|job| matches!(job.state, State::Failed | State::Lost) && !job.may_fail);
    if let Some(job) = first.min_by_key(|job| job.since) {
        let part = logs::part(api, &run.project, run.number, job.id.as_str(), None, &format!("tail={TAIL_BYTES}")).await?;
        let text = String::from_utf8_lossy(&part.bytes);
        let lines: Vec<&str> = text.lines().collect();
        out::print(format!("\n{}", out::bold(&format!("the end of {}'s log", job.id))));
        lines.iter().skip(lines.len().saturating_sub(TAIL_LINES)).for_each(|line| out::print(format!("  {line}")));
        let whole = if lasts { format!("ordotaxis logs {} {}", run.run, job.id) } else { "rehearse with --keep DIR".into() };
        out::remark(out::dim(&format!("  all of it: {whole}")));
    }
    let uncached = show::uncached(run);
    if out::live() && run.state == State::Passed {
        // The block that stands there begins with the sentence.
        uncached.iter().for_each(out::print);
        return Ok(());
    }
    let apart = if out::quiet() { "" } else { "\n" };
    out::print(format!("{apart}{} {}  {}", out::as_state(run.state, out::symbol(run.state)), out::bold(&run.run), run.sentence));
    uncached.iter().for_each(out::print);
    Ok(())
}
