//! Everything that can break, breaking: services and runners that are killed or stand still, a link that is slow, cut and
//! repeats itself, runners that come and go by the dozen, repositories that are away or never answer, stores that refuse,
//! full disks. Then the journal is read: what must never happen has not.
//!
//! Some seconds here; for minutes with `cargo xtask soak`. The seed is printed: ORDOTAXIS_SEED brings the same troubles.

use super::hooks::announce;
use super::order::{Silent, bare};
use super::{ORDOTAXIS, world_with};
use nix::sys::signal::Signal;
use ordotaxis_testbed::{Answer, Process, Proxy, RunnerOptions, Simulated, World, leased, leased_ahead, until};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const CONFIG: &str = "lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"1s\"\nfetch_tries = 12\nretry_pause = \"50ms\"\n";

pub(super) fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Forty jobs in stages, forgiving of losses; some want a turn that all runs share.
fn pipeline(round: usize) -> String {
    let stages = 4;
    let job = |n: usize| {
        let turn = if n % 7 == 3 { format!("turn = \"pier-{}\"\n", n % 2) } else { String::new() };
        let labels = if n.is_multiple_of(5) { "where = [\"real\"]\n" } else { "" };
        // What the real ones give goes through the store.
        let gives = if n.is_multiple_of(5) { "gives = { out = [\"out\"] }\n" } else { "" };
        format!(
            "[job.s{}.j{n}]\ncheckout = false\n{turn}{labels}{gives}retry = {{ times = 10, on = [\"lost\", \"failed\"] }}\n\
             steps = [\"sleep 0.0{}; echo {n} {round} | tee out\"]\n",
            n % stages,
            n % 9
        )
    };
    let jobs: String = (0..40).map(job).collect();
    format!("language = 1\n# {round}\norder = \"s0 > s1, s2 > s3\"\n[starts]\npush = [\"main\"]\novertake = false\n{jobs}")
}

/// Runners without processes that sign on, take jobs, sometimes vanish with one, sometimes say a result twice.
async fn come_and_go(url: String, link: String, invitations: Vec<String>, seed: u64, stop: Arc<AtomicBool>, lives: Arc<AtomicUsize>) {
    let mut tasks = tokio::task::JoinSet::new();
    for (number, invitation) in invitations.into_iter().enumerate() {
        let (url, link, stop, lives) = (url.clone(), link.clone(), stop.clone(), lives.clone());
        tasks.spawn(async move {
            let mut random = StdRng::seed_from_u64(seed + number as u64);
            let name = format!("sim-{number}");
            let Some(first) = Simulated::enrol(&url, &link, &invitation, &name).await else { return };
            let mut life = 0;
            while !stop.load(Ordering::Relaxed) {
                life += 1;
                lives.fetch_add(1, Ordering::Relaxed);
                live(&first.restarted(life), &mut random, &stop).await;
            }
        });
    }
    while tasks.join_next().await.is_some() {}
}

/// One life of such a runner.
async fn live(runner: &Simulated, random: &mut StdRng, stop: &AtomicBool) {
    if !matches!(runner.sign_on(1).await, Answer::Is(_)) {
        tokio::time::sleep(Duration::from_millis(50)).await;
        return;
    }
    for _ in 0..random.random_range(1..12) {
        if stop.load(Ordering::Relaxed) {
            return;
        }
        let claimed = tokio::time::timeout(Duration::from_secs(3), runner.claim(0)).await;
        let Ok((answer, _)) = claimed else { continue };
        let Some(attempt) = leased(&answer) else {
            if matches!(answer, Answer::GivenUp) {
                return;
            }
            continue;
        };
        tokio::time::sleep(Duration::from_millis(random.random_range(0..80))).await;
        let _ = runner.log(&attempt, 0, b"simulated\n".to_vec()).await;
        match random.random_range(0..10) {
            0 => return, // it vanishes
            1 => {
                // Silent for longer than a lease, then it says its result all the same.
                tokio::time::sleep(Duration::from_millis(2_600)).await;
                let _ = runner.finish(&attempt, 0, false).await;
            }
            2 => {
                let _ = runner.finish(&attempt, 0, false).await;
                let _ = runner.finish(&attempt, 0, false).await;
            }
            3..=5 => work_ahead(runner, random, attempt).await,
            _ => drop(runner.finish(&attempt, 0, false).await),
        }
    }
}

