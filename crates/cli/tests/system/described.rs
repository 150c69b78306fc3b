//! Calls made up from the service's own description, thousands of them: each ends as the description says, and none in a
//! fault of ours. Minutes long, so it is run by `cargo xtask fuzz-api` alone, which installs the program that makes them up.

use super::world_with;
use ordotaxis_testbed::{RunnerOptions, World};
use std::process::{Command, Output, Stdio};

const CONFIG: &str = "lease = \"4s\"\nbeat = \"500ms\"\nopen = [\"description\"]\n";

/// Something of everything that calls can be about.
const PIPELINE: &str = "language = 1\n[job.build.gauge]\nsteps = [\"mkdir out; cp NOTICE out/fw; echo 7 > $ORDOTAXIS_FACTS/size\"]\n\
    gives = { fw = [\"out/fw\"] }\nfacts = [\"size\"]\nreports = { junit = [\"unit.xml\"] }\nreuse = { inputs = [\"NOTICE\"] }\n\
    [[job.build.gauge.cache]]\npaths = [\"out\"]\nkey = \"out-{hash:NOTICE}\"\n\
    [job.ship.it]\nby_hand = true\nsteps = [\"true\"]\n";
const REPORT: &str =
    "<testsuite name='unit'><testcase classname='gauge' name='datum' time='0.1'><failure>off</failure></testcase></testsuite>";

/// What is there, so that not all of it is made up.
const KNOWN: &str = "[parameters]\n\"path.project\" = \"tidegauge\"\n\"path.number\" = 1\n\"path.job\" = \"build.gauge\"\n\"query.project\" = \"tidegauge\"\n";

async fn made_up(world: &World, seconds: &str, more: &[&str]) -> Output {
    let fuzzer = std::env::var_os("ORDOTAXIS_FUZZER").expect("ORDOTAXIS_FUZZER names the program; run `cargo xtask fuzz-api`");
    let known = world.folder.path().join("known.toml");
    std::fs::write(&known, KNOWN).expect("a file");
    let checks =
        "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance,unsupported_method,ignored_auth";
    let mut command = Command::new(fuzzer);
    command.arg("--config-file").arg(known).args(["run", &format!("{}/api/openapi.json", world.url)]);
    command.args(["--header", &format!("Authorization: Bearer {}", world.token), "--checks", checks, "--workers", "2"]);
    command.args(["--max-time", seconds, "--request-timeout", "40", "--continue-on-failure", "--no-color"]).args(more);
    command.current_dir(world.folder.path()).stdin(Stdio::null());
    tokio::task::spawn_blocking(move || command.output()).await.expect("a thread").expect("it runs")
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "minutes long, and needs a program of its own: `cargo xtask fuzz-api`"]
async fn every_call_ends_as_it_is_described() {
    let seconds = std::env::var("ORDOTAXIS_FUZZ_SECONDS").unwrap_or_else(|_| "150".into());
    let world = world_with(CONFIG).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("NOTICE", "a gauge\n");
    repository.write("unit.xml", REPORT);
    world.verdict("tidegauge", &repository.push_pipeline(PIPELINE)).await;
    let most = made_up(&world, &seconds, &["--exclude-operation-id", "remove_project"]).await;
    let said = String::from_utf8_lossy(&most.stdout).into_owned();
    println!("{}", said.split_once("= SUMMARY =").map_or(said.as_str(), |(_, summary)| summary));
    assert!(most.status.success(), "{said}\n{}", String::from_utf8_lossy(&most.stderr));
    let rest = made_up(&world, "20", &["--include-operation-id", "remove_project", "--include-operation-id", "list_projects"]).await;
    assert!(rest.status.success(), "{}", String::from_utf8_lossy(&rest.stdout));
    let metrics = world.http(reqwest::Method::GET, "/metrics").send().await.expect("an answer").text().await.expect("text");
    assert!(metrics.lines().any(|line| line == "ordotaxis_panics_total 0"), "{metrics}");
    // And all goes on; the first runner may be drained or removed by now.
    let _another = world.runner(RunnerOptions::default()).await;
    let other = world.project("almanac").await;
    let run = world.verdict("almanac", &other.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n")).await;
    assert_eq!(run["state"], "passed", "{run}");
}
