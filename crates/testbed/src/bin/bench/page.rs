//! The console on a slow link: when the first words stand there, and when the board does (the limit is the link's own: one
//! way there and back, and what the answer holds); and a large board while much happens (the limit is the screen's).

use super::measure::{percentile, row, world};
use ordotaxis_testbed::{Browser, Simulated, leased, until};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// What Chromium's tools call 3G: 400 kbit/s, and two seconds there and back.
const LATENCY_MS: u32 = 2_000;
const BYTES_PER_SECOND: u32 = 50_000;

/// A browser that has never been here opens the board over 3G.
pub(super) async fn slow_link() {
    let world = world().await;
    world.project("tidegauge").await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    let session = browser.client.get_all_cookies().await.expect("cookies");
    let fresh = Browser::start(1280, 800).await;
    fresh.client.goto(&format!("{}/mark.svg", world.url)).await.expect("the mark");
    for cookie in session {
        fresh.client.add_cookie(cookie).await.expect("a cookie");
    }
    fresh.network(LATENCY_MS, BYTES_PER_SECOND).await;
    fresh.client.goto(&world.url).await.expect("the board");
    fresh.see("tidegauge").await;
    let asked = "return [performance.getEntriesByType('paint').find((one) => one.name === 'first-contentful-paint')?.startTime ?? null, performance.now(), \
                 performance.getEntriesByType('resource').reduce((sum, one) => sum + one.transferSize, 0)]";
    let told = until("the first paint", || async { fresh.script(asked).await.as_array().filter(|all| all[0].is_number()).cloned() }).await;
    let number = |at: usize| told.get(at).and_then(Value::as_f64).unwrap_or_default();
    let limit = f64::from(LATENCY_MS);
    row(
        "3G: first words of the board",
        &format!("{:.0} ms", number(0)),
        &format!("{limit:.0} ms there and back"),
        &format!("{:.2}", number(0) / limit),
    );
    let bytes = number(2);
    let whole = 2.0 * limit + bytes / f64::from(BYTES_PER_SECOND) * 1000.0;
    let about = format!("{whole:.0} ms for two ways and {:.0} KB", bytes / 1000.0);
    row("3G: the board stands there", &format!("{:.0} ms", number(1)), &about, &format!("{:.2}", number(1) / whole));
    fresh.end().await;
    browser.end().await;
}

const PROJECTS: usize = 1_000;
/// As many projects begin a run of so many jobs; each job is told of twice.
const RUNNING: usize = 100;
const JOBS: usize = 40;
const EVENTS_PER_SECOND: u64 = 200;

/// Gives all frames since it was asked the last time, in milliseconds; begins to count with the first call.
const FRAMES: &str = "
    const frames = window.benchFrames ?? []; window.benchFrames = [];
    if (!window.benchBegun) {
        window.benchBegun = true;
        let last = performance.now();
        const next = (now) => { window.benchFrames.push(now - last); last = now; requestAnimationFrame(next); };
        requestAnimationFrame(next);
    }
    return frames";

/// A board of a thousand projects while runs are told of as fast as can be on this machine, up to the aim.
pub(super) async fn busy_board() {
    let world = world().await;
    let repository = world.project("p0000").await;
    let small = "language = 1\n[starts]\npush = []\n[job.a.one]\nsteps = [\"true\"]\n";
    let cells: Vec<String> = (0..JOBS).map(|cell| cell.to_string()).collect();
    repository.write("ordotaxis/many.toml", &format!("{small}[job.b.many]\neach = {{ n = [{}] }}\nsteps = [\"true\"]\n", cells.join(", ")));
    repository.push_pipeline(small);
    let address = world.json(&["project", "show", "p0000"]).await["git_url"].as_str().unwrap_or_default().to_owned();
    let client = reqwest::Client::new();
    let post = |path: String, body: Value| client.post(format!("{}/api/v1/{path}", world.url)).bearer_auth(&world.token).json(&body);
    for number in 1..PROJECTS {
        let body = json!({ "name": format!("p{number:04}"), "git_url": address, "main_branch": "main" });
        assert!(post("projects".into(), body).send().await.expect("an answer").status().is_success());
    }
    let invitation = world.invitation().await;
    let runner = Simulated::enrol(&world.url, &world.url, &invitation, "sim").await.expect("a runner");
    runner.sign_on(8).await;
    for number in 0..RUNNING {
        let body = json!({ "pipeline": "many" });
        post(format!("projects/p{number:04}/runs"), body).send().await.expect("an answer");
    }
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("p0001").await;
    browser.script(FRAMES).await;
    let begin = Instant::now();
    let finished = finish_paced(&runner).await;
    let seconds = begin.elapsed().as_secs_f64();
    let frames: Vec<f64> = browser.script(FRAMES).await.as_array().into_iter().flatten().filter_map(Value::as_f64).collect();
    let worst = frames.iter().copied().fold(0.0, f64::max);
    #[expect(clippy::cast_precision_loss, reason = "thousands of events")]
    let rate = 2.0 * finished as f64 / seconds;
    row(
        &format!("board of {PROJECTS} projects, {rate:.0} events/s for {seconds:.0} s: longest frame"),
        &format!("{worst:.0} ms, p99 {:.0} ms of {} frames", percentile(&frames, 0.99), frames.len()),
        "16.7 ms a frame (aim 50)",
        &format!("{:.1}", worst / 16.7),
    );
    browser.end().await;
}

/// Eight slots take job after job, no faster than the aim; gives how many were done.
async fn finish_paced(runner: &Simulated) -> usize {
    let pause = Duration::from_millis(8 * 2 * 1000 / EVENTS_PER_SECOND);
    let until_then = Instant::now() + Duration::from_secs(20);
    let mut tasks = tokio::task::JoinSet::new();
    for slot in 0..8 {
        let runner = runner.clone();
        tasks.spawn(async move {
            let mut done = 0;
            while Instant::now() < until_then {
                let turn = Instant::now();
                let claim = tokio::time::timeout(Duration::from_secs(2), runner.claim(slot)).await;
                if let Ok((answer, _)) = claim
                    && let Some(attempt) = leased(&answer)
                {
                    runner.finish(&attempt, slot, false).await;
                    done += 1;
                }
                tokio::time::sleep(pause.saturating_sub(turn.elapsed())).await;
            }
            done
        });
    }
    let mut all = 0;
    while let Some(done) = tasks.join_next().await {
        all += done.unwrap_or_default();
    }
    all
}
