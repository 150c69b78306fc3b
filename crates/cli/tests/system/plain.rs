//! Plain HTTP: who speaks it needs no certificates of authorities, and is told where an address only leads to another.

use super::world;
use ordotaxis_testbed::{Ran, RunnerOptions, World};
use std::process::Stdio;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

const NONE: [&str; 3] = ["env", "SSL_CERT_FILE=/nonexistent", "SSL_CERT_DIR=/nonexistent"];

/// Runs the client where no authorities are known.
async fn without_authorities(world: &World, arguments: &[&str]) -> Ran {
    let mut command = world.client();
    command.args(arguments).envs(NONE[1..].iter().filter_map(|one| one.split_once('='))).stdin(Stdio::null());
    let output = tokio::task::spawn_blocking(move || command.output()).await.expect("a task").expect("the client runs");
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    Ran { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_without_authorities_speaks_plainly() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { within: NONE.map(str::to_owned).to_vec(), ..RunnerOptions::default() }).await;
    let pipeline = "language = 1\n[job.a.gauge]\nsteps = [\"echo low > water\"]\ngives = { water = [\"water\"] }\n\
                    [job.b.read]\ntakes = [\"a.gauge/water\"]\nsteps = [\"cat water\"]\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(world.log(&run, "b.read").await, "low\n");
    let runs = without_authorities(&world, &["runs", "tidegauge"]).await;
    assert!(runs.code == 0 && runs.out.contains("tidegauge/1"), "{runs:?}");
    // With TLS nobody could be believed, and that is what is said.
    let safe = without_authorities(&world, &["--url", "https://127.0.0.1:9", "runs"]).await;
    assert!(safe.code == 3 && safe.err.contains("certificates of authorities could not be read"), "{safe:?}");
    let dir = world.folder.path().join("safe").display().to_string();
    let enrol = ["--url", "https://127.0.0.1:9", "runner", "enrol", "--invitation", "oxi_none", "--name", "quay", "--dir", &dir];
    let safe = without_authorities(&world, &enrol).await;
    assert!(safe.code == 3 && safe.err.contains("certificates of authorities") && !safe.err.contains("panicked"), "{safe:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_leads_to_another_is_told_apart() {
    let world = world().await;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let url = format!("http://{}", listener.local_addr().expect("an address"));
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.read(&mut [0; 4096]).await;
            let answer =
                "HTTP/1.1 308 Permanent Redirect\r\nLocation: https://tides.example/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
            let _ = stream.write_all(answer.as_bytes()).await;
        }
    });
    let ran = world.run(&["--url", &url, "runs"]).await;
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.err.contains("sends callers to https://tides.example/") && ran.err.contains("name that address with --url"), "{ran:?}");
}
