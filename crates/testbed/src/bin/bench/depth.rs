//! Figures of running in depth: many runners, what follows what, logs, checkouts, fences.

use super::measure::{CONFIG, end_of, median, ms, now_ns, ordotaxis, percentile, resident_mib, row, span_ms, world, xargs};
use ordotaxis_testbed::{Process, RunnerOptions, Simulated, World, leased};
use serde_json::Value;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

fn jobs(count: usize, step: &str) -> String {
    (0..count).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"{step}\"]\n")).collect()
}

/// A repository whose runs begin by hand only.
async fn ready(world: &World, text: &str) {
    let repository = world.project("bench").await;
    repository.write("ordotaxis.toml", &format!("language = 1\n[starts]\npush = []\n{text}"));
    repository.commit("to be measured");
    repository.push();
}

/// 10,000 one-line jobs over two slots beside the same under xargs; and what the service holds meanwhile.
pub(super) async fn ten_thousand() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    ready(&world, &jobs(10_000, "true")).await;
    let service = world.service.as_ref().map(Process::id).unwrap_or_default();
    let before = resident_mib(service);
    let theirs = tokio::task::spawn_blocking(|| xargs(10_000)).await.expect("xargs");
    let run = world.json(&["start", "bench"]).await;
    let ended = end_of(&world, run["run"].as_str().unwrap_or_default()).await;
    assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
    let ours = span_ms(&ended);
    let at_once = resident_mib(service);
    let after = memory_at_rest(service, before + 10.0).await;
    let limit = format!("`xargs -P2 sh -c true` {theirs:.0} ms");
    row("10,000 one-line jobs over 2 slots, host", &format!("{ours:.0} ms"), &limit, &format!("{:.1} times (aim: 3)", ours / theirs));
    row(
        "memory of the service after a run of 10,000 jobs",
        &format!("{after:.0} MiB (right after it {at_once:.0} MiB)"),
        &format!("idle before it {before:.0} MiB"),
        "resident; aim: within 10 MiB",
    );
}

/// What a process holds when it is at rest, in MiB: what is freed goes back to the system a little later, plans that nobody asks
/// for after a minute. Waits up to two minutes, less when `enough` is reached.
async fn memory_at_rest(process: u32, enough: f64) -> f64 {
    let end = Instant::now() + Duration::from_secs(120);
    while Instant::now() < end && resident_mib(process) > enough {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    resident_mib(process)
}

/// How long a job of a simulated runner takes, in milliseconds: no time at all, or about a second.
const NO_TIME: std::ops::Range<u64> = 0..1;
const A_SECOND: std::ops::Range<u64> = 500..1_500;

/// 200 runners without processes take 10,000 jobs.
pub(super) async fn many_runners() {
    simulated(200, 10_000, &jobs(10_000, "true"), NO_TIME).await;
}

/// 2,000 runners without processes take 100,000 jobs: as many as one pipeline may have. With jobs that take no time all
/// runners wait in line for the service, so how long a claim takes says no more than how many jobs a second there are.
pub(super) async fn fleet() {
    let numbers: Vec<String> = (0..100).map(|n| n.to_string()).collect();
    let each = numbers.join(", ");
    let job = |n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"true\"]\neach = {{ x = [{each}], y = [{each}] }}\n");
    let text = (0..10).map(job).collect::<String>();
    simulated(2_000, 100_000, &text, A_SECOND).await;
    simulated(2_000, 100_000, &text, NO_TIME).await;
}

