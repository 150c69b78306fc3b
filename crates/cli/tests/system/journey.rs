//! From a pushed commit to a verdict on it: the path this is all about.

use super::world;
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::Value;

const PIPELINE: &str = r#"
language = 1
title = "Tide gauge"
order = "build > test"

[env]
GAUGE_UNITS = "mm"

[job.build.gauge]
steps = [
  { name = "make", run = "mkdir -p out && echo measured-in-$GAUGE_UNITS > out/gauge" },
  { name = "shown", run = "env | sort", env = { STEP_ONLY = "here" } },
]
gives = { firmware = ["out/*"] }

[job.test.unit]
takes = ["build.gauge/firmware", { from = "build.gauge/firmware", to = "again" }]
steps = ["cat out/gauge again/out/gauge", "test -f ordotaxis.toml"]

[job.test.soak]
may_fail = true
steps = ["exit 3"]
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_push_comes_to_a_verdict_on_its_commit() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(PIPELINE);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(run["branch"], "main");
    assert_eq!(World::job(&run, "test.soak")["state"], "failed");

    let statuses = world.statuses_until("tidegauge", &commit, "success").await;
    let states: Vec<&str> = statuses.iter().map(|status| status.state.as_str()).collect();
    // One that a newer one waits behind is left out; the last always comes.
    assert!(matches!(states[..], ["pending", "success"] | ["pending", "running", "success"] | ["running", "success"]), "{states:?}");
    let last = statuses.last().expect("a status");
    assert!(last.text.starts_with("Passed: 2 jobs, 1 may fail and did"), "{statuses:?}");
    assert_eq!(last.context, "ordotaxis/main");
    assert_eq!(last.link, format!("{}/runs/tidegauge/1", world.url));
    note_says(&repository, &commit, "passed").await;

    let log = world.log(&run, "build.gauge").await;
    for line in
        ["CI=true", "ORDOTAXIS_RUN=tidegauge/1", "ORDOTAXIS_BRANCH=main", "GAUGE_UNITS=mm", "STEP_ONLY=here", "ORDOTAXIS_JOB=build.gauge"]
    {
        assert!(log.lines().any(|known| known == line), "{line} is missing in\n{log}");
    }
    assert!(log.lines().any(|line| line == format!("ORDOTAXIS_COMMIT={commit}")), "{log}");
    assert_eq!(world.log(&run, "test.unit").await, "measured-in-mm\nmeasured-in-mm\n");
    artifact_comes_back(&world).await;
}

/// The verdict is in the repository itself, for plain git.
async fn note_says(repository: &ordotaxis_testbed::Repository, commit: &str, state: &str) {
    let line = until("a git note", || async {
        let fetched = std::process::Command::new("git")
            .args(["fetch", "--quiet", "origin", "+refs/notes/ordotaxis:refs/notes/ordotaxis"])
            .current_dir(&repository.folder)
            .output()
            .ok()?;
        fetched.status.success().then(|| repository.git(&["notes", "--ref", "ordotaxis", "show", commit]))
    })
    .await;
    let note: Value = serde_json::from_str(&line).expect("a line of JSON");
    assert_eq!(note["state"], state);
    assert_eq!(note["run"], format!("{}/1", repository.name));
}

async fn artifact_comes_back(world: &World) {
    let listed = world.json(&["artifacts", "tidegauge/1"]).await;
    assert_eq!(listed[0]["name"], "firmware");
    assert!(listed[0]["digest"].as_str().is_some_and(|digest| digest.starts_with("sha256:")));
    let got = world.run(&["artifacts", "tidegauge/1", "get", "firmware", "--to", "fetched"]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let text = std::fs::read_to_string(world.folder.path().join("fetched/out/gauge")).expect("the file");
    assert_eq!(text, "measured-in-mm\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_is_mended_by_the_next_push() {
    let world = world().await;
    let repository = world.project("almanac").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline =
        "language = 1\norder = \"check > print\"\n[job.check.tables]\nsteps = [\"./check.sh\"]\n[job.print.text]\nsteps = [\"true\"]\n";
    repository.write("check.sh", "#!/bin/sh\necho 'high water is missing'\nexit 4\n");
    repository.git(&["init", "--quiet"]);
    std::process::Command::new("chmod").arg("+x").arg(repository.folder.join("check.sh")).status().expect("chmod");
    let broken = repository.push_pipeline(pipeline);
    let run = world.verdict("almanac", &broken).await;
    assert_eq!(run["state"], "failed");
    assert_eq!(World::job(&run, "print.text")["state"], "skipped");
    assert_eq!(World::job(&run, "print.text")["why"], "skipped because check.tables failed");
    let watched = world.run(&["watch", "almanac"]).await;
    assert_eq!(watched.code, 1);
    assert!(watched.out.contains("high water is missing"), "{watched:?}");
    assert!(watched.out.contains("Failed: 1 of 2 jobs; first check.tables: step `./check.sh` exited with 4"), "{watched:?}");

    repository.write("check.sh", "#!/bin/sh\necho fine\n");
    let mended = repository.commit("All waters");
    repository.push();
    assert_eq!(world.verdict("almanac", &mended).await["state"], "passed");
    assert_eq!(world.run(&["watch", "almanac"]).await.code, 0);
    let board: Value = world.http(reqwest::Method::GET, "/api/v1/board").send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!(board["projects"][0]["main"], "passed");
    assert_eq!(board["projects"][0]["runs"].as_array().map(Vec::len), Some(2));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_commit_has_one_run_unless_asked_by_hand() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    repository.git(&["push", "--quiet", "origin", "HEAD:refs/heads/other"]);
    let started = world.run(&["start", "tidegauge", "--ref", "other", "--watch"]).await;
    assert_eq!(started.code, 0, "{started:?}");
    let runs = world.json(&["runs", "tidegauge"]).await;
    let events: Vec<&str> = runs.as_array().expect("a list").iter().filter_map(|run| run["occasion"]["event"].as_str()).collect();
    assert_eq!(events, ["by_hand", "push"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn events_say_what_happened_and_nothing_is_missed() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    let all = events_from(&world, 0).await;
    let passed = all.iter().position(|(_, event)| event["job"] == "a.b" && event["state"] == "passed").expect("the job's end");
    // Coming back with an id in the middle gives exactly the rest.
    let rest = events_from(&world, all[passed / 2].0).await;
    assert_eq!(rest, all[passed / 2 + 1..].to_vec());
}

/// Every event after an id, until the run's verdict.
async fn events_from(world: &World, id: i64) -> Vec<(i64, Value)> {
    let request = world.http(reqwest::Method::GET, "/api/v1/live?run=tidegauge/1").header("last-event-id", id.to_string());
    let mut stream = request.send().await.expect("a stream");
    let (mut text, mut events) = (String::new(), Vec::new());
    while let Ok(Some(chunk)) = stream.chunk().await {
        text += &String::from_utf8_lossy(&chunk);
        while let Some((block, rest)) = text.split_once("\n\n") {
            let field = |name: &str| block.lines().find_map(|line| line.strip_prefix(name)).map(str::trim).unwrap_or_default();
            if let (Ok(id), Ok(event)) = (field("id:").parse(), serde_json::from_str::<Value>(field("data:"))) {
                events.push((id, event));
            }
            text = rest.to_owned();
        }
        // The run's verdict comes last.
        if events.last().is_some_and(|(_, event)| event["job"].is_null() && event["state"] == "passed") {
            break;
        }
    }
    events
}