/// Quick jobs, one after the other, with one more in hand: that is begun, given back, or taken along when the runner vanishes.
async fn work_ahead(runner: &Simulated, random: &mut StdRng, mut attempt: String) {
    let mut hand: Option<(String, i64)> = None;
    for _ in 0..8 {
        if random.random_range(0..4) == 0
            && let Some((ahead, taken_at)) = hand.take()
        {
            let _ = runner.give_back(&ahead, 0, taken_at).await;
            if random.random_range(0..2) == 0 {
                let _ = runner.give_back(&ahead, 0, taken_at).await;
            }
        }
        let holding: Vec<String> = hand.iter().map(|(ahead, _)| ahead.clone()).collect();
        let answer = runner.finish_quick(&attempt, 0, &holding).await;
        let Some(next) = hand.take().map(|(ahead, _)| ahead).or(leased(&answer)) else { return };
        hand = leased_ahead(&answer);
        attempt = next;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_breaks_nothing_is_lost_or_done_twice() {
    let seed = number("ORDOTAXIS_SEED").unwrap_or_else(|| u64::from(rand::random::<u32>()));
    let seconds = number("ORDOTAXIS_SOAK").unwrap_or(8);
    println!("seed {seed}, {seconds} s");
    let mut random = StdRng::seed_from_u64(seed);
    let mut world = world_with(CONFIG).await;
    let repository = world.project("tidegauge").await;
    let data = world.folder.path().join("service");
    let slow = SlowRepository::start(&world).await;
    let (proxy, url) = Proxy::start(&world.url, seed).await;
    let options = || RunnerOptions { labels: &["real"], url: Some(&url), ..RunnerOptions::default() };
    let mut runners: Vec<(String, Option<Process>)> = Vec::new();
    for number in 1..=3 {
        runners.push((format!("runner-{number}"), Some(world.runner(options()).await)));
    }
    let mut invitations = Vec::new();
    for _ in 0..if seconds > 30 { 200 } else { 40 } {
        invitations.push(world.invitation().await);
    }
    let (stop, lives) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let crowd = tokio::spawn(come_and_go(world.url.clone(), url.clone(), invitations, seed, stop.clone(), lives.clone()));

    // For minutes: longer than a lease, too.
    let longest = if seconds > 30 { 2_500 } else { 400 };
    let (mut commits, mut killed, mut paused, mut refused, begun) = (Vec::new(), 0, 0, 0, Instant::now());
    while begun.elapsed() < Duration::from_secs(seconds) {
        commits.push(repository.push_pipeline(&pipeline(commits.len())));
        for _ in 0..4 {
            tokio::time::sleep(Duration::from_millis(random.random_range(100..500))).await;
            let moment = Duration::from_millis(random.random_range(50..longest));
            match random.random_range(0..9) {
                0 | 7 => {
                    world.kill_service();
                    world.start_service();
                    killed += 1;
                }
                1 | 2 => {
                    let at = random.random_range(0..runners.len());
                    let (name, process) = &mut runners[at];
                    if let Some(process) = process.take() {
                        process.kill();
                        killed += 1;
                    } else {
                        *process = Some(world.start_runner(name, &world.folder.path().join(&*name), &options()));
                    }
                }
                3 => {
                    pause(&world, moment).await;
                    paused += 1;
                }
                4 => {
                    let _away = Away::of(&bare(&world, "tidegauge"));
                    tokio::time::sleep(moment).await;
                    refused += 1;
                }
                5 => {
                    let _refusing = ReadOnly::over(&data.join("blobs"));
                    tokio::time::sleep(moment).await;
                    refused += 1;
                }
                6 => {
                    let _locked = locked(&data).await;
                    tokio::time::sleep(moment).await;
                    refused += 1;
                }
                _ => {}
            }
        }
    }
    // Calm: everything comes to its end.
    proxy.calm();
    stop.store(true, Ordering::Relaxed);
    for (name, process) in &mut runners {
        if process.is_none() {
            *process = Some(world.start_runner(name, &world.folder.path().join(&*name), &options()));
        }
    }
    crowd.await.expect("the crowd goes home");
    for commit in &commits {
        world.verdict("tidegauge", commit).await;
    }
    slow.answers(&world).await;
    println!(
        "{} runs, {killed} kills, {paused} pauses, {refused} times a repository or store refused, {} lives of runners, {} calls troubled",
        commits.len(),
        lives.load(Ordering::Relaxed),
        proxy.troubled()
    );
    assert!(proxy.troubled() > 0 && killed > 0, "there was no trouble");
    let told = check(&mut world, &commits).await;
    println!("{told}");
}

/// The service stands still for a moment.
pub(super) async fn pause(world: &World, moment: Duration) {
    let service = world.service.as_ref().expect("a service");
    service.signal(Signal::SIGSTOP);
    tokio::time::sleep(moment).await;
    service.signal(Signal::SIGCONT);
}

/// A project whose repository never answers, and of which the service is told all the same.
struct SlowRepository {
    commit: String,
    silent: Silent,
}

impl SlowRepository {
    async fn start(world: &World) -> SlowRepository {
        let repository = world.project("slow").await;
        repository.push_pipeline("language = 1\n[job.a.b]\nwhere = [\"real\"]\nsteps = [\"true\"]\n");
        let commit = repository.commit("Seen at last");
        repository.git(&["push", "--quiet", &bare(world, "slow").display().to_string(), "HEAD:main"]);
        let silent = Silent::in_place_of(bare(world, "slow").join("HEAD"));
        announce(world, "slow", "main", &commit).await;
        SlowRepository { commit, silent }
    }

    /// It answers at last, and nothing that was told of it is lost.
    async fn answers(self, world: &World) {
        drop(self.silent);
        assert_eq!(world.verdict("slow", &self.commit).await["state"], "passed");
    }
}

/// Something that is not where it was, until this is dropped.
pub(super) struct Away(PathBuf);

impl Away {
    pub(super) fn of(path: &Path) -> Away {
        std::fs::rename(path, path.with_extension("away")).expect("it goes");
        Away(path.to_owned())
    }
}

impl Drop for Away {
    fn drop(&mut self) {
        std::fs::rename(self.0.with_extension("away"), &self.0).expect("it comes back");
    }
}

/// A folder into which nothing can be written, until this is dropped.
pub(super) struct ReadOnly {
    _over: Unmount,
}

impl ReadOnly {
    /// It is made so aside, where nobody writes, and then laid over the folder: in its place, the kernel refuses it
    /// ("busy") as long as anybody has a file of it open for writing.
    pub(super) fn over(path: &Path) -> ReadOnly {
        std::fs::create_dir_all(path).expect("a folder");
        let aside = tempfile::tempdir().expect("a folder");
        let _aside = bound(path, aside.path());
        mounts(Command::new("mount").args(["-o", "remount,bind,ro"]).arg(aside.path()));
        ReadOnly { _over: bound(aside.path(), path) }
    }
}

/// What is at `from`, at `to` as well, until this is dropped.
fn bound(from: &Path, to: &Path) -> Unmount {
    mounts(Command::new("mount").arg("--bind").arg(from).arg(to));
    Unmount(to.to_owned())
}

fn mounts(command: &mut Command) {
    let mounted = command.output().expect("mount");
    assert!(mounted.status.success(), "this test mounts, as root: {}", String::from_utf8_lossy(&mounted.stderr));
}

/// Found by use: a store that was written in the moment it was to refuse made the test fail, once in some dozens.
#[test]
fn a_folder_that_is_being_written_refuses_all_the_same() {
    let folder = tempfile::tempdir().expect("a folder");
    let stop = AtomicBool::new(false);
    let written = AtomicUsize::new(0);
    std::thread::scope(|threads| {
        for number in 0..3 {
            let (stop, written, path) = (&stop, &written, folder.path().join(number.to_string()));
            threads.spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    let done = std::fs::File::create(&path).and_then(|file| file.sync_all());
                    written.fetch_add(usize::from(done.is_ok()), Ordering::Relaxed);
                }
            });
        }
        let stopped = Stop(&stop);
        for _ in 0..20 {
            let before = written.load(Ordering::Relaxed);
            let deadline = Instant::now() + Duration::from_secs(30);
            while written.load(Ordering::Relaxed) == before {
                assert!(Instant::now() < deadline, "it can be written again");
                std::thread::yield_now();
            }
            let _refusing = ReadOnly::over(folder.path());
            assert!(std::fs::write(folder.path().join("new"), "").is_err(), "it refuses");
        }
        drop(stopped);
    });
}

