//! What is printed where nobody reads it any more, and where it cannot be written: a pipe that is shut, a disk that is full.

use super::{ORDOTAXIS, world};
use nix::sys::signal::Signal;
use ordotaxis_testbed::{PATIENCE, Process, RunnerOptions, World, free_port, until};
use std::fs::File;
use std::process::{Command, Stdio};

/// A pipe whose reader has gone.
fn shut() -> Stdio {
    let (_, writer) = std::io::pipe().expect("a pipe");
    writer.into()
}

/// A disk that is full.
fn full() -> Stdio {
    File::options().write(true).open("/dev/full").expect("the device").into()
}

/// Its exit code, and what it says on standard error.
async fn printing_to(world: &World, out: Stdio, arguments: &[&str]) -> (i32, String) {
    let mut command = world.client();
    command.args(arguments).stdin(Stdio::null()).stdout(out).stderr(Stdio::piped());
    let output = tokio::task::spawn_blocking(move || command.output()).await.expect("a task").expect("the client runs");
    (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&output.stderr).into_owned())
}

/// A project with a run that has passed, and one that goes on.
async fn two_runs(world: &World) -> Process {
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let passed = repository.push_pipeline("language = 1\n[job.a.gauge]\nsteps = [\"echo low water\"]\n");
    assert_eq!(world.verdict("tidegauge", &passed).await["state"], "passed");
    let goes_on = repository.push_pipeline("language = 1\n[job.a.gauge]\nsteps = [\"sleep 600\"]\n");
    world.run_of("tidegauge", &goes_on, "it goes on", |run| run["state"] == "running").await;
    std::fs::write(world.folder.path().join("ordotaxis.toml"), "language = 1\n[job.a.gauge]\nsteps = [\"true\"]\n").expect("a file");
    std::fs::write(world.folder.path().join("names"), "north-pier\n").expect("a file");
    runner
}

const COMMANDS: &[&[&str]] = &[
    &["runs", "tidegauge"],
    &["runs", "tidegauge", "--json"],
    &["show", "tidegauge/1"],
    &["show", "tidegauge/1", "--json"],
    &["logs", "tidegauge/1", "a.gauge"],
    &["logs", "tidegauge/1", "a.gauge", "--grep", "water"],
    &["insight", "tidegauge", "--csv"],
    &["plan"],
    &["plan", "--format", "dot"],
    &["plan", "--format", "svg"],
    &["schema"],
    &["pool", "schema"],
    &["completions", "bash"],
    &["init", "--print"],
    &["share", "north-pier.c", "lock-gate.c"],
];

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_has_seen_enough_is_no_fault() {
    let world = world().await;
    let _runner = two_runs(&world).await;
    for arguments in COMMANDS {
        let (code, said) = printing_to(&world, shut(), arguments).await;
        assert!(code == 0 && !said.contains("panicked"), "{arguments:?}: {code}: {said}");
    }
    // What goes on for long ends with its reader: the runs of these go on.
    for arguments in [&["watch", "tidegauge/2"][..], &["rehearse", "--isolation", "host"]] {
        std::fs::write(world.folder.path().join("ordotaxis.toml"), "language = 1\n[job.a.gauge]\nsteps = [\"sleep 600\"]\n")
            .expect("a file");
        let (code, said) = printing_to(&world, shut(), arguments).await;
        assert!(code == 0 && !said.contains("panicked"), "{arguments:?}: {code}: {said}");
    }
    assert_eq!(world.json(&["show", "tidegauge/2"]).await["state"], "running");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_written_is_told() {
    let world = world().await;
    let _runner = two_runs(&world).await;
    for arguments in COMMANDS {
        let (code, said) = printing_to(&world, full(), arguments).await;
        assert!(code == 1 && said.contains("could not be written: No space left on device"), "{arguments:?}: {code}: {said}");
        assert!(!said.contains("panicked"), "{said}");
    }
    // A mistake of its own is told before that.
    let (code, said) = printing_to(&world, full(), &["show", "tidegauge/9"]).await;
    assert!(code == 2 && said.contains("tidegauge/9") && !said.contains("No space"), "{code}: {said}");
    let mut nowhere = world.client();
    let status = nowhere.args(["show", "tidegauge/9"]).stdin(Stdio::null()).stdout(shut()).stderr(shut()).status();
    assert_eq!(status.expect("it runs").code(), Some(2), "nobody hears of it");
}

/// A service and its log: where nobody reads it, it works on.
#[tokio::test(flavor = "multi_thread")]
async fn a_log_that_nobody_reads_ends_no_service() {
    for out in [shut, full] {
        let folder = tempfile::tempdir().expect("a folder");
        let address = format!("127.0.0.1:{}", free_port());
        let mut serve = Command::new(ORDOTAXIS);
        serve.args(["serve", "--listen", &address, "--data"]).arg(folder.path()).env("RUST_LOG", "debug");
        let mut service = Process::of(serve.stdin(Stdio::null()).stdout(out()).stderr(out()));
        let healthy =
            || async { reqwest::get(format!("http://{address}/healthz")).await.is_ok_and(|answer| answer.status() == 200).then_some(()) };
        until("it answers", healthy).await;
        for _ in 0..20 {
            healthy().await.expect("it goes on");
        }
        service.signal(Signal::SIGTERM);
        assert!(service.ended(PATIENCE).is_some_and(|status| status.code().is_some()), "it leaves by itself");
    }
}
