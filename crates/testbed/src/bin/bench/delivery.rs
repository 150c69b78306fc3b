//! Figures of delivery: a promotion's way to its first step, the page of many environments, a trace among many artifacts,
//! statements signed and checked. Each beside what the machine does of the same without the service.

use super::kept::ten_thousand;
use super::measure::{end_of, median, ms, now_ns, ordotaxis, percentile, row, world};
use ordotaxis_testbed::{RunnerOptions, World, until};
use reqwest::Method;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};
use serde_json::Value;
use std::hint::black_box;
use std::process::Command;
use std::time::Instant;

const ROUNDS: usize = 25;

pub(super) async fn delivery() {
    promotion().await;
    page().await;
    traces().await;
}

/// From the call to the step's process, by the clock of both; the limit is the same for a run that someone starts.
async fn promotion() {
    let world = world().await;
    let repository = world.project("bench").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let mark = world.folder.path().join("mark");
    let stamp = format!("date +%s%N > {0}.new; mv {0}.new {0}", mark.display());
    repository.write(
        "ordotaxis.toml",
        &format!(
            "language = 1\norder = \"build > ship\"\n[starts]\npush = []\n[job.build.gauge]\nsteps = [\"{stamp}\", \"echo 1 > gauge\"]\ngives = {{ gauge = [\"gauge\"] }}\n\
             [job.ship.pier]\ncheckout = false\nby_hand = true\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"pier\"\nsteps = [\"{stamp}\"]\n"
        ),
    );
    repository.commit("a gauge");
    repository.push();
    let (mut starts, mut promotions) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let call = || world.http(Method::POST, "/api/v1/projects/bench/runs").json(&serde_json::json!({}));
        starts.push(until_step(&mark, call()).await);
        settled(&world).await;
        let ask = serde_json::json!({ "run": 2 * round + 1 });
        let call = || world.http(Method::POST, "/api/v1/projects/bench/environments/pier/promotion").json(&ask);
        promotions.push(until_step(&mark, call()).await);
        settled(&world).await;
    }
    row(
        "promotion asked for → first step",
        &format!("p50 {:.0} ms, p95 {:.0} ms", median(promotions.clone()), percentile(&promotions, 0.95)),
        &format!("a run started by hand: p50 {:.0} ms", median(starts)),
        "aim: p50 100 ms",
    );
}

/// All runs have ended.
async fn settled(world: &World) {
    until("all to end", || async {
        let runs: Value = world.http(Method::GET, "/api/v1/runs?project=bench").send().await.ok()?.json().await.ok()?;
        runs.as_array()?.iter().all(|run| !run["ended_at"].is_null() || run["held"] == true).then_some(())
    })
    .await;
}

/// The time from sending a call to the moment that the step wrote down.
async fn until_step(mark: &std::path::Path, call: reqwest::RequestBuilder) -> f64 {
    let _ = std::fs::remove_file(mark);
    let begin = now_ns();
    let answer = call.send().await.expect("an answer");
    let status = answer.status();
    assert!(status.is_success(), "{status}: {}", answer.text().await.unwrap_or_default());
    let at = until("the step", || async { std::fs::read_to_string(mark).ok()?.trim().parse::<f64>().ok() }).await;
    (at - begin) / 1e6
}

/// 200 environments with 50,000 deployments, written into the service's own database; the limit is the same rows by sqlite alone.
async fn page() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("bench").await;
    repository.write("ordotaxis.toml", "language = 1\n[starts]\npush = []\n[job.a.b]\nsteps = [\"true\"]\n");
    let commits: Vec<String> = (0..20).map(|number| repository.commit(&format!("change {number}"))).collect();
    repository.push();
    let run = world.json(&["start", "bench"]).await;
    let pool = database(&world).await;
    for (environment, commit) in (1..=200).zip(commits.iter().cycle()) {
        let state = serde_json::json!({
            "present": { "job": [1, 0], "called": "bench/1 a.b", "artifacts": [commit], "since": 250 }, "doubt": null, "frozen": null,
            "inside": null, "waiting": [], "emergencies": [], "wakes": null
        });
        let sql = "INSERT INTO environments (id, project_id, name, state, made_at) SELECT ?1, id, 'place-' || ?1, ?2, 1 FROM projects WHERE name = 'bench'";
        sqlx::query(sql).bind(environment).bind(state.to_string()).execute(&pool).await.expect("an environment");
        let sql = "INSERT INTO deployments (environment_id, number, run_id, run, job, job_id, commit_id, reference, way, artifacts, words,
                     rules_commit, let_in_at, ended_at, outcome, left_at, committed_at)
                   WITH RECURSIVE n(number) AS (SELECT 1 UNION ALL SELECT number + 1 FROM n WHERE number < 250)
                   SELECT ?1, number, 1, 'bench/1', 0, 'a.b', ?2, 'main', '{\"way\":\"forward\"}', json_array(?2), '[]', ?2,
                     ?3 - (251 - number) * 86400000 / 4, ?3 - (250 - number) * 86400000 / 4, 'well',
                     CASE WHEN number < 250 THEN ?3 - (249 - number) * 86400000 / 4 END, ?3 - 300 * 86400000 FROM n";
        let now = jiff::Timestamp::now().as_millisecond();
        sqlx::query(sql).bind(environment).bind(commit).bind(now).execute(&pool).await.expect("deployments");
    }
    end_of(&world, run["run"].as_str().unwrap_or_default()).await;
    let bare = asked(ROUNDS, || async {
        let sql = "SELECT environments.state, deployments.* FROM environments JOIN deployments ON environment_id = environments.id
                   WHERE outcome = 'well' AND left_at IS NULL";
        sqlx::query(sql).fetch_all(&pool).await.expect("rows").len()
    })
    .await;
    let (first, list) = get(&world, "/api/v1/projects/bench/environments").await;
    row(
        "200 environments with 50,000 deployments, listed over HTTP",
        &format!("{:.1} ms (the first time {first:.0} ms: 20 commits are compared with main)", median(list)),
        &format!("the same rows by sqlite alone: {:.1} ms", median(bare)),
        "aim: 200 ms",
    );
    let (_, one) = get(&world, "/api/v1/projects/bench/environments/place-7").await;
    row("one of them, with 50 deployments of its history", &format!("{:.1} ms", median(one)), "", "");
    let (_, insight) = get(&world, "/api/v1/projects/bench/insight?days=90").await;
    row("what 200 environments come to over 90 days", &format!("{:.1} ms", median(insight)), "", "");
}

