//! What the guides say, done.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::RunnerOptions;
use std::process::Command;

fn guide(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../docs/{name}", env!("CARGO_MANIFEST_DIR"))).expect("a guide")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guides_pipelines_pass() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    let guides =
        ["getting-started.md", "language.md", "running.md", "caching.md", "artifacts.md", "tests.md", "people.md", "repositories.md"];
    let all: String = guides.into_iter().map(guide).collect();
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud").await.code, 0);
    let examples = all.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next());
    // Those that run a project's own tools need that project; what calls the service is not reached from within this fence.
    for example in examples.filter(|example| !example.contains("./tools/") && !example.contains("curl")) {
        let commit = repository.push_pipeline(example);
        let run = world.verdict("tidegauge", &commit).await;
        if run["state"] != "passed" {
            let failed = run["jobs"].as_array().into_iter().flatten().find(|job| job["state"] == "failed");
            let job = failed.and_then(|job| job["id"].as_str()).unwrap_or_default();
            panic!("{example}\n{run}\nthe log of {job}: {}", world.log(&run, job).await);
        }
    }
}

/// Every command of the guide to rehearsing, on the demo project.
#[test]
fn the_guide_to_rehearsing_runs_as_printed() {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tidegauge");
    let folder = tempfile::tempdir().expect("a folder");
    assert!(Command::new("cp").args(["-a", &format!("{demo}/."), "."]).current_dir(folder.path()).status().expect("cp starts").success());
    for arguments in [vec!["init", "--quiet", "--initial-branch=main"], vec!["add", "--all"], vec!["commit", "--quiet", "-m", "One"]] {
        super::here::git(folder.path(), &arguments);
    }
    let text = guide("rehearse.md");
    let lines: Vec<&str> = text.lines().filter(|line| line.starts_with("ordotaxis ")).collect();
    assert!(lines.len() > 3, "{lines:?}");
    for line in lines {
        let words: Vec<&str> = line.split('#').next().unwrap_or_default().split_whitespace().skip(1).collect();
        let (code, out, err) = super::here::here(folder.path(), &words);
        assert_eq!(code, 0, "{line}: {out}{err}");
    }
}

/// A job's own token, used as the guide uses it.
#[tokio::test(flavor = "multi_thread")]
async fn the_guides_job_leaves_its_note() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let people = guide("people.md");
    let example = people.split("```toml\n").filter_map(|rest| rest.split("```").next()).find(|example| example.contains("curl"));
    let run = world.verdict("tidegauge", &repository.push_pipeline(example.expect("the example"))).await;
    assert_eq!(run["state"], "passed", "{run}");
    let noted = world.json(&["journal", "tidegauge", "--action", "note.add"]).await;
    assert_eq!((noted[0]["who"].as_str(), noted[0]["after"].as_str()), (Some("tidegauge/1 ship.tell"), Some("the datum was checked")));
}

#[test]
fn every_command_in_the_guide_is_there() {
    let text = guide("commands.md");
    let rows: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("| `ordotaxis ")?.split('`').next()).collect();
    assert!(rows.len() > 15, "{rows:?}");
    for row in rows {
        let output = Command::new(ORDOTAXIS).args(row.split(' ')).arg("--help").output().expect("the client starts");
        assert!(output.status.success(), "ordotaxis {row} --help");
    }
}