/// Tells the writers to stop, also when the test fails: they are waited for.
struct Stop<'a>(&'a AtomicBool);

impl Drop for Stop<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// The database, locked by another as long as this is kept.
pub(super) async fn locked(data: &Path) -> sqlx::Transaction<'static, sqlx::Sqlite> {
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(data.join("ordotaxis.db")).busy_timeout(Duration::from_secs(20));
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("the database");
    pool.begin_with("BEGIN IMMEDIATE").await.expect("its lock")
}

/// A service that stands still for longer than any lease loses no job, since it was not the runners that were silent.
#[tokio::test(flavor = "multi_thread")]
async fn no_pause_of_the_service_costs_a_job() {
    let (seed, pauses) = (u64::from(rand::random::<u32>()), if number("ORDOTAXIS_SOAK").is_some() { 100 } else { 5 });
    println!("seed {seed}, {pauses} pauses");
    let mut random = StdRng::seed_from_u64(seed);
    let world = world_with(CONFIG).await;
    let repository = world.project("tidegauge").await;
    let _runners = [world.runner(RunnerOptions::default()).await, world.runner(RunnerOptions::default()).await];
    let jobs: String = (0..20).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"sleep 0.{}; echo {n}\"]\n", n % 7)).collect();
    let mut commits = Vec::new();
    for round in 0..pauses {
        if round % 3 == 0 {
            commits
                .push(repository.push_pipeline(&format!("language = 1\n# {round}\n[starts]\npush = [\"main\"]\novertake = false\n{jobs}")));
        }
        tokio::time::sleep(Duration::from_millis(random.random_range(0..400))).await;
        pause(&world, Duration::from_millis(random.random_range(50..5_000))).await;
    }
    for commit in &commits {
        let run = world.verdict("tidegauge", commit).await;
        assert_eq!(run["state"], "passed", "{}", run["sentence"]);
        for job in run["jobs"].as_array().expect("jobs") {
            assert_eq!(job["attempts"].as_array().map(Vec::len), Some(1), "nothing was lost, nothing done twice: {job}");
        }
    }
}

