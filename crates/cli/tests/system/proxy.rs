//! The service behind nginx, with the very lines of the guide: sign-in, live events, uploads, and whose address counts.

use super::edge::certificate;
use super::hooks::announce;
use super::world_with;
use ordotaxis_testbed::{Process, RunnerOptions, World, free_port, until};
use reqwest::{Client, StatusCode};
use serde_json::{Value, json};
use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;
use std::process::Command;

/// What the guide tells to write, for the service at this address.
fn location(service: &str) -> String {
    let guide = include_str!("../../../../docs/service.md");
    let block = guide.split_once("```nginx\n").and_then(|(_, rest)| rest.split_once("```")).expect("the guide's block").0;
    assert!(block.contains("http://127.0.0.1:7070;"), "{block}");
    block.replace("http://127.0.0.1:7070;", &format!("{service};"))
}

fn nginx(folder: &Path, port: u16, service: &str) -> Process {
    let at = folder.display();
    let temporary: String =
        ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"].map(|what| format!("{what}_temp_path {at}/{what};\n")).concat();
    let config = format!(
        "daemon off;\nmaster_process off;\nworker_processes 1;\npid {at}/nginx.pid;\nerror_log stderr notice;\nevents {{}}\nhttp {{\naccess_log off;\n{temporary}\
         server {{\nlisten 127.0.0.1:{port} ssl;\nssl_certificate {at}/cert.pem;\nssl_certificate_key {at}/key.pem;\n{}}}\n}}\n",
        location(service)
    );
    std::fs::write(folder.join("nginx.conf"), config).expect("a configuration");
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let mut command = Command::new("nginx");
    command.env("PATH", path).arg("-c").arg(folder.join("nginx.conf")).arg("-p").arg(folder);
    Process::start(&mut command, folder, "nginx", "using the \"epoll\" event method")
}

/// A service behind nginx, whose certificate the forge does not know (so pushes are announced by the tests): the world, where nginx is, and the folder of its certificate.
async fn behind() -> (World, Process, String) {
    let port = free_port();
    let outside = format!("https://127.0.0.1:{port}");
    let config = format!("lease = \"4s\"\nbeat = \"500ms\"\npublic_url = \"{outside}\"\nbehind_proxy = [\"127.0.0.1\"]\n");
    let world = world_with(config.leak()).await;
    certificate(world.folder.path(), "proxy");
    let proxy = nginx(world.folder.path(), port, &world.url);
    (world, proxy, outside)
}

fn client(world: &World, from: u8) -> Client {
    let certificate = std::fs::read(world.folder.path().join("cert.pem")).expect("the certificate");
    let trusted = reqwest::Certificate::from_pem(&certificate).expect("a certificate");
    let from = IpAddr::V4(Ipv4Addr::new(127, 0, 0, from));
    Client::builder().tls_certs_only([trusted]).local_address(from).build().expect("a client")
}