async fn simulated(runners: usize, count: usize, text: &str, job_ms: std::ops::Range<u64>) {
    let world = world().await;
    ready(&world, text).await;
    let mut fleet = Vec::new();
    for number in 0..runners {
        let invitation = world.invitation().await;
        let runner = Simulated::enrol(&world.url, &world.url, &invitation, &format!("sim-{number}")).await.expect("a runner");
        runner.sign_on(1).await;
        fleet.push(runner);
    }
    let run = world.json(&["start", "bench"]).await;
    let run = run["run"].as_str().unwrap_or_default().to_owned();
    // Each runner's first claim apart: all of them come at the same moment.
    let (first, later) = (Arc::new(Mutex::new(Vec::new())), Arc::new(Mutex::new(Vec::new())));
    let done = Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let begin = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for runner in fleet {
        let (first, later, done, job_ms) = (first.clone(), later.clone(), done.clone(), job_ms.clone());
        tasks.spawn(async move {
            let mut list = &first;
            while done.load(std::sync::atomic::Ordering::Relaxed) < count {
                let claim = tokio::time::timeout(Duration::from_secs(2), runner.claim(0)).await;
                let Ok((answer, took)) = claim else { continue };
                let Some(attempt) = leased(&answer) else { continue };
                list.lock().expect("a list").push(ms(took));
                list = &later;
                if job_ms != NO_TIME {
                    tokio::time::sleep(Duration::from_millis(rand::random_range(job_ms.clone()))).await;
                }
                runner.finish(&attempt, 0, false).await;
                done.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            }
        });
    }
    let ended = end_of(&world, &run).await;
    let seconds = begin.elapsed().as_secs_f64();
    while tasks.join_next().await.is_some() {}
    assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
    let (first, later) = (first.lock().expect("a list").clone(), later.lock().expect("a list").clone());
    let all = [&first[..], &later[..]].concat();
    #[expect(clippy::cast_precision_loss, reason = "counts stay far below where that matters")]
    let rate = count as f64 / seconds;
    row(
        &format!(
            "{runners} simulated runners, {count} jobs of {} to {} ms, each claimed and ended by calls of its own",
            job_ms.start,
            job_ms.end - 1
        ),
        &format!("{rate:.0} jobs/s"),
        "SQLite alone: 6,500 transactions/s (one write each, synchronous)",
        &format!(
            "claim p50 {:.0} ms, p99 {:.0} ms, {runners} at a time (aim: 250 ms); each runner's first, all at once, p50 {:.0} ms, p99 {:.0} ms; the others p99 {:.0} ms",
            percentile(&all, 0.5),
            percentile(&all, 0.99),
            percentile(&first, 0.5),
            percentile(&first, 0.99),
            percentile(&later, 0.99)
        ),
    );
}

/// From a job's last moment to its follower's first step, by the clock of both steps.
pub(super) async fn followers() {
    let world = world().await;
    let marks = world.folder.path().join("marks");
    std::fs::create_dir(&marks).expect("a folder");
    let chain: String = (0..40)
        .map(|n| {
            let after = if n == 0 { String::new() } else { format!("after = [\"a.j{}\"]\n", n - 1) };
            let mark = marks.display();
            format!("[job.a.j{n}]\ncheckout = false\n{after}steps = [\"date +%s%N > {mark}/in-{n}; date +%s%N > {mark}/out-{n}\"]\n")
        })
        .collect();
    ready(&world, &chain).await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let run = world.json(&["start", "bench"]).await;
    let ended = end_of(&world, run["run"].as_str().unwrap_or_default()).await;
    assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
    let mark = |name: String| -> f64 { std::fs::read_to_string(marks.join(name)).expect("a mark").trim().parse().expect("a time") };
    let gaps: Vec<f64> = (1..40).map(|n| (mark(format!("in-{n}")) - mark(format!("out-{}", n - 1))) / 1e6).collect();
    let floor: Vec<f64> = (0..40).map(|_| spawn_ms()).collect();
    row(
        "a job's end → its follower's first step",
        &format!("p50 {:.1} ms, p95 {:.1} ms", percentile(&gaps, 0.5), percentile(&gaps, 0.95)),
        &format!("starting `sh -c date` {:.1} ms", percentile(&floor, 0.5)),
        "aim: p50 15 ms",
    );
}

fn spawn_ms() -> f64 {
    let begin = Instant::now();
    let status = Command::new("sh").args(["-c", "date +%s%N"]).stdout(Stdio::null()).status();
    assert!(status.is_ok_and(|status| status.success()));
    ms(begin.elapsed())
}

