//! Plain HTTP: who speaks it needs no certificates of authorities, and is told where an address only leads to another.

use super::world;
use ordotaxis_testbed::{ObjectStorage, Ran, RunnerOptions, World, until};
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

/// A service there starts, and reaches what speaks plainly: a forge that is told of a verdict, a cloud, a storage for its packs.
#[tokio::test(flavor = "multi_thread")]
async fn a_service_without_authorities_starts_and_speaks_plainly() {
    let mut world = world().await;
    let storage = ObjectStorage::start(&world.folder.path().join("storage"));
    world.configure(&format!("\n[store]\n{}", storage.settings()));
    world.environment.extend(NONE[1..].iter().filter_map(|one| one.split_once('=')).map(|(name, value)| (name.into(), value.into())));
    world.kill_service();
    world.start_service();
    let doctor = without_authorities(&world, &["doctor", "--data", &world.folder.path().join("service").display().to_string()]).await;
    assert!(doctor.out.contains("no certificates of authorities can be read") && doctor.out.contains("ca-certificates"), "{doctor:?}");
    let cloud = ["--provider", "practice", "--cloud", "http://127.0.0.1:9", "--most", "1", "--label", "sky"];
    let set = world.run(&[&["pool", "set", "sky"][..], &cloud[..]].concat()).await;
    assert_eq!(set.code, 0, "{set:?}");
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.a.gauge]\ncheckout = false\nsteps = [\"head -c 90000 /dev/urandom > water\"]\ngives = { water = [\"water\"] }\n";
    assert_eq!(world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await["state"], "passed");
    until("what it gave is in the storage", || async { (storage.kept("packs") > 0).then_some(()) }).await;
    let told = || async { world.run(&["pool", "show", "sky"]).await.out.contains("the cloud could not be reached").then_some(()) };
    until("the cloud that is away is told", told).await;
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
