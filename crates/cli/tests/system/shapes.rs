//! The shapes that others may build on: fields are added, never renamed.

use super::world;
use ordotaxis_testbed::RunnerOptions;
use serde_json::Value;

fn keys(value: &Value) -> Vec<&str> {
    value.as_object().map(|object| object.keys().map(String::as_str).collect()).unwrap_or_default()
}

fn has(value: &Value, wanted: &[&str]) {
    for key in wanted {
        assert!(keys(value).contains(key), "`{key}` is missing in {:?}", keys(value));
    }
}

const RUN: &[&str] = &["run", "project", "pipeline", "state", "commit", "branch", "occasion", "why", "started_at", "ended_at"];

#[tokio::test(flavor = "multi_thread")]
async fn what_programs_read_has_its_fields() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(
        "language = 1\norder = \"a > b\"\n[job.a.x]\nsteps = [\"echo out > out\", \"exit 3\"]\nmay_fail = true\n[job.b.y]\nsteps = [\"touch f\"]\ngives = { f = [\"f\"] }\n",
    );
    world.verdict("tidegauge", &commit).await;
    let show = world.json(&["show", "tidegauge"]).await;
    has(&show, RUN);
    let job = &show["jobs"][0];
    has(job, &["id", "stage", "state", "why", "attempts"]);
    let attempt = &job["attempts"][0];
    has(attempt, &["number", "runner", "state", "exit_code", "started_at", "ended_at", "phases"]);
    assert_eq!(attempt["exit_code"], 3);
    let phases: Vec<&str> = attempt["phases"].as_array().expect("phases").iter().filter_map(|phase| phase["kind"].as_str()).collect();
    assert_eq!(phases, ["checkout", "step", "step"]);
    for phase in attempt["phases"].as_array().expect("phases") {
        has(phase, &["name", "started_at", "duration_ms"]);
        assert!(phase["duration_ms"].is_i64(), "whole milliseconds: {phase}");
    }
    assert!(show["ended_at"].as_str().is_some_and(|time| time.ends_with('Z')), "RFC 3339 in UTC: {show}");

    let runs = world.json(&["runs"]).await;
    has(&runs[0], RUN);
    assert!(runs[0]["jobs"].is_null(), "a list leaves its jobs out");
    has(&world.json(&["start", "tidegauge"]).await, RUN);
    has(&world.json(&["artifacts", "tidegauge/1"]).await[0], &["job", "name", "digest", "bytes", "files", "url"]);
    has(&world.json(&["why", "tidegauge/1"]).await, &["run", "state", "why", "jobs"]);
    has(&world.json(&["runner", "list"]).await[0], &["name", "labels", "isolation", "slots", "busy", "connected"]);
    has(&world.json(&["project", "show", "tidegauge"]).await, &["name", "git_url", "main_branch", "hook_url", "created_at"]);

    let file = repository.folder.join("ordotaxis.toml").display().to_string();
    let plan = world.json(&["plan", &file]).await;
    has(&plan, &["pipeline", "occasion", "stages", "jobs", "diagnostics"]);
    has(&plan["jobs"][1], &["id", "stage", "name", "cell", "waits_for", "skipped"]);
    has(&plan["jobs"][1]["waits_for"][0], &["job", "because", "implied"]);
    assert_eq!(plan["stages"], serde_json::json!(["a", "b"]));
    repository.write("ordotaxis.toml", "language = 1\n[job.a.x]\nstpes = []\n");
    let check = world.json(&["check", &file]).await;
    let wanted = ["code", "severity", "message", "hint", "file", "line", "column", "end_line", "end_column", "length"];
    has(&check["diagnostics"][0], &wanted);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_page_and_can_be_told_in_letters() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    repository.push_pipeline("language = 1\n[job.a.x]\nsteps = [\"true\"]\nwhere = [\"nobody\"]\n");
    for _ in 0..60 {
        let started = world
            .http(reqwest::Method::POST, "/api/v1/projects/tidegauge/runs")
            .json(&serde_json::json!({}))
            .send()
            .await
            .expect("an answer");
        assert_eq!(started.status().as_u16(), 201);
    }
    let page = world.http(reqwest::Method::GET, "/api/v1/runs?project=tidegauge").send().await.expect("an answer");
    let link = page.headers()["link"].to_str().expect("text").to_owned();
    assert!(link.contains("rel=\"next\"") && link.contains("cursor="), "{link}");
    let runs = world.json(&["runs", "tidegauge", "--count", "58"]).await;
    let numbers: Vec<i64> = runs.as_array().expect("a list").iter().filter_map(|run| run["number"].as_i64()).collect();
    assert_eq!(numbers.len(), 58);
    assert!(numbers.windows(2).all(|pair| pair[0] == pair[1] + 1), "newest first, none twice: {numbers:?}");
    let shown = world.run(&["--ascii", "show", "tidegauge/2"]).await;
    assert!(shown.out.contains("Q queued") && shown.out.is_ascii(), "{shown:?}");
}
