//! The client: output for people and programs, exit codes, and what needs no service.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{RunnerOptions, until};
use serde_json::Value;
use std::process::{Command, Output};

fn ordotaxis(folder: &std::path::Path, arguments: &[&str]) -> Output {
    let mut command = Command::new(ORDOTAXIS);
    command.args(arguments).current_dir(folder).env("XDG_CONFIG_HOME", folder).env_remove("ORDOTAXIS_URL").env_remove("ORDOTAXIS_TOKEN");
    command.output().expect("the client starts")
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

const PIPELINE: &str = "language = 1\norder = \"build > test > pack\"\n[job.build.gauge]\nsteps = [\"make\"]\ngives = { fw = [\"out/*\"] }\n\
    [job.test.unit]\nsteps = [\"make test\"]\ntakes = [\"build.gauge/fw\"]\n[job.pack.bundle]\nsteps = [\"make pack\"]\ntakes = [\"build.gauge/fw\"]\n";

#[test]
fn check_underlines_and_counts_every_mistake() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(
        folder.path().join("ordotaxis.toml"),
        "language = 1\n[job.test.unit]\nsteps = [\"x\"]\ntimout = \"5m\"\nafter = [\"tset\"]\n",
    )
    .expect("a file");
    let output = ordotaxis(folder.path(), &["check"]);
    assert_eq!(output.status.code(), Some(1));
    let out = text(&output.stdout);
    for words in [
        "job test.unit has no key `timout`",
        "did you mean `timeout`?",
        "ordotaxis.toml:4:1",
        "^^^^^^",
        "there is no job and no stage `tset`",
    ] {
        assert!(out.contains(words), "{words}\n{out}");
    }
    assert!(!out.contains('\u{1b}'), "no colour into a pipe");
    let output = ordotaxis(folder.path(), &["check", "--format", "json"]);
    let json: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let first = &json["diagnostics"][0];
    assert_eq!(
        (first["code"].as_str(), first["line"].as_i64(), first["column"].as_i64(), first["length"].as_i64()),
        (Some("unknown-key"), Some(4), Some(1), Some(6))
    );
}

#[test]
fn check_prints_a_circle_the_whole_way_round() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = "language = 1\norder = \"build > test\"\n[job.build.gauge]\nsteps = [\"x\"]\ntakes = [\"test.unit/report\"]\n[job.test.unit]\nsteps = [\"x\"]\ngives = { report = [\"r\"] }\n";
    std::fs::write(folder.path().join("ordotaxis.toml"), file).expect("a file");
    let out = text(&ordotaxis(folder.path(), &["check"]).stdout);
    for words in ["build.gauge takes test.unit/report", "test.unit waits for build.gauge, since the order puts build before test"] {
        assert!(out.contains(words), "{words}\n{out}");
    }
}

#[test]
fn plan_needs_no_service() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("ordotaxis.toml"), PIPELINE).expect("a file");
    let human = text(&ordotaxis(folder.path(), &["plan", "--reasons"]).stdout);
    for words in ["3 jobs, 3 stages", "build.gauge  starts at once", "waits for build.gauge: takes fw", "the order puts test before pack"] {
        assert!(human.contains(words), "{words}\n{human}");
    }
    let json: Value = serde_json::from_slice(&ordotaxis(folder.path(), &["plan", "--format", "json"]).stdout).expect("JSON");
    let pack = &json["jobs"][2];
    assert_eq!(pack["id"], "pack.bundle");
    assert_eq!(pack["waits_for"][0], serde_json::json!({ "job": "build.gauge", "because": "takes", "implied": true }));
    assert_eq!(pack["waits_for"][1], serde_json::json!({ "job": "test.unit", "because": "order", "implied": false }));
    let dot = text(&ordotaxis(folder.path(), &["plan", "--format", "dot"]).stdout);
    assert!(dot.starts_with("digraph") && dot.contains("\"test.unit\" -> \"pack.bundle\""), "{dot}");
}

