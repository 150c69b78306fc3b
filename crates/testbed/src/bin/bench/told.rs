//! Tests by the ten thousand that all fail: how long until they are reported, and whether the service answers meanwhile.

use super::measure::{CONFIG, ms, ordotaxis, percentile, row};
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::Value;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

pub(super) async fn failures() {
    for (cases, words, aim) in [(20_000, 300, "3 s"), (260_000, 20, "30 s")] {
        let world = World::start_with(ordotaxis(), CONFIG).await;
        let repository = world.project("bench").await;
        let _runner = world.runner(RunnerOptions::default()).await;
        let text = "the gauge is off ".repeat(words / 17 + 1);
        let case =
            |n: usize| format!("<testcase classname='gauge' name='case {n}'><failure message='{n} {}'/></testcase>\n", &text[..words]);
        repository.write("unit.xml", &format!("<testsuite name='unit'>{}</testsuite>", (0..cases).map(case).collect::<String>()));
        let step = "date +%s%N > $ORDOTAXIS_FACTS/ended; exit 1";
        let pipeline =
            format!("language = 1\n[job.a.b]\nsteps = ['{step}']\nfacts = [\"ended\"]\nreports = {{ junit = [\"unit.xml\"] }}\n");
        repository.write("ordotaxis.toml", &pipeline);
        let commit = repository.commit("All fail");
        let ended = AtomicBool::new(false);
        let told = async {
            repository.push();
            let told = until_told(&world, &commit).await;
            ended.store(true, Ordering::Relaxed);
            told
        };
        let (seconds, waits) = tokio::join!(told, asked(&world, &ended));
        row(
            &format!("{cases} failing cases with messages of {words} bytes: the job's last step ended → verdict"),
            &format!("{seconds:.1} s"),
            &format!("{cases} rows alone into SQLite {:.1} s", rows_alone(&world, cases, &text[..words]).await),
            &format!("aim: {aim}; `/readyz` meanwhile p99 {:.0} ms, aim 50", percentile(&waits, 0.99)),
        );
    }
}

/// Seconds from the end of the step, by its own clock, to the verdict.
async fn until_told(world: &World, commit: &str) -> f64 {
    let run: Value = until("a verdict", || async {
        let runs = world.http(reqwest::Method::GET, "/api/v1/runs?project=bench").send().await.ok()?;
        let runs: Value = runs.json().await.ok()?;
        let run = runs.as_array()?.iter().find(|run| run["commit"] == commit)?;
        if run["ended_at"].is_null() {
            return None;
        }
        let name = run["run"].as_str()?;
        world.http(reqwest::Method::GET, &format!("/api/v1/runs/{name}")).send().await.ok()?.json().await.ok()
    })
    .await;
    assert_eq!(run["state"], "failed", "{}", run["sentence"]);
    let begun: f64 = World::job(&run, "a.b")["facts"]["ended"].as_str().and_then(|text| text.trim().parse().ok()).expect("a time");
    let ended = run["ended_at"].as_str().and_then(|text| text.parse::<jiff::Timestamp>().ok()).expect("a time");
    #[expect(clippy::cast_precision_loss, reason = "milliseconds are told")]
    let ended = ended.as_nanosecond() as f64;
    (ended - begun) / 1e9
}

/// How long each answer took, asked again and again.
async fn asked(world: &World, ended: &AtomicBool) -> Vec<f64> {
    let (ready, client) = (format!("{}/readyz", world.url), reqwest::Client::new());
    let mut waits = Vec::new();
    while !ended.load(Ordering::Relaxed) {
        let begin = Instant::now();
        let answer = client.get(&ready).send().await.expect("an answer");
        assert!(answer.status().is_success(), "{answer:?}");
        waits.push(ms(begin.elapsed()));
    }
    waits
}

/// Seconds for as many rows with as long a text, a thousand in each transaction, and nothing else.
async fn rows_alone(world: &World, rows: usize, text: &str) -> f64 {
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(world.folder.path().join("alone.db"))
        .create_if_missing(true)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal);
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("a database");
    sqlx::query("CREATE TABLE cases (id INTEGER PRIMARY KEY, name TEXT UNIQUE, text TEXT)").execute(&pool).await.expect("a table");
    let begin = Instant::now();
    for first in (0..rows).step_by(1_000) {
        let mut tx = pool.begin().await.expect("a transaction");
        for n in first..(first + 1_000).min(rows) {
            let row = sqlx::query("INSERT INTO cases (name, text) VALUES (?, ?)").bind(format!("case {n}")).bind(text);
            row.execute(&mut *tx).await.expect("a row");
        }
        tx.commit().await.expect("a commit");
    }
    begin.elapsed().as_secs_f64()
}