async fn database(world: &World) -> sqlx::SqlitePool {
    let path = world.folder.path().join("service/ordotaxis.db");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(path).journal_mode(sqlx::sqlite::SqliteJournalMode::Wal);
    sqlx::SqlitePool::connect_with(options).await.expect("a database")
}

async fn asked<F: Future<Output = usize>>(rounds: usize, ask: impl Fn() -> F) -> Vec<f64> {
    let mut times = Vec::new();
    for _ in 0..rounds {
        let begin = Instant::now();
        black_box(ask().await);
        times.push(ms(begin.elapsed()));
    }
    times
}

/// The first answer's time, and those of later ones.
async fn get(world: &World, path: &str) -> (f64, Vec<f64>) {
    let ask = || async {
        let answer = world.http(Method::GET, path).send().await.expect("an answer");
        assert!(answer.status().is_success(), "{path}: {}", answer.status());
        answer.bytes().await.expect("a body").len()
    };
    let first = asked(1, ask).await[0];
    (first, asked(ROUNDS, ask).await)
}

/// One run with 10,000 artifacts: their statements, and a way from one of them.
async fn traces() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let ended = ten_thousand(&world).await;
    let (pool, begin) = (database(&world).await, Instant::now());
    let count = || async {
        let count: i64 = sqlx::query_scalar("SELECT count(*) FROM statements").fetch_one(&pool).await.ok()?;
        (count == 10_000).then_some(())
    };
    until("every statement", count).await;
    let made = 10_000.0 / begin.elapsed().as_secs_f64();
    let (sign, check) = bare();
    row(
        "statements made and signed a second, 10,000 artifacts of one run",
        &format!("{made:.0}"),
        &format!("Ed25519 alone, one core: {sign:.0}"),
        "",
    );
    let digest: String =
        sqlx::query_scalar("SELECT digest FROM artifacts ORDER BY digest LIMIT 1 OFFSET 5000").fetch_one(&pool).await.expect("a digest");
    let sql = "SELECT commit_id FROM artifacts JOIN runs ON runs.id = run_id WHERE digest = ?";
    let bare = asked(ROUNDS, || async { sqlx::query(sql).bind(&digest).fetch_all(&pool).await.expect("rows").len() }).await;
    let (_, times) = get(&world, &format!("/api/v1/trace?thing={digest}")).await;
    let limit = format!("artifact and run by sqlite alone: {:.2} ms", median(bare));
    row("trace of one among 10,000 artifacts, by its digest", &format!("{:.1} ms", median(times)), &limit, "aim: 50 ms");
    let commit = ended["commit"].as_str().unwrap_or_default().to_owned();
    let (_, times) = get(&world, &format!("/api/v1/trace?thing={commit}")).await;
    row("trace of their commit: the first 200 of all 10,000", &format!("{:.0} ms", median(times)), "", "aim: 50 ms");
    verified(&world, check).await;
}

/// Signatures and checks a second of a payload as large as a statement.
fn bare() -> (f64, f64) {
    let (seed, payload) = ([7; 32], vec![b'x'; 1_500]);
    let pair = Ed25519KeyPair::from_seed_unchecked(&seed).expect("a key");
    let rate = |act: &dyn Fn()| {
        let begin = Instant::now();
        (0..2_000).for_each(|_| act());
        2_000.0 / begin.elapsed().as_secs_f64()
    };
    let signature = pair.sign(&payload);
    let key = UnparsedPublicKey::new(&ED25519, pair.public_key().as_ref().to_vec());
    (
        rate(&|| {
            black_box(pair.sign(&payload));
        }),
        rate(&|| key.verify(&payload, signature.as_ref()).expect("it is well")),
    )
}

/// The client's whole process, with the file's digest and the signature; without the service.
async fn verified(world: &World, check: f64) {
    let place = world.folder.path();
    let statement =
        world.run(&["artifacts", "bench/1", "statement", "a.j7/g7", "--to", &place.join("f7.statement").display().to_string()]).await;
    assert_eq!(statement.code, 0, "{statement:?}");
    std::fs::write(place.join("f7"), "a.j7 7\n").expect("a file");
    let keys = world.run(&["keys"]).await;
    std::fs::write(place.join("keys.json"), keys.out).expect("a file");
    let begin = Instant::now();
    for _ in 0..ROUNDS {
        let mut command = Command::new(ordotaxis());
        let done = command
            .current_dir(place)
            .args(["verify", "f7", "--statement", "f7.statement", "--keys", "keys.json"])
            .output()
            .expect("it starts");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }
    #[expect(clippy::cast_precision_loss, reason = "a small count")]
    let rate = ROUNDS as f64 / begin.elapsed().as_secs_f64();
    row("files verified a second, a process each", &format!("{rate:.0}"), &format!("Ed25519 alone, one core: {check:.0}"), "");
}
