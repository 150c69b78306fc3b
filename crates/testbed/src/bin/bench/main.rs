//! `cargo xtask bench`: each figure beside its physical limit, measured in the same run, alternating where two are
//! compared. Prints a Markdown table for `docs/figures.md`. Load is bounded and stays on this machine.

use ordotaxis_testbed::{Process, RunnerOptions, until};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

mod delivery;
mod depth;
mod forges;
mod kept;
mod measure;
mod page;
mod planning;
mod pools;
mod seeing;
mod told;

use measure::{end_of, median, ms, now_ns, ordotaxis, percentile, resident_mib, row, span_ms, world, xargs};

#[tokio::main]
async fn main() {
    let wanted: Vec<String> = std::env::args().skip(1).collect();
    if let [part, count] = wanted.as_slice()
        && let Some(part) = part.strip_prefix("peak-")
    {
        return planning::peak(part, count.parse().expect("a number of jobs"));
    }
    let chosen = |name: &str| wanted.is_empty() || wanted.iter().any(|one| one == name);
    println!("| figure | measured | its limit | |\n|---|---|---|---|");
    if chosen("plan") {
        planning::plans();
    }
    if chosen("check") {
        planning::check_process(&ordotaxis());
    }
    if chosen("start") {
        push_to_start().await;
    }
    if chosen("page") {
        page::slow_link().await;
    }
    if chosen("board") {
        page::busy_board().await;
    }
    if chosen("jobs") {
        many_jobs().await;
    }
    if chosen("log") {
        log_bytes().await;
    }
    if chosen("memory") {
        memory().await;
    }
    if chosen("ten-thousand") {
        depth::ten_thousand().await;
    }
    if chosen("runners") {
        depth::many_runners().await;
    }
    if chosen("fleet") {
        depth::fleet().await;
    }
    if chosen("pool") {
        pools::processes().await;
    }
    if chosen("cloud") {
        pools::cloud().await;
    }
    if chosen("slurm") {
        pools::slurm().await;
    }
    if chosen("scrape") {
        seeing::scrape().await;
    }
    if chosen("traces") {
        seeing::traces().await;
    }
    if chosen("backup") {
        seeing::backup().await;
    }
    if chosen("lost") {
        seeing::lost().await;
    }
    if chosen("followers") {
        depth::followers().await;
    }
    if chosen("intake") {
        depth::log_intake().await;
    }
    if chosen("line") {
        depth::line_latency().await;
    }
    if chosen("checkout") {
        depth::checkout().await;
    }
    if chosen("first-checkout") {
        depth::first_checkout().await;
    }
    if chosen("sandbox") {
        depth::sandbox().await;
    }
    if chosen("failures") {
        told::failures().await;
    }
    if chosen("content") {
        kept::content();
    }
    if chosen("report") {
        kept::report();
    }
    if chosen("artifacts") {
        kept::artifacts().await;
    }
    if chosen("trees") {
        kept::trees().await;
    }
    if chosen("hooks") {
        forges::hooks().await;
    }
    if chosen("queue") {
        forges::queue();
    }
    if chosen("polling") {
        forges::polling().await;
    }
    if chosen("delivery") {
        delivery::delivery().await;
    }
    if chosen("view") {
        depth::large_run_view().await;
    }
}

/// The forge's answer to a push → the first step's process, by the clock of both.
async fn push_to_start() {
    let world = world().await;
    let repository = world.project("bench").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let marks = world.folder.path().join("marks");
    std::fs::create_dir(&marks).expect("a folder");
    let (mut starts, mut floor) = (Vec::new(), Vec::new());
    for round in 0..25 {
        let mark = marks.join(round.to_string());
        repository.write("ordotaxis.toml", &format!("language = 1\n[job.a.b]\nsteps = [\"date +%s%N > {}\"]\n", mark.display()));
        repository.commit("a round");
        let folder = repository.folder.clone();
        let pushed = tokio::task::spawn_blocking(move || {
            let status = Command::new("git").args(["push", "--quiet", "origin", "HEAD"]).current_dir(folder).status();
            assert!(status.is_ok_and(|status| status.success()));
            now_ns()
        });
        let pushed = pushed.await.expect("a push");
        let started = until("the step", || async { std::fs::read_to_string(&mark).ok()?.trim().parse::<f64>().ok() }).await;
        starts.push((started - pushed) / 1e6);
        let folder = repository.folder.clone();
        floor.push(tokio::task::spawn_blocking(move || fetch_time(&folder)).await.expect("a fetch"));
    }
    // The first round makes the mirrors.
    let (starts, floor) = (&starts[1..], &floor[1..]);
    let measured = format!("p50 {:.0} ms, p95 {:.0} ms", percentile(starts, 0.5), percentile(starts, 0.95));
    let limit = format!("two `git fetch` of it: {:.0} ms", 2.0 * percentile(floor, 0.5));
    row(
        "push answered → first step's process",
        &measured,
        &limit,
        &format!("{:.1} times", percentile(starts, 0.5) / (2.0 * percentile(floor, 0.5))),
    );
}