/// What the service takes in of logs, from 1 and from 8 attempts, in pieces as runners send them.
pub(super) async fn log_intake() {
    const PIECE: usize = 1 << 20;
    const EACH: usize = 200;
    let world = world().await;
    ready(&world, &jobs(9, "true")).await;
    let invitation = world.invitation().await;
    let runner = Simulated::enrol(&world.url, &world.url, &invitation, "sim").await.expect("a runner");
    runner.sign_on(9).await;
    world.json(&["start", "bench"]).await;
    let mut attempts = Vec::new();
    for slot in 0..9 {
        attempts.push(leased(&runner.claim(slot).await.0).expect("a lease"));
    }
    let line = b"the tide gauge at the lock gate says that all is well, and the water is where it should be\n";
    let piece: Vec<u8> = line.iter().copied().cycle().take(PIECE).collect();
    let alone = std::mem::take(&mut attempts[8]);
    let mut rates = Vec::new();
    for group in [vec![alone], attempts[..8].to_vec()] {
        let count = group.len();
        let each = EACH / count;
        let begin = Instant::now();
        let mut tasks = tokio::task::JoinSet::new();
        for attempt in group {
            let (runner, piece) = (runner.clone(), piece.clone());
            tasks.spawn(async move {
                for number in 0..each {
                    runner.log(&attempt, (number * PIECE) as u64, piece.clone()).await.expect("an answer");
                }
            });
        }
        while tasks.join_next().await.is_some() {}
        #[expect(clippy::cast_precision_loss, reason = "megabytes")]
        rates.push((each * count * PIECE) as f64 / 1e6 / begin.elapsed().as_secs_f64());
    }
    let folder = world.folder.path().to_owned();
    let limit = tokio::task::spawn_blocking(move || write_rate(&folder, EACH)).await.expect("a rate");
    row(
        "log intake, in pieces of 1 MiB",
        &format!("1 job {:.0} MB/s, 8 jobs {:.0} MB/s", rates[0], rates[1]),
        &format!("`cat >` through a pipe {limit:.0} MB/s"),
        &format!("{:.1} and {:.1} of it", rates[0] / limit, rates[1] / limit),
    );
}

fn write_rate(folder: &std::path::Path, mib: usize) -> f64 {
    let to = std::fs::File::create(folder.join("sink")).expect("a file");
    let begin = Instant::now();
    let mut from = Command::new("head").args(["-c", &format!("{}", mib << 20), "/dev/zero"]).stdout(Stdio::piped()).spawn().expect("head");
    let status = Command::new("cat").stdin(from.stdout.take().expect("a pipe")).stdout(to).status();
    assert!(status.is_ok_and(|status| status.success()) && from.wait().is_ok());
    #[expect(clippy::cast_precision_loss, reason = "megabytes")]
    let rate = (mib << 20) as f64 / 1e6 / begin.elapsed().as_secs_f64();
    rate
}

/// A line printed → seen by a client that follows, by the clock of both.
pub(super) async fn line_latency() {
    let world = world().await;
    ready(&world, "[job.a.say]\ncheckout = false\nsteps = [\"for n in $(seq 60); do date +%s%N; sleep 0.05; done\"]\n").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let run = world.json(&["start", "bench"]).await;
    let run = run["run"].as_str().unwrap_or_default().to_owned();
    let mut command = world.client();
    command.args(["logs", &run, "a.say", "--follow"]).stdout(Stdio::piped());
    let seen = tokio::task::spawn_blocking(move || {
        use std::io::BufRead;
        let mut child = command.spawn().expect("the client starts");
        let lines = std::io::BufReader::new(child.stdout.take().expect("a pipe")).lines();
        let seen: Vec<f64> = lines.map_while(Result::ok).filter_map(|line| Some((now_ns() - line.parse::<f64>().ok()?) / 1e6)).collect();
        let _ = child.wait();
        seen
    });
    let seen = seen.await.expect("lines");
    // The first was printed before the client was there.
    let seen = &seen[5..];
    row(
        "a log line printed → seen by `logs --follow`",
        &format!("p50 {:.1} ms, p99 {:.1} ms", percentile(seen, 0.5), percentile(seen, 0.99)),
        "a pipe: under 0.1 ms",
        "",
    );
}

