//! What comes from forges and goes on by itself: hooks answered, repositories looked at, and a landing queue in simulated time.

use super::measure::{ms, ordotaxis, percentile, row};
use ordotaxis_core::landing::{Effect, Event, Manner, Offered, Queue};
use ordotaxis_core::notice::{webhook_key, webhook_signature};
use ordotaxis_testbed::World;
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

const PIPELINE: &str = "language = 1\n[starts]\npush = []\n[job.a.b]\nsteps = [\"true\"]\n";

/// Hooks at a steady pace, beside what SQLite alone takes to write such a row down.
pub(super) async fn hooks() {
    const COUNT: u32 = 1_500;
    let world = World::start_with(ordotaxis(), "beat = \"5s\"\n").await;
    let repository = world.project("bench").await;
    let commit = repository.push_pipeline(PIPELINE);
    let (secret, _) = world.forge_token("bench");
    let key = webhook_key(&secret).expect("the hook's key");
    let (url, client) = (format!("{}/hooks/v1/bench", world.url), reqwest::Client::new());
    let body = json!({ "event": "push", "branch": "main", "commit": commit, "before": "0".repeat(40), "by": "odd" }).to_string();
    let mut pace = tokio::time::interval(Duration::from_millis(20));
    let mut calls = tokio::task::JoinSet::new();
    for number in 0..COUNT {
        pace.tick().await;
        let (id, time) = (format!("bench-{number}"), jiff::Timestamp::now().as_second());
        let signature = webhook_signature(&key, &id, time, body.as_bytes());
        let call = client.post(&url).header("content-type", "application/json").header("webhook-id", id);
        let call = call.header("webhook-timestamp", time.to_string()).header("webhook-signature", signature).body(body.clone());
        calls.spawn(async move {
            let begin = Instant::now();
            let answer = call.send().await.expect("an answer");
            assert!(answer.status().is_success(), "{answer:?}");
            ms(begin.elapsed())
        });
    }
    let waits = calls.join_all().await;
    let alone = rows_alone(world.folder.path(), &body).await;
    row(
        "a hook answered, 50 a second for 30 s",
        &format!("p50 {:.1} ms, p99 {:.1} ms", percentile(&waits, 0.5), percentile(&waits, 0.99)),
        &format!("one row into SQLite, on the disk: p50 {:.1} ms, p99 {:.1} ms", percentile(&alone, 0.5), percentile(&alone, 0.99)),
        "aim: p50 5 ms, p99 20 ms",
    );
}

/// How long one row takes that is on the disk afterwards, a transaction each.
async fn rows_alone(folder: &Path, text: &str) -> Vec<f64> {
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(folder.join("alone.db"))
        .create_if_missing(true)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full);
    let pool = sqlx::sqlite::SqlitePoolOptions::new().max_connections(1).connect_with(options).await.expect("a database");
    sqlx::query("CREATE TABLE deliveries (id INTEGER PRIMARY KEY, body TEXT)").execute(&pool).await.expect("a table");
    let mut took = Vec::new();
    for _ in 0..500 {
        let begin = Instant::now();
        sqlx::query("INSERT INTO deliveries (body) VALUES (?)").bind(text).execute(&pool).await.expect("a row");
        took.push(ms(begin.elapsed()));
    }
    took
}

/// Many plain repositories, each looked at once a minute: what that costs beside one `git ls-remote` each.
pub(super) async fn polling() {
    const REPOSITORIES: usize = 500;
    let world = World::start_with(ordotaxis(), "beat = \"5s\"\n").await;
    let repository = world.project("first").await;
    repository.push_pipeline(PIPELINE);
    let place = world.folder.path().join("plain");
    std::fs::create_dir(&place).expect("a folder");
    let one = place.join("0.git");
    let made = Command::new("git").args(["clone", "--quiet", "--bare"]).arg(&repository.folder).arg(&one).status();
    assert!(made.is_ok_and(|status| status.success()));
    for number in 0..REPOSITORIES {
        let path = place.join(format!("{number}.git"));
        if number > 0 {
            let copied = Command::new("cp").arg("-R").arg(&one).arg(&path).status();
            assert!(copied.is_ok_and(|status| status.success()));
        }
        let name = format!("plain-{number}");
        let add = world.http(Method::POST, "/api/v1/projects").json(&json!({ "name": name, "git_url": path.display().to_string() }));
        let added = add.send().await.expect("an answer");
        assert!(added.status().is_success(), "{}", added.text().await.unwrap_or_default());
        let poll = world.http(Method::PUT, &format!("/api/v1/projects/{name}/poll")).json(&json!({ "poll_ms": 60_000 }));
        assert!(poll.send().await.expect("an answer").status().is_success());
    }
    // All were looked at once, and each has its own moment by then.
    tokio::time::sleep(Duration::from_secs(100)).await;
    let id = world.service.as_ref().map(ordotaxis_testbed::Process::id).expect("a service");
    let (before, processes) = (cpu_seconds(id), processes_begun());
    tokio::time::sleep(Duration::from_secs(60)).await;
    let (took, begun) = (cpu_seconds(id) - before, processes_begun() - processes);
    let looked = looked_within(&world, Duration::from_secs(75)).await;
    let begin = Instant::now();
    for number in 0..50 {
        let looked = Command::new("git").args(["ls-remote", "--quiet"]).arg(place.join(format!("{number}.git"))).output();
        assert!(looked.is_ok_and(|output| output.status.success()));
    }
    let each = begin.elapsed().as_secs_f64() / 50.0;
    row(
        "500 plain repositories on this disk, each looked at once a minute",
        &format!("{:.1} s of one core a minute, {begun} processes; {looked} of 500 were looked at within 75 s", took),
        &format!("500 `git ls-remote` {:.1} s", each * 500.0),
        &format!("{:.1} times", took / (each * 500.0)),
    );
}