/// What the journal, the attempts and the forge say of the runs.
async fn check(world: &mut World, commits: &[String]) -> String {
    let mut plans: HashMap<String, Vec<(String, Vec<String>)>> = HashMap::new();
    let mut ended_well = 0;
    for commit in commits {
        let run = world.verdict("tidegauge", commit).await;
        let name = run["run"].as_str().expect("a name").to_owned();
        for job in run["jobs"].as_array().expect("jobs") {
            let attempts = job["attempts"].as_array().expect("attempts");
            let passed = attempts.iter().filter(|attempt| attempt["state"] == "passed").count();
            assert!(passed <= 1, "a job passed twice: {job}");
            assert!(attempts.iter().all(|attempt| !attempt["ended_at"].is_null()), "an attempt is left open: {job}");
            let numbers: Vec<u64> = attempts.iter().filter_map(|attempt| attempt["number"].as_u64()).collect();
            assert_eq!(numbers, (1..=numbers.len() as u64).collect::<Vec<_>>(), "attempts are counted: {job}");
            if job["state"] == "passed" {
                assert_eq!(attempts.last().map(|attempt| &attempt["state"]), Some(&Value::from("passed")), "{job}");
                ended_well += 1;
            }
        }
        let plan: Value = world
            .http(reqwest::Method::GET, &format!("/api/v1/runs/{name}/plan"))
            .send()
            .await
            .expect("an answer")
            .json()
            .await
            .expect("JSON");
        let jobs = plan["jobs"].as_array().into_iter().flatten().map(|job| {
            let waits = job["waits_for"].as_array().into_iter().flatten().filter_map(|wait| wait["job"].as_str().map(str::to_owned));
            (job["id"].as_str().unwrap_or_default().to_owned(), waits.collect())
        });
        plans.insert(name, jobs.collect());
        statuses_in_order(world, commit).await;
    }
    world.kill_service();
    let events = journal(&world.folder.path().join("service")).await;
    let mut state: HashMap<(String, String), String> = HashMap::new();
    let mut turns: BTreeMap<String, HashSet<(String, String)>> = BTreeMap::new();
    for event in &events {
        let (Some(run), Some(job), Some(now)) = (event["run"].as_str(), event["job"].as_str(), event["state"].as_str()) else { continue };
        let key = (run.to_owned(), job.to_owned());
        let before = state.insert(key.clone(), now.to_owned()).unwrap_or_default();
        assert!(!is_end(&before) || before == now, "{run} {job} ended as {before} and then was {now}");
        if now == "running" && before != "running" {
            let waits =
                plans.get(run).and_then(|jobs| jobs.iter().find(|(id, _)| id == job)).map(|(_, waits)| waits.clone()).unwrap_or_default();
            for wait in waits {
                let on = state.get(&(run.to_owned(), wait.clone())).cloned().unwrap_or_default();
                assert!(is_end(&on), "{run} {job} ran while {wait} was {on}");
            }
        }
        let n: usize = job.split('j').next_back().and_then(|n| n.parse().ok()).unwrap_or(0);
        if n % 7 == 3 {
            let holders = turns.entry(format!("pier-{}", n % 2)).or_default();
            if now == "running" {
                holders.insert(key)
            } else {
                holders.remove(&key)
            };
            assert!(holders.len() <= 1, "a turn is held by {holders:?}");
        }
    }
    for ((run, job), now) in &state {
        assert!(is_end(now), "{run} {job} was left {now}");
    }
    assert!(ended_well > commits.len(), "hardly anything ran: {ended_well} jobs passed in {} runs", commits.len());
    format!("{} events read, {ended_well} jobs passed", events.len())
}

