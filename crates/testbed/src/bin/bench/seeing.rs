//! What it costs to see into a service, and to keep a copy of it.

use super::measure::{CONFIG, end_of, median, ms, now_ns, ordotaxis, percentile, row, span_ms, world};
use ordotaxis_testbed::{Collector, RunnerOptions, World};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

const SCRAPES: usize = 100;
const RUNS: usize = 10;

/// A project with a pipeline of a thousand jobs that do nothing, and a runner.
async fn small_jobs(world: &World) {
    let repository = world.project("bench").await;
    let jobs: String = (0..1000).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"true\"]\n")).collect();
    repository.write("ordotaxis.toml", &format!("language = 1\n[starts]\npush = []\n{jobs}"));
    repository.commit("a thousand jobs");
    repository.push();
}

async fn one_run(world: &World) -> f64 {
    let run = world.json(&["start", "bench"]).await;
    let ended = end_of(world, run["run"].as_str().unwrap_or_default()).await;
    assert_eq!(ended["state"], "passed", "{ended}");
    span_ms(&ended)
}

/// The numbers of a service that has done ten thousand jobs within the hour, and what their history comes to.
pub(super) async fn scrape() {
    let world = world().await;
    small_jobs(&world).await;
    let _runner = world.runner(RunnerOptions::default()).await;
    for _ in 0..RUNS {
        one_run(&world).await;
    }
    let client = reqwest::Client::new();
    let get = async |path: &str| {
        let begin = Instant::now();
        let answer = client.get(format!("{}{path}", world.url)).bearer_auth(&world.token).send().await.expect("an answer");
        let length = answer.bytes().await.expect("a body").len();
        (ms(begin.elapsed()), length)
    };
    let (mut scrapes, mut bare, mut length) = (Vec::new(), Vec::new(), 0);
    for _ in 0..SCRAPES {
        let (took, bytes) = get("/metrics").await;
        scrapes.push(took);
        length = bytes;
        bare.push(get("/healthz").await.0);
    }
    row(
        "all numbers, with 10,000 jobs in the last hour",
        &format!("p50 {:.1} ms, p99 {:.1} ms; {} KiB", median(scrapes.clone()), percentile(&scrapes, 0.99), length / 1024),
        &format!("`/healthz` p50 {:.1} ms", median(bare)),
        "aim: 20 ms",
    );
    let mut insight = Vec::new();
    for _ in 0..10 {
        insight.push(get("/api/v1/projects/bench/insight/jobs?days=1").await.0);
    }
    let own = sqlite(&world, "SELECT count(*), max(phases) FROM attempts WHERE job_id IS NOT NULL").await;
    row(
        "insight of 10,000 attempts at 1,000 jobs",
        &format!("p50 {:.0} ms", median(insight)),
        &format!("the same rows read by sqlite alone {own:.0} ms"),
        "",
    );
}

async fn sqlite(world: &World, sql: &'static str) -> f64 {
    let path = format!("sqlite://{}", world.folder.path().join("service/ordotaxis.db").display());
    let pool = sqlx::SqlitePool::connect(&path).await.expect("it opens");
    let begin = Instant::now();
    sqlx::query(sql).fetch_all(&pool).await.expect("rows");
    ms(begin.elapsed())
}

/// A thousand small jobs with traces and without, in turns.
pub(super) async fn traces() {
    let collector = Collector::start().await;
    let config = format!("{CONFIG}\n[traces]\nto = '{}/v1/traces'\n", collector.url).leak();
    let (with, without) = (World::start_with(ordotaxis(), config).await, world().await);
    small_jobs(&with).await;
    small_jobs(&without).await;
    let (mut on, mut off) = (Vec::new(), Vec::new());
    for _ in 0..7 {
        // Only one of the two has a runner at a time: idle ones still ask.
        for (world, times) in [(&with, &mut on), (&without, &mut off)] {
            let _runner = world.runner(RunnerOptions::default()).await;
            times.push(one_run(world).await);
        }
    }
    let ratio = median(on.iter().zip(&off).map(|(on, off)| off / on).collect());
    row(
        "throughput of 1,000 one-line jobs, with traces",
        &format!("{:.0} ms; {} spans came", median(on), collector.spans().len()),
        &format!("without {:.0} ms", median(off)),
        &format!("{ratio:.2} of it (aim: 0.95)"),
    );
}

/// So many packs of so many bytes: ten GiB.
const PACKS: u32 = 160;
const PACK: usize = 64 << 20;