#[tokio::test(flavor = "multi_thread")]
async fn nginx_in_front_passes_on_who_asks_and_from_where() {
    let (world, _proxy, outside) = behind().await;
    let one = client(&world, 2);
    let sign_in =
        |origin: &str| one.post(format!("{outside}/api/v1/session")).header("origin", origin).json(&json!({ "token": world.token })).send();
    let answer = sign_in(&outside).await.expect("an answer");
    assert_eq!(answer.status(), StatusCode::OK);
    let cookie = answer.headers()["set-cookie"].to_str().expect("text").to_owned();
    assert!(cookie.contains("Secure") && cookie.contains("HttpOnly"), "{cookie}");
    let pair = cookie.split(';').next().expect("a pair").to_owned();
    let link = |origin: &str| one.post(format!("{outside}/api/v1/sign-in-links")).header("cookie", &pair).header("origin", origin).send();
    assert_eq!(link(&outside).await.expect("an answer").status(), StatusCode::OK);
    assert_eq!(link("https://evil.example").await.expect("an answer").status(), StatusCode::FORBIDDEN);
    // Whoever is in front of nginx is one address, whatever they say of themselves; another one is not held up.
    let guess = async |client: &Client, url: &str, said: u8| {
        let call = client.post(format!("{url}/api/v1/session")).header("x-forwarded-for", format!("10.9.8.{said}"));
        call.json(&json!({ "token": "oxu_wrong" })).send().await.expect("an answer").status()
    };
    for (url, from) in [(&outside, 3), (&world.url, 4)] {
        let liar = client(&world, from);
        let mut last = StatusCode::OK;
        for said in 0..40 {
            last = guess(&liar, url, said).await;
        }
        assert_eq!(last, StatusCode::TOO_MANY_REQUESTS, "{url}");
    }
    assert_eq!(guess(&client(&world, 5), &outside, 1).await, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn live_events_and_uploads_come_through_nginx_as_they_happen() {
    let (world, _proxy, outside) = behind().await;
    let client = client(&world, 2);
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let go = world.folder.path().join("go");
    let wait = format!("while test ! -e {}; do sleep 0.02; done", go.display());
    let mut live = client.get(format!("{outside}/api/v1/live")).bearer_auth(&world.token).send().await.expect("a stream");
    assert_eq!(live.headers()["content-type"], "text/event-stream");
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.b]\nsteps = [\"echo begun\", \"{wait}\"]\n"));
    announce(&world, "tidegauge", "main", &commit).await;
    let mut heard = String::new();
    let running = async {
        while !(heard.contains("\"state\":\"running\"") && heard.contains("\"job\"")) {
            let piece = live.chunk().await.expect("the stream goes on").expect("more of it");
            heard.push_str(&String::from_utf8_lossy(&piece));
        }
    };
    tokio::time::timeout(ordotaxis_testbed::PATIENCE, running).await.unwrap_or_else(|_| panic!("heard only {heard}"));
    let run = world.run_of("tidegauge", &commit, "still going on", |run| run["state"] == "running").await;
    // The log as it grows, too: a call that is held until there is something.
    let log = format!("{outside}/api/v1/runs/tidegauge/1/jobs/a.b/log?offset=0&wait_ms=25000");
    until("the log's first line", || async {
        let text = client.get(&log).bearer_auth(&world.token).send().await.ok()?.text().await.ok()?;
        text.contains("begun").then_some(())
    })
    .await;
    assert_eq!(run["ended_at"], Value::Null);
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_and_the_client_work_through_nginx() {
    let (world, _proxy, outside) = behind().await;
    let trust = world.folder.path().join("cert.pem");
    // What an operator with a certificate of their own would set.
    let through = |command: &mut Command| {
        command.env("SSL_CERT_FILE", &trust).env("ORDOTAXIS_URL", &outside);
    };
    let repository = world.project("tidegauge").await;
    let token = world.json(&["runner", "invite"]).await["token"].as_str().unwrap_or_default().to_owned();
    let dir = world.folder.path().join("runner");
    let mut enrol = world.client();
    enrol.args(["runner", "enrol", "--invitation", &token, "--name", "quay", "--dir"]).arg(&dir);
    through(&mut enrol);
    let enrolled = tokio::task::spawn_blocking(move || enrol.output()).await.expect("a thread").expect("it runs");
    assert!(enrolled.status.success(), "{}", String::from_utf8_lossy(&enrolled.stderr));
    let mut work = world.client();
    work.args(["runner", "work", "--isolation", "host", "--dir"]).arg(&dir);
    through(&mut work);
    let _runner = Process::start(&mut work, world.folder.path(), "quay", "works at");
    let make = "head -c 30000000 /dev/urandom > big";
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.b]\nsteps = [\"{make}\"]\ngives = {{ big = [\"big\"] }}\n"));
    announce(&world, "tidegauge", "main", &commit).await;
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    let mut get = world.client();
    get.args(["artifacts", "tidegauge/1", "get", "big", "--to"]).arg(world.folder.path().join("got"));
    through(&mut get);
    let got = tokio::task::spawn_blocking(move || get.output()).await.expect("a thread").expect("it runs");
    assert!(got.status.success(), "{}", String::from_utf8_lossy(&got.stderr));
    let whole = until("the file", || async { std::fs::metadata(world.folder.path().join("got/big")).ok() }).await;
    assert_eq!(whole.len(), 30_000_000);
}