/// Service and runner each fetch the commit from the forge: less than that is not possible.
fn fetch_time(folder: &std::path::Path) -> f64 {
    let begin = Instant::now();
    let status = Command::new("git").args(["fetch", "--quiet", "origin"]).current_dir(folder).status();
    assert!(status.is_ok_and(|status| status.success()));
    ms(begin.elapsed())
}

/// 1,000 one-line jobs over two slots, beside the same commands under xargs, in turn.
async fn many_jobs() {
    let world = world().await;
    let repository = world.project("bench").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let jobs: String = (0..1000).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"true\"]\n")).collect();
    repository.write("ordotaxis.toml", &format!("language = 1\n[starts]\npush = []\n{jobs}"));
    repository.commit("a thousand jobs");
    repository.push();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        theirs.push(tokio::task::spawn_blocking(|| xargs(1_000)).await.expect("xargs"));
        let run = world.json(&["start", "bench"]).await;
        let run = run["run"].as_str().unwrap_or_default().to_owned();
        let ended = end_of(&world, &run).await;
        assert_eq!(ended["state"], "passed", "{ended}");
        ours.push(span_ms(&ended));
    }
    let (first, limit) = (median(ours.clone()), median(theirs.clone()));
    let ratio = median(ours.iter().zip(&theirs).map(|(ours, theirs)| ours / theirs).collect());
    row(
        "1,000 one-line jobs over 2 slots, host",
        &format!("{first:.0} ms"),
        &format!("`xargs -P2 sh -c true` {limit:.0} ms"),
        &format!("{ratio:.1} times (aim: 3)"),
    );
}

/// A step that prints 200 MB, beside `cat` of the same bytes into a file.
async fn log_bytes() {
    const BYTES: u64 = 200_000_000;
    let world = world().await;
    let repository = world.project("bench").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let source = world.folder.path().join("source");
    let line = "the tide gauge at the lock gate says that all is well, and the water is where it should be\n";
    let count = usize::try_from(BYTES).unwrap_or(0) / line.len() + 1;
    std::fs::write(&source, &line.repeat(count).as_bytes()[..usize::try_from(BYTES).unwrap_or(0)]).expect("a file");
    repository.write(
        "ordotaxis.toml",
        &format!("language = 1\n[starts]\npush = []\n[job.a.print]\ncheckout = false\nsteps = [\"cat {}\"]\n", source.display()),
    );
    repository.commit("much to say");
    repository.push();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..5 {
        let target = world.folder.path().join(format!("copy-{round}"));
        let (from, to) = (source.clone(), target.clone());
        theirs.push(tokio::task::spawn_blocking(move || cat(&from, &to)).await.expect("cat"));
        let run = world.json(&["start", "bench"]).await;
        let ended = end_of(&world, run["run"].as_str().unwrap_or_default()).await;
        assert_eq!(ended["state"], "passed", "{ended}");
        ours.push(span_ms(&ended));
        let length = world
            .http(reqwest::Method::GET, &format!("/api/v1/runs/{}/jobs/a.print/log?limit=1", ended["run"].as_str().unwrap_or_default()));
        let length = length.send().await.expect("an answer").headers()["ordotaxis-log-length"].to_str().expect("text").to_owned();
        assert_eq!(length, BYTES.to_string());
    }
    #[expect(clippy::cast_precision_loss, reason = "megabytes")]
    let speed = |ms: f64| BYTES as f64 / 1e6 / (ms / 1000.0);
    let ratio = median(ours.iter().zip(&theirs).map(|(ours, theirs)| ours / theirs).collect());
    let (ours, theirs) = (speed(median(ours)), speed(median(theirs)));
    row(
        "log bytes from a step that prints 200 MB",
        &format!("{ours:.0} MB/s"),
        &format!("`cat` into a file {theirs:.0} MB/s"),
        &format!("{ratio:.1} times the time"),
    );
}

fn cat(from: &std::path::Path, to: &std::path::Path) -> f64 {
    let file = std::fs::File::create(to).expect("a file");
    let begin = Instant::now();
    // Through a pipe, as a step's output goes.
    let mut cat = Command::new("cat").arg(from).stdout(Stdio::piped()).spawn().expect("cat");
    let output = cat.stdout.take().expect("a pipe");
    let status = Command::new("cat").stdin(output).stdout(file).status();
    assert!(status.is_ok_and(|status| status.success()) && cat.wait().is_ok());
    ms(begin.elapsed())
}

/// What an idle service holds, beside the smallest process there is.
async fn memory() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    let service = world.service.as_ref().map(Process::id).map(resident_mib).unwrap_or_default();
    let mut sleep = Command::new("sleep").arg("5").spawn().expect("sleep");
    let least = resident_mib(sleep.id());
    let _ = sleep.kill();
    let _ = sleep.wait();
    row("memory of the idle service (one runner connected)", &format!("{service:.0} MiB"), &format!("`sleep` {least:.0} MiB"), "resident");
}