/// A backup of a large store, the first and the second, beside `cp` of the same files to the same disk.
pub(super) async fn backup() {
    let world = world().await;
    small_jobs(&world).await;
    let data = world.folder.path().join("service");
    fill(&data).await;
    let copied = world.folder.path().join("copied");
    let begin = Instant::now();
    let line = format!("cp -r {} {} && sync -f {}", data.display(), copied.display(), copied.display());
    assert!(Command::new("sh").args(["-c", &line]).status().is_ok_and(|status| status.success()));
    let cp = begin.elapsed();
    std::fs::remove_dir_all(&copied).expect("removed");
    let to = world.folder.path().join("to");
    let (data, to) = (data.display().to_string(), to.display().to_string());
    let mut times = Vec::new();
    for _ in 0..2 {
        let begin = Instant::now();
        let ran = world.run(&["backup", "--data", &data, "--to", &to]).await;
        assert_eq!(ran.code, 0, "{ran:?}");
        times.push(begin.elapsed());
    }
    row(
        "backup of 10 GiB while the service runs",
        &format!("{:.1} s; the next one, with nothing new, {:.0} ms", times[0].as_secs_f64(), ms(times[1])),
        &format!("`cp -r` and `sync` {:.1} s", cp.as_secs_f64()),
        &format!("{:.2} times", times[0].as_secs_f64() / cp.as_secs_f64()),
    );
}

/// Packs of bytes that look random: nothing on the way can make them smaller.
async fn fill(data: &Path) {
    let path = format!("sqlite://{}?mode=rw", data.join("ordotaxis.db").display());
    let pool = sqlx::SqlitePool::connect(&path).await.expect("it opens");
    let mut bytes = vec![0u8; PACK];
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a beginning of no matter")]
    let mut state = now_ns() as u64;
    for number in 0..PACKS {
        for part in bytes.chunks_exact_mut(8) {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            part.copy_from_slice(&state.to_be_bytes());
        }
        let name = format!("{number:032x}");
        let folder = data.join("blobs/packs").join(&name[..2]);
        std::fs::create_dir_all(&folder).expect("a folder");
        std::fs::write(folder.join(&name), &bytes).expect("a file");
        let sql = "INSERT INTO packs (name, bytes, sealed, made_at, blocks) VALUES (?, ?, 0, 0, x'')";
        let size = i64::try_from(PACK).unwrap_or_default();
        sqlx::query(sql).bind(name).bind(size).execute(&pool).await.expect("a row");
    }
    pool.close().await;
}

/// A machine that is lost at any moment, with a backup that is to be ten seconds behind at most: for how long what was changed last is
/// not in it. A change is made every 20 ms.
pub(super) async fn lost() {
    const ROUNDS: u64 = 6;
    let mut world = world().await;
    let (service, to) = (world.folder.path().join("service"), world.folder.path().join("backups"));
    world.configure(&format!("\n[backup]\nto = {to:?}\nevery = \"10s\"\n"));
    world.stop_service();
    world.start_service();
    let (mut losses, mut made) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let (begin, lasts) = (Instant::now(), Duration::from_millis(13_000 + round * 3_700));
        while begin.elapsed() < lasts {
            let person =
                world.http(reqwest::Method::POST, "/api/v1/persons").json(&serde_json::json!({ "name": format!("p{}", made.len()) }));
            assert!(person.send().await.is_ok_and(|answer| answer.status().is_success()));
            made.push(Instant::now());
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        world.kill_service();
        let killed = Instant::now();
        std::fs::rename(&service, service.with_extension("lost")).expect("moved");
        let (config, data) = (world.folder.path().join("service.toml").display().to_string(), service.display().to_string());
        let back = world.run(&["restore", "--config", &config, "--data", &data]).await;
        assert_eq!(back.code, 0, "{back:?}");
        std::fs::copy(service.with_extension("lost").join("secrets.key"), service.join("secrets.key")).expect("the key");
        std::fs::remove_dir_all(service.with_extension("lost")).expect("removed");
        world.start_service();
        let persons = world.json(&["person", "list"]).await;
        let numbers =
            persons.as_array().into_iter().flatten().filter_map(|one| one["name"].as_str()?.strip_prefix('p')?.parse::<usize>().ok());
        let last = numbers.max().expect("some are there");
        losses.push(killed.duration_since(made[last]).as_secs_f64());
        made.truncate(last + 1);
    }
    row(
        "what a streamed backup lacks when its machine is lost",
        &format!("p50 {:.1} s, at most {:.1} s of changes", median(losses.clone()), percentile(&losses, 1.0)),
        "sent every 10 s",
        "aim: 10 s",
    );
}