pub(super) fn is_end(state: &str) -> bool {
    !["", "waiting", "gated", "queued", "running"].contains(&state)
}

/// Every live event, oldest first.
pub(super) async fn journal(data: &Path) -> Vec<Value> {
    let records = ordotaxis_store::Records::open(data).await.expect("the database");
    let rows = records.events_after(0, i64::MAX).await.expect("the events");
    rows.iter().map(|row| serde_json::from_str(&row.body).expect("JSON")).collect()
}

/// What the forge was told of a commit never goes back: waiting, running, and one verdict at the end.
async fn statuses_in_order(world: &World, commit: &str) {
    let statuses = until("the last status", || async {
        let statuses = world.forge.statuses("tidegauge", commit);
        statuses.last().is_some_and(|status| !["pending", "running"].contains(&status.state.as_str())).then_some(statuses)
    })
    .await;
    let rank = |state: &str| match state {
        "pending" => 0,
        "running" => 1,
        _ => 2,
    };
    let ranks: Vec<u8> = statuses.iter().map(|status| rank(&status.state)).collect();
    assert!(ranks.is_sorted() && ranks.last() == Some(&2), "{:?}", statuses.iter().map(|status| &status.state).collect::<Vec<_>>());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_the_service_is_waited_out() {
    let folder = tempfile::tempdir().expect("a folder");
    let data = folder.path().join("service");
    std::fs::create_dir(&data).expect("a folder");
    mounts(Command::new("mount").args(["-t", "tmpfs", "-o", "size=24m", "tmpfs"]).arg(&data));
    let _gone = Unmount(data.clone());
    let world = World::start_in(ORDOTAXIS, CONFIG, folder).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let step = format!("while ! [ -e {} ]; do sleep 0.02; done; head -c 3000000 /dev/zero | tr '\\\\0' 'a'; echo end", go.display());
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"{step}\"]\n"));
    world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.b")["state"] == "running").await;
    let filler = data.join("filler");
    // As much as there is room for.
    let full = std::fs::write(&filler, vec![1; 32 << 20]);
    assert!(full.is_err(), "the disk is full");
    std::fs::write(&go, "").expect("a file");
    let health = || world.http(reqwest::Method::GET, "/healthz");
    until("the service to live on", || async { health().send().await.ok()?.status().is_success().then_some(()) }).await;
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    std::fs::remove_file(&filler).expect("room again");
    let run = world.verdict("tidegauge", &commit).await;
    let log = world.log(&run, "a.b").await;
    assert_eq!((run["state"].as_str(), log.len()), (Some("passed"), 3_000_004), "{run}");
}

/// A mount that goes when this is dropped.
struct Unmount(PathBuf);

impl Drop for Unmount {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}

/// Found by use: a service that was killed while it made its key left one that was none, and did not start any more.
#[test]
fn killed_at_its_first_start_a_service_starts_again() {
    let folder = tempfile::tempdir().expect("a folder");
    for round in 0..12u64 {
        let data = folder.path().join(round.to_string());
        let start = || {
            let mut command = Command::new(ORDOTAXIS);
            command.args(["serve", "--listen", "127.0.0.1:0", "--data"]).arg(&data);
            command
        };
        let mut child = start().stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().expect("it starts");
        let until = Instant::now() + Duration::from_millis(round * 8);
        while Instant::now() < until {
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().expect("killed");
        child.wait().expect("an end");
        let key = data.join("secrets.key");
        assert!(!key.exists() || std::fs::metadata(&key).expect("a file").len() == 32, "round {round}: half a key");
        let mut again = Process::start(&mut start(), folder.path(), "again", "serves at");
        again.signal(Signal::SIGTERM);
        let ended = again.ended(Duration::from_secs(30));
        assert!(ended.is_some_and(|status| status.success()), "round {round}: {}", again.said());
    }
}
