//! What machines that watch are told: scraped by a real Prometheus, judged by its rules, and bounded whatever callers send.

use super::{world, world_with};
use ordotaxis_testbed::{Process, RunnerOptions, World, free_port, until};
use reqwest::{Method, StatusCode};
use serde_json::Value;
use std::path::Path;
use std::process::Command;

const RULES: &str = include_str!("../../../../docs/alerts.yml");
const RULES_TESTS: &str = include_str!("alerts.yml");
/// What the guide says of each number.
const GUIDE: &str = include_str!("../../../../docs/operations.md");

async fn scrape(world: &World) -> String {
    let answer = world.http(Method::GET, "/metrics").send().await.expect("an answer");
    assert_eq!(answer.status(), StatusCode::OK);
    let kind = answer.headers()["content-type"].to_str().expect("text").to_owned();
    assert_eq!(kind, "application/openmetrics-text; version=1.0.0; charset=utf-8");
    answer.text().await.expect("text")
}

/// The value of the series that is written so.
fn value(text: &str, series: &str) -> Option<f64> {
    text.lines().find_map(|line| line.strip_prefix(series)?.strip_prefix(' ')?.parse().ok())
}

fn promtool(folder: &Path, arguments: &[&str]) {
    let ran = Command::new("promtool").args(arguments).current_dir(folder).output().expect("promtool of the package prometheus");
    assert!(ran.status.success(), "{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
}

#[test]
fn the_alert_rules_say_what_they_should() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("alerts.yml"), RULES).expect("a file");
    std::fs::write(folder.path().join("tests.yml"), RULES_TESTS).expect("a file");
    promtool(folder.path(), &["check", "rules", "alerts.yml"]);
    promtool(folder.path(), &["test", "rules", "tests.yml"]);
    for alert in RULES.lines().filter_map(|line| line.trim().strip_prefix("- alert: ")) {
        assert!(RULES_TESTS.contains(&format!("alertname: {alert}")), "{alert} is not tested");
    }
}

