//! Everything that can break, breaking: killed services and runners, a link that is slow, cut and repeats itself, runners
//! that come and go by the dozen, full disks. Then the journal is read: what must never happen has not.
//!
//! Some seconds here; for minutes with `cargo xtask soak`. The seed is printed: ORDOTAXIS_SEED brings the same troubles.

use super::{ORDOTAXIS, world_with};
use nix::sys::signal::Signal;
use ordotaxis_testbed::{Answer, Process, Proxy, RunnerOptions, Simulated, World, leased, until};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const CONFIG: &str = "lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"1s\"\nfetch_tries = 5\nretry_pause = \"50ms\"\n";

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Forty jobs in stages, forgiving of losses; some want a turn that all runs share.
fn pipeline(round: usize) -> String {
    let stages = 4;
    let job = |n: usize| {
        let turn = if n % 7 == 3 { format!("turn = \"pier-{}\"\n", n % 2) } else { String::new() };
        let labels = if n.is_multiple_of(5) { "where = [\"real\"]\n" } else { "" };
        format!(
            "[job.s{}.j{n}]\ncheckout = false\n{turn}{labels}retry = {{ times = 10, on = [\"lost\", \"failed\"] }}\nsteps = [\"sleep 0.0{}; echo {n}\"]\n",
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
            _ => drop(runner.finish(&attempt, 0, false).await),
        }
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

    let (mut commits, mut killed, begun) = (Vec::new(), 0, Instant::now());
    while begun.elapsed() < Duration::from_secs(seconds) {
        commits.push(repository.push_pipeline(&pipeline(commits.len())));
        for _ in 0..4 {
            tokio::time::sleep(Duration::from_millis(random.random_range(100..500))).await;
            match random.random_range(0..5) {
                0 => {
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
                    let service = world.service.as_ref().expect("a service");
                    service.signal(Signal::SIGSTOP);
                    tokio::time::sleep(Duration::from_millis(random.random_range(50..2_500))).await;
                    service.signal(Signal::SIGCONT);
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
    println!(
        "{} runs, {killed} kills, {} lives of runners, {} calls troubled",
        commits.len(),
        lives.load(Ordering::Relaxed),
        proxy.troubled()
    );
    assert!(proxy.troubled() > 0 && killed > 0, "there was no trouble");
    let told = check(&mut world, &commits).await;
    println!("{told}");
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
    format!("{} events read, {ended_well} jobs passed", events.len())
}

fn is_end(state: &str) -> bool {
    !["", "waiting", "gated", "queued", "running"].contains(&state)
}

/// Every live event, oldest first.
async fn journal(data: &Path) -> Vec<Value> {
    let records = ordotaxis_store::Records::open(data).await.expect("the database");
    let rows = records.journal_after(0, i64::MAX).await.expect("the journal");
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
    let mounted = Command::new("mount").args(["-t", "tmpfs", "-o", "size=24m", "tmpfs"]).arg(&data).status().expect("mount");
    assert!(mounted.success(), "this test mounts a small disk: run it as root");
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

struct Unmount(std::path::PathBuf);

impl Drop for Unmount {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}
