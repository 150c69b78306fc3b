//! Lists of runs and projects, completions, and sentences that say exactly what was.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{RunnerOptions, until};
use std::process::Command;

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_told_apart_by_their_pipeline() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let file = |steps: &str| {
        format!(
            "language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"{steps}\"]\n[job.a.c]\nby_hand = true\nsteps = [\"true\"]\n[job.a.d]\nif = 'ref.tag != \"\"'\nsteps = [\"true\"]\n"
        )
    };
    repository.write("ordotaxis/nightly.toml", &file("echo nightly"));
    repository.push_pipeline(&file("echo main"));
    until("both runs", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        runs.as_array().filter(|runs| runs.len() == 2 && runs.iter().all(|run| !run["ended_at"].is_null())).map(|_| ())
    })
    .await;
    let list = world.run(&["runs", "tidegauge"]).await.out;
    assert!(list.contains("pipeline") && list.contains("nightly") && list.contains(" main "), "{list}");
    // What passed is what ran: one waits for someone, one was skipped.
    assert!(list.contains("Passed: 1 job, 1 skipped") && list.contains("1 waits for someone to start it"), "{list}");
    let only = world.json(&["runs", "tidegauge", "--pipeline", "nightly"]).await;
    assert_eq!((only.as_array().map(Vec::len), only[0]["pipeline"].as_str()), (Some(1), Some("nightly")));
    for shown in [world.json(&["show", "tidegauge", "--pipeline", "nightly"]).await, world.json(&["show", "tidegauge/nightly"]).await] {
        assert_eq!(shown["run"], only[0]["run"]);
    }
    assert!(world.run(&["logs", "tidegauge/nightly", "a.b", "-f"]).await.out.contains("nightly"));
    let none = world.run(&["show", "tidegauge/none"]).await;
    assert!(none.code == 2 && none.err.contains("no run of a pipeline none"), "{none:?}");
    assert_eq!(world.run(&["show", "tidegauge/1", "--pipeline", "main"]).await.code, 2);
    let projects = world.run(&["project", "list"]).await.out;
    assert!(projects.contains("passed") && projects.contains("since"), "{projects}");
    let again = world.run(&["again", "tidegauge", "--failed"]).await;
    assert!(again.code == 0 && again.err.contains("nothing to do again"), "{again:?}");
    let short = world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "x").await;
    assert!(short.err.contains("secret STATION_KEY"), "{short:?}");
}

#[test]
fn shells_and_man_know_the_commands() {
    for (shell, words) in [("bash", "complete"), ("zsh", "#compdef ordotaxis"), ("fish", "complete -c ordotaxis")] {
        let output = Command::new(ORDOTAXIS).args(["completions", shell]).output().expect("the client starts");
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success() && text.contains(words) && text.contains("rehearse"), "{shell}: {text}");
    }
    let folder = tempfile::tempdir().expect("a folder");
    let output = Command::new(ORDOTAXIS).arg("manual").arg(folder.path().join("man1")).output().expect("the client starts");
    assert!(output.status.success());
    let page = std::fs::read_to_string(folder.path().join("man1/ordotaxis-project-add.1")).expect("a page");
    assert!(page.contains(".TH") && page.contains("main\\-branch"), "{page}");
    assert!(!Command::new(ORDOTAXIS).args(["completions", "tide"]).output().expect("the client starts").status.success());
}

#[test]
fn files_that_are_no_text_and_stages_without_jobs() {
    let folder = tempfile::tempdir().expect("a folder");
    let run = |arguments: &[&str]| {
        let output = Command::new(ORDOTAXIS).args(arguments).current_dir(folder.path()).output().expect("the client starts");
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let file = folder.path().join("ordotaxis.toml");
    std::fs::write(&file, b"language = 1\ntitle = \"\xff\"\n").expect("a file");
    let (code, out, _) = run(&["check", "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!(
        (code, told["diagnostics"][0]["line"].as_i64(), told["diagnostics"][0]["code"].as_str()),
        (Some(1), Some(2), Some("syntax")),
        "{out}"
    );
    assert!(run(&["check"]).2.contains("is not UTF-8 text"));
    // The stage is ordered already; the job that is added is its first.
    std::fs::write(&file, "language = 1\norder = \"build > ship\"\n[job.build.gauge]\nsteps = [\"make\"]\n").expect("a file");
    assert_eq!(run(&["check"]).0, Some(1));
    let (code, out, err) = run(&["add", "job", "ship.it", "--step", "./ship"]);
    assert_eq!(code, Some(0), "{out} {err}");
    assert_eq!(run(&["check"]).0, Some(0));
    assert!(std::fs::read_to_string(&file).expect("a file").contains("[job.ship.it]"));
    assert_ne!(run(&["add", "job", "none.it", "--step", "x", "--after", "nowhere"]).0, Some(0));
    // A plan says what a job asks for.
    let text = "language = 1\n[job.a.b]\nwhere = [\"quay\"]\nturn = \"pier\"\nretry = { times = 2 }\nby_hand = true\nsteps = [\"true\"]\n\
                beside = [{ name = \"gauge\", run = \"true\" }]\ntools = { make = \">=4\" }\nnetwork = false\n[stage.a.gate]\ntests.failed = 0\n";
    std::fs::write(&file, text).expect("a file");
    let (_, out, err) = run(&["plan"]);
    for words in [
        "on quay",
        "turn pier",
        "tried again up to 2 times",
        "started by hand",
        "beside gauge",
        "with make >=4",
        "no network",
        "behind a gate: tests.failed 0",
    ] {
        assert!(out.contains(words), "{words}: {out} {err}");
    }
}