/// A real Prometheus that scrapes this service every second, with its rules; and the address of its own API.
async fn prometheus(world: &World, folder: &Path) -> (Process, String) {
    std::fs::write(folder.join("token"), &world.token).expect("a file");
    std::fs::write(folder.join("alerts.yml"), RULES).expect("a file");
    let target = world.url.trim_start_matches("http://");
    let config = format!(
        "global: {{ scrape_interval: 1s, evaluation_interval: 1s }}\nrule_files: [alerts.yml]\nscrape_configs:\n  - job_name: ordotaxis\n    \
         authorization: {{ credentials_file: token }}\n    static_configs: [{{ targets: ['{target}'] }}]\n"
    );
    std::fs::write(folder.join("prometheus.yml"), config).expect("a file");
    let address = format!("127.0.0.1:{}", free_port());
    let mut command = Command::new("prometheus");
    command.current_dir(folder).args(["--config.file=prometheus.yml", "--storage.tsdb.path=data"]);
    command.arg(format!("--web.listen-address={address}"));
    (Process::start(&mut command, folder, "prometheus", ""), format!("http://{address}/api/v1"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_real_prometheus_scrapes_all_of_it() {
    let mut world = world().await;
    world.configure(&format!("\n[backup]\nto = {:?}\n", world.folder.path().join("backups")));
    world.kill_service();
    world.start_service();
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pool = world.run(&["pool", "set", "heavy", "--provider", "process", "--most", "1", "--label", "heavy"]).await;
    assert_eq!(pool.code, 0, "{pool:?}");
    let other = world.project("almanac").await;
    world.verdict("almanac", &other.push_pipeline("language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"true\"]\n")).await;
    let file = "language = 1\n[job.a.well]\nsteps = [\"true\"]\n[job.b.not]\nsteps = [\"false\"]\n[job.c.far]\nwhere = [\"nowhere\"]\nsteps = [\"true\"]\n";
    let commit = repository.push_pipeline(file);
    world.run_of("tidegauge", &commit, "two ended", |run| World::job(run, "b.not")["state"] == "failed").await;
    let folder = tempfile::tempdir().expect("a folder");
    let (_prometheus, api) = prometheus(&world, folder.path()).await;
    let query = async |query: &str| -> Vec<Value> {
        let asked = reqwest::Client::new().get(format!("{api}/query")).query(&[("query", query)]).send().await;
        let Ok(answer) = asked else { return Vec::new() };
        let answer: Value = answer.json().await.unwrap_or_default();
        answer["data"]["result"].as_array().cloned().unwrap_or_default()
    };
    let number = async |asked: &str| {
        until(asked, || async { query(asked).await.first().and_then(|one| one["value"][1].as_str()?.parse::<f64>().ok()) }).await
    };
    assert!((number("up{job=\"ordotaxis\"}").await - 1.0).abs() < 0.1, "it was read without a mistake");
    for (asked, wanted) in [
        ("ordotaxis_jobs_ended_total{state=\"passed\"}", 2.0),
        ("ordotaxis_jobs_ended_total{state=\"failed\"}", 1.0),
        ("ordotaxis_queue{labels=\"nowhere\"}", 1.0),
        ("ordotaxis_runners", 1.0),
        ("ordotaxis_panics_total", 0.0),
        ("sum(ordotaxis_job_waits_seconds_count{waited_for=\"runner\"})", 3.0),
        ("ordotaxis_pool_trouble or vector(0)", 0.0),
    ] {
        assert!((number(asked).await - wanted).abs() < 0.1, "{asked}");
    }
    for asked in [
        "ordotaxis_keeper_batch_seconds_count > 0",
        "ordotaxis_database_write_seconds_count > 0",
        "sum(ordotaxis_git_seconds_count{end=\"done\"}) > 0",
        "sum(ordotaxis_hooks_total{answer=\"new\"}) > 0",
        "sum(ordotaxis_work_seconds_count{kind=\"occasion\",end=\"done\"}) > 0",
        "sum(ordotaxis_http_seconds_count{route=\"/runner/v1/claim\",method=\"POST\",class=\"2xx\"}) > 0",
        "ordotaxis_disk_size_bytes > ordotaxis_disk_free_bytes",
        "ordotaxis_queue_oldest_seconds{labels=\"nowhere\"} >= 0",
    ] {
        number(asked).await;
    }
    // Its rules are understood and worked out.
    let sound = until("all rules were worked out", || async {
        let rules: Value = reqwest::get(format!("{api}/rules")).await.ok()?.json().await.ok()?;
        let rules = rules["data"]["groups"][0]["rules"].as_array().cloned()?;
        rules.iter().all(|rule| rule["health"] == "ok").then_some(rules.len())
    })
    .await;
    assert!(sound >= 10);
    // All that is said is in the guide, and the other way round.
    let text = scrape(&world).await;
    let said: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.split(' ').next()).collect();
    assert!(text.ends_with("# EOF\n") && said.len() > 25, "{said:?}");
    for name in &said {
        assert!(GUIDE.contains(&format!("`{name}")), "docs/operations.md does not say what {name} is");
    }
    for row in GUIDE.lines().filter_map(|line| line.strip_prefix("| `ordotaxis_")) {
        let name = format!("ordotaxis_{}", row.split(['`', '{']).next().unwrap_or_default());
        let name = name.strip_suffix("_total").unwrap_or(&name);
        // Nothing waits for the outside, and no logs are sent on: then there is nothing to say of it.
        let nothing = name.starts_with("ordotaxis_work") || name.starts_with("ordotaxis_ship");
        assert!(said.contains(&name) || nothing, "docs/operations.md names {name}, which is not said");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn few_series_whatever_callers_and_files_say() {
    let world = world_with("open = ['metrics']\n").await;
    let repository = world.project("tidegauge").await;
    let client = reqwest::Client::new();
    let _ = scrape(&world).await;
    let before = scrape(&world).await.lines().count();
    for number in 0..300 {
        let path = format!("{}/api/v1/projects/p{number}/insight/jobs?days={number}", world.url);
        assert_eq!(client.get(path).send().await.expect("an answer").status(), StatusCode::UNAUTHORIZED);
        let method = Method::from_bytes(format!("BREW{number}").as_bytes()).expect("a method");
        client.request(method, format!("{}/x{number}", world.url)).send().await.expect("an answer");
    }
    // A file whose jobs all want something else.
    let job = |n: usize| format!("[job.a.j{n}]\nwhere = [\"l{n}\"]\nsteps = [\"true\"]\n");
    let commit = repository.push_pipeline(&format!("language = 1\n{}", (0..120).map(job).collect::<String>()));
    world.run_of("tidegauge", &commit, "all queue", |run| run["counts"].to_string().contains("120")).await;
    let text = scrape(&world).await;
    let queues: Vec<&str> = text.lines().filter(|line| line.starts_with("ordotaxis_queue{")).collect();
    assert_eq!(queues.len(), 51, "{queues:?}");
    assert_eq!(value(&text, "ordotaxis_queue{labels=\"(others)\"}"), Some(70.0));
    assert!(text.lines().count() < before + 400, "{} lines, {before} before", text.lines().count());
    assert!(text.contains("route=\"/api/v1/projects/{project}/insight/jobs\"") && !text.contains("p299") && !text.contains("BREW"));
    // Whoever is not signed in may read it here, since the configuration says so; and what a header says changes nothing.
    let plain = client.get(format!("{}/metrics", world.url)).header("accept", "text/plain").send().await.expect("an answer");
    assert_eq!(plain.status(), StatusCode::OK);
}