/// A clean checkout of 5,000 files on a warm runner beside `git worktree add`.
pub(super) async fn checkout() {
    let world = world().await;
    let repository = world.project("bench").await;
    for n in 0..5_000 {
        repository.write(&format!("src/{}/{n}.txt", n % 50), &format!("{n} a line of the survey\n").repeat(400));
    }
    repository.write("ordotaxis.toml", "language = 1\n[starts]\npush = []\n[job.a.b]\nsteps = [\"true\"]\n");
    repository.commit("many files");
    repository.push();
    let _runner = world.runner(RunnerOptions::default()).await;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..6 {
        let run = world.json(&["start", "bench"]).await;
        let name = run["run"].as_str().unwrap_or_default().to_owned();
        end_of(&world, &name).await;
        let shown = world.json(&["show", &name]).await;
        let phase = &World::job(&shown, "a.b")["attempts"][0]["phases"][0];
        let (source, target) = (repository.folder.clone(), world.folder.path().join(format!("tree-{round}")));
        let worktree = tokio::task::spawn_blocking(move || {
            let begin = Instant::now();
            let status = Command::new("git").args(["worktree", "add", "--quiet", "--detach"]).arg(target).current_dir(source).status();
            assert!(status.is_ok_and(|status| status.success()));
            ms(begin.elapsed())
        });
        // The first unpacks the commit; from then on the runner is warm.
        if round > 0 {
            ours.push(phase["duration_ms"].as_f64().expect("a duration"));
            theirs.push(worktree.await.expect("a tree"));
        } else {
            let _ = worktree.await;
        }
    }
    let (ours, theirs) = (median(ours), median(theirs));
    let note = format!("{:.2} of it (aim: 0.2)", ours / theirs);
    row("clean checkout of 5,000 files, warm runner", &format!("{ours:.0} ms"), &format!("`git worktree add` {theirs:.0} ms"), &note);
}

/// What a runner that has nothing takes for its first checkout: 20,000 files, 5,000 commits. Beside it a clone of the newest
/// commit from the forge, in turn, each time to a new place.
pub(super) async fn first_checkout() {
    let world = world().await;
    let repository = world.project("bench").await;
    for n in 0..20_000 {
        repository.write(&format!("src/{}/{n}.txt", n % 200), &format!("{n} a line of the survey\n").repeat(40));
    }
    repository.write("ordotaxis.toml", "language = 1\n[starts]\npush = []\n[job.a.b]\nsteps = [\"true\"]\n");
    repository.commit("many files");
    many_commits(&repository.folder, 5_000);
    repository.push();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..5 {
        let runner = world.runner(RunnerOptions::default()).await;
        let run = world.json(&["start", "bench"]).await;
        let name = run["run"].as_str().unwrap_or_default().to_owned();
        end_of(&world, &name).await;
        let shown = world.json(&["show", &name]).await;
        ours.push(World::job(&shown, "a.b")["attempts"][0]["phases"][0]["duration_ms"].as_f64().expect("a duration"));
        runner.kill();
        let (url, target) = (format!("{}/git/bench.git", world.forge_url), world.folder.path().join(format!("clone-{round}")));
        let clone = tokio::task::spawn_blocking(move || {
            let begin = Instant::now();
            let status = Command::new("git").args(["clone", "--quiet", "--depth", "1", &url]).arg(target).status();
            assert!(status.is_ok_and(|status| status.success()));
            ms(begin.elapsed())
        });
        theirs.push(clone.await.expect("a clone"));
    }
    let ratio = median(ours.iter().zip(&theirs).map(|(ours, theirs)| ours / theirs).collect());
    let (ours, theirs) = (median(ours), median(theirs));
    let note = format!("{ratio:.2} of it by the median of pairs (aim: 0.6)");
    row("first checkout of 20,000 files, 5,000 commits", &format!("{ours:.0} ms"), &format!("`git clone --depth 1` {theirs:.0} ms"), &note);
}

/// So many more commits, each with one line more in one file.
fn many_commits(folder: &std::path::Path, count: u32) {
    use std::io::Write;
    let head = Command::new("git").args(["rev-parse", "HEAD"]).current_dir(folder).output().expect("git starts").stdout;
    let mut stream = Vec::new();
    for n in 0..count {
        let text = format!("{n}\n");
        let from = if n == 0 { format!("from {}", String::from_utf8_lossy(&head)) } else { String::new() };
        let commit =
            format!("commit refs/heads/main\ncommitter Ines <ines@saltmarsh.example> {} +0000\ndata 6\na step\n{from}", 1_700_000_000 + n);
        stream.extend(format!("{commit}M 644 inline counter\ndata {}\n{text}\n", text.len()).into_bytes());
    }
    let mut import = Command::new("git")
        .args(["fast-import", "--quiet", "--force"])
        .current_dir(folder)
        .stdin(std::process::Stdio::piped())
        .spawn()
        .expect("git starts");
    import.stdin.take().expect("its input").write_all(&stream).expect("all of it");
    assert!(import.wait().is_ok_and(|status| status.success()));
}