/// Processor time of a process and of all its children that have ended.
fn cpu_seconds(id: u32) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or_default().split(' ').collect();
    let ticks = |at: usize| fields.get(at).and_then(|text| text.parse::<f64>().ok()).unwrap_or_default();
    (ticks(11) + ticks(12) + ticks(13) + ticks(14)) / 100.0
}

/// How many processes this machine has begun.
fn processes_begun() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    stat.lines().find_map(|line| line.strip_prefix("processes ")).and_then(|text| text.trim().parse().ok()).unwrap_or_default()
}

async fn looked_within(world: &World, span: Duration) -> usize {
    let projects: Value = world.http(Method::GET, "/api/v1/projects").send().await.expect("an answer").json().await.expect("JSON");
    let since = jiff::Timestamp::now() - span;
    let lately = |one: &&Value| one["looked_at"].as_str().and_then(|at| at.parse::<jiff::Timestamp>().ok()).is_some_and(|at| at > since);
    projects.as_array().into_iter().flatten().filter(lately).count()
}

/// How a simulated queue did.
struct Simulated {
    hours: f64,
    landed: usize,
    trials: usize,
}

/// 200 proposals, of which every tenth fails and every twentieth conflicts with the branch; a trial takes about ten minutes.
pub(super) fn queue() {
    const PROPOSALS: usize = 200;
    let one = simulate(PROPOSALS, 1, false);
    for ahead in [4, 8] {
        // Whoever keeps so many trials going and is told with each failure whose fault it is can do with no fewer.
        let (many, told) = (simulate(PROPOSALS, ahead, false), simulate(PROPOSALS, ahead, true));
        #[expect(clippy::cast_precision_loss, reason = "a few hundred")]
        let (rate, alone) = (many.landed as f64 / many.hours, one.landed as f64 / one.hours);
        #[expect(clippy::cast_precision_loss, reason = "a few hundred")]
        let (each, ratio) = (many.trials as f64 / many.landed as f64, many.trials as f64 / told.trials as f64);
        row(
            &format!("a landing queue of 200 proposals, 10% failing, 5% conflicting, {ahead} trials at once, simulated time"),
            &format!("{rate:.1} landed an hour, {} trials, {each:.2} each", many.trials),
            &format!("one at a time {alone:.1} an hour, {} trials; told whose fault each failure is {} trials", one.trials, told.trials),
            &format!("{:.1} times as fast; {ratio:.2} times the trials (aim: 1.25)", rate / alone),
        );
    }
}

fn fails(number: usize) -> bool {
    number % 10 == 7
}

fn conflicts(number: usize) -> bool {
    number % 20 == 13
}

/// Minutes that a trial takes: eight to twelve, the same in every simulation.
fn minutes(trial: u64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "below 41")]
    let part = (trial.wrapping_mul(2_654_435_761) % 41) as f64;
    8.0 + part / 10.0
}

/// `told`: with each failure it is known at once whether what is ahead of it is well.
fn simulate(proposals: usize, ahead: usize, told: bool) -> Simulated {
    let mut queue = Queue::new("m0", Manner { ahead, together: 1 });
    let mut upon: HashMap<String, String> = HashMap::new();
    let mut holds: HashMap<String, Vec<usize>> = HashMap::from([("m0".to_owned(), Vec::new())]);
    // By the moment in hundredths of a minute, then by their order.
    let mut due: BTreeMap<(u64, u64), Event> = BTreeMap::new();
    for number in 0..proposals {
        let offered = Offered { proposal: number.to_string(), head: format!("h{number}") };
        due.insert((0, number as u64), Event::Asked { offered, by: "ines".into(), at: 0, lacks: None });
    }
    let (mut order, mut now, mut landed, mut trials) = (proposals as u64, 0, 0, 0);
    while let Some((at, event)) = due.pop_first() {
        now = at.0;
        for effect in queue.apply(event) {
            let mut later = |minutes: f64, event: Event| {
                #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "minutes of a few days")]
                let at = now + (minutes * 100.0) as u64;
                order += 1;
                due.insert((at, order), event);
            };
            match effect {
                Effect::Make { trial, on, group } => {
                    let number: usize = group[0].proposal.parse().expect("a number");
                    if conflicts(number) {
                        later(0.05, Event::Conflict { trial, proposal: group[0].proposal.clone(), files: vec!["gauge.c".into()] });
                    } else {
                        let commit = format!("t{trial}");
                        let mut held = holds[&on].clone();
                        held.push(number);
                        holds.insert(commit.clone(), held);
                        upon.insert(commit.clone(), on);
                        later(0.05, Event::Made { trial, commit });
                    }
                }
                Effect::Try { trial, commit, .. } => {
                    trials += 1;
                    let good = |commit: &str| !holds[commit].iter().any(|number| fails(*number));
                    let (passed, own) = (good(&commit), told && good(&upon[&commit]));
                    let failed = Event::Failed { trial, sentence: "test.unit failed".into(), flaky: false, own };
                    later(minutes(trial), if passed { Event::Passed { trial } } else { failed });
                }
                Effect::Land { trial, .. } => later(0.05, Event::Landed { trial }),
                Effect::HasLanded { .. } => landed += 1,
                Effect::HasLeft { .. } | Effect::Drop { .. } => {}
            }
        }
    }
    #[expect(clippy::cast_precision_loss, reason = "a few days")]
    let hours = now as f64 / 6_000.0;
    Simulated { hours, landed, trials }
}