#[test]
fn wrong_use_is_told_with_what_to_do() {
    let folder = tempfile::tempdir().expect("a folder");
    for (arguments, code, words) in [
        (&["check"][..], 2, "there is no pipeline file here"),
        (&["plan", "none.toml"], 2, "none.toml could not be read"),
        (&["runs"], 2, "no token is known"),
        (&["--token", "x", "--url", "http://127.0.0.1:1", "runs"], 3, "could not be reached: nothing listens there"),
        (&["--token", "x", "show", "a/b/c"], 2, "`a/b/c` names no run"),
        (&["runner", "work", "--dir", "nowhere"], 2, "nowhere is not enrolled"),
        (&["frobnicate"], 2, "unrecognized subcommand"),
    ] {
        let output = ordotaxis(folder.path(), arguments);
        assert_eq!(output.status.code(), Some(code), "{arguments:?} {}", text(&output.stderr));
        assert!(text(&output.stderr).contains(words), "{arguments:?} {}", text(&output.stderr));
    }
    std::fs::write(folder.path().join("bad.toml"), b"title = \"\xff\"").expect("a file");
    let output = ordotaxis(folder.path(), &["check", "bad.toml"]);
    assert!(text(&output.stderr).contains("is not UTF-8 text: byte 9"), "{}", text(&output.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn sign_in_keeps_what_later_commands_need() {
    let world = world().await;
    let folder = world.folder.path();
    let (url, token) = (world.url.clone(), world.token.clone());
    let wrong = ordotaxis(folder, &["--url", &url, "--token", "oxu_wrong", "sign-in"]);
    assert_eq!(wrong.status.code(), Some(3));
    let right = ordotaxis(folder, &["--url", &url, "--token", &token, "sign-in"]);
    assert_eq!(right.status.code(), Some(0), "{}", text(&right.stderr));
    let list = ordotaxis(folder, &["project", "list"]);
    assert!(text(&list.stderr).contains("there are no projects yet"), "{}", text(&list.stderr));
    let kept = std::fs::metadata(folder.join("ordotaxis/client.toml")).expect("the file");
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&kept.permissions()) & 0o777, 0o600);
}

#[tokio::test(flavor = "multi_thread")]
async fn watch_follows_a_run_while_it_goes() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let step = format!("while ! [ -e {} ]; do sleep 0.05; done", go.display());
    let commit = repository.push_pipeline(&format!(
        "language = 1\norder = \"a > b\"\n[job.a.wait]\nsteps = [\"{step}\"]\n[job.b.after]\nsteps = [\"true\"]\n"
    ));
    world.run_of("tidegauge", &commit, "a run that goes", |run| run["state"] == "running").await;
    let out = world.folder.path().join("watch.out");
    let mut watch =
        world.client().args(["watch", "tidegauge"]).stdout(std::fs::File::create(&out).expect("a file")).spawn().expect("it starts");
    let said = || std::fs::read_to_string(&out).unwrap_or_default();
    until("the running job's line", || async { said().contains("running   a.wait").then_some(()) }).await;
    assert!(!said().contains("passed"));
    std::fs::write(&go, "").expect("a file");
    let status = tokio::task::spawn_blocking(move || watch.wait()).await.expect("a task").expect("its end");
    assert_eq!(status.code(), Some(0));
    for words in ["passed    a.wait", "passed    b.after", "Passed: 2 jobs"] {
        assert!(said().contains(words), "{words}\n{}", said());
    }
    let listed = world.run(&["runs"]).await;
    assert!(listed.out.contains("tidegauge/1"), "{listed:?}");
    let runners = world.json(&["runner", "list"]).await;
    assert_eq!(runners[0]["connected"], true);
    let shown = world.run(&["show", "tidegauge"]).await;
    assert!(shown.out.contains("b.after") && shown.out.contains("Passed: 2 jobs"), "{shown:?}");
}