/// How many jobs, or fences, are timed at a time.
const FENCED: u32 = 200;

/// What the closed fence costs a job over 2 slots, beside bare bubblewrap with the same name spaces; in turn, five times.
pub(super) async fn sandbox() {
    let mut worlds = Vec::new();
    for (isolation, network) in [("host", true), ("sandbox", false), ("sandbox", true)] {
        let world = World::start_with(ordotaxis(), CONFIG).await;
        let pipeline = jobs(FENCED as usize, "true").replace("checkout = false", &format!("checkout = false\nnetwork = {network}"));
        ready(&world, &pipeline).await;
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        worlds.push((world, runner));
    }
    let (mut closed, mut open, mut bare) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..6 {
        let mut each = Vec::new();
        for (world, _) in &worlds {
            let run = world.json(&["start", "bench"]).await;
            let ended = end_of(world, run["run"].as_str().unwrap_or_default()).await;
            assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
            each.push(span_ms(&ended) / f64::from(FENCED));
        }
        let [fence, nothing] = [BARE, ""].map(|fence| tokio::task::spawn_blocking(move || over_two_slots(fence)));
        let alone = fence.await.expect("bubblewrap") - nothing.await.expect("a shell");
        // The first round warms up.
        if round > 0 {
            closed.push(each[1] - each[0]);
            open.push(each[2] - each[0]);
            bare.push(alone);
        }
    }
    let times = |own: &[f64]| median(own.iter().zip(&bare).map(|(own, bare)| own / bare).collect());
    for (what, cost) in [("no network", &closed), ("a network of its own", &open)] {
        row(
            &format!("what the fence with {what} costs a job, over 2 slots"),
            &format!("{:.1} ms", median(cost.clone())),
            &format!("bare bubblewrap with the same name spaces {:.1} ms", median(bare.clone())),
            &format!("{:.1} times (aim: 1.5, and 8 ms)", times(cost)),
        );
    }
}

/// The whole machine read-only, with name spaces as a job's.
const BARE: &str = "bwrap --ro-bind / / --dev /dev --proc /proc --tmpfs /tmp --unshare-user --uid 1000 --gid 1000 --unshare-pid --unshare-ipc \
    --unshare-uts --unshare-net --disable-userns --die-with-parent --new-session --cap-drop ALL --clearenv";

/// Milliseconds for each of many shells that do nothing, two at a time.
fn over_two_slots(fence: &str) -> f64 {
    let begin = Instant::now();
    let status = Command::new("sh").args(["-c", &format!("seq {FENCED} | xargs -P2 -I{{}} {fence} /bin/sh -c true")]).status();
    assert!(status.is_ok_and(|status| status.success()));
    ms(begin.elapsed()) / f64::from(FENCED)
}

/// How long the whole view of a run of 1,000 jobs takes, as the console asks for it.
pub(super) async fn large_run_view() {
    for count in [1_000, 10_000] {
        let world = world().await;
        ready(&world, &jobs(count, "true")).await;
        let _runner = world.runner(RunnerOptions::default()).await;
        let run = world.json(&["start", "bench"]).await;
        let name = run["run"].as_str().unwrap_or_default().to_owned();
        end_of(&world, &name).await;
        let (mut whole, mut shown) = (Vec::new(), Vec::new());
        let mut bytes = 0;
        for _ in 0..10 {
            let begin = Instant::now();
            let answer = world.http(reqwest::Method::GET, &format!("/api/v1/runs/{name}")).send().await.expect("an answer");
            let body = answer.bytes().await.expect("a body");
            whole.push(ms(begin.elapsed()));
            bytes = body.len();
            let run: Value = serde_json::from_slice(&body).expect("JSON");
            assert_eq!(run["jobs"].as_array().map(Vec::len), Some(count));
            let begin = Instant::now();
            assert_eq!(world.run(&["show", &name]).await.code, 0);
            shown.push(ms(begin.elapsed()));
        }
        row(
            &format!("a run of {count} jobs that has ended, answered whole over HTTP; by `ordotaxis show`"),
            &format!("{:.0} ms; {:.0} ms", median(whole), median(shown)),
            "",
            &format!("{} KiB of JSON; aim for 10,000: 100 ms", bytes / 1024),
        );
    }
}
