//! The edge: what is asked without a right to ask, from elsewhere, too often, or never finished.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{Process, World, free_port, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

fn host(world: &World) -> String {
    world.url.trim_start_matches("http://").to_owned()
}

/// Sends bytes as they are; gives the answer's first line, or nothing when there is none within a while.
fn raw(address: &str, bytes: &str, patience: Duration) -> String {
    let mut stream = TcpStream::connect(address).expect("a connection");
    stream.set_read_timeout(Some(patience)).expect("a limit");
    stream.write_all(bytes.as_bytes()).expect("sent");
    let mut answer = Vec::new();
    let mut piece = [0; 4096];
    while let Ok(count) = stream.read(&mut piece) {
        answer.extend_from_slice(&piece[..count]);
        if count == 0 || answer.contains(&b'\n') {
            break;
        }
    }
    String::from_utf8_lossy(&answer).lines().next().unwrap_or_default().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_call_that_never_ends_holds_nobody_up() {
    let world = world().await;
    let address = host(&world);
    let head = |token: &str| {
        format!(
            "POST /api/v1/projects HTTP/1.1\r\nHost: {address}\r\n{token}Idempotency-Key: one\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{{"
        )
    };
    // Without a right: refused at once, and not when the service has waited 30 s. With one: it waits for its own body, and alone.
    let plain = head("");
    let answer = tokio::task::spawn_blocking({
        let address = address.clone();
        move || raw(&address, &plain, Duration::from_secs(25))
    });
    assert!(answer.await.expect("a thread").contains("401"));
    let mut stalled: Vec<TcpStream> = (0..20).map(|_| TcpStream::connect(&address).expect("a connection")).collect();
    let with = head(&format!("Authorization: Bearer {}\r\n", world.token));
    stalled.iter_mut().for_each(|stream| stream.write_all(with.as_bytes()).expect("sent"));
    for key in ["one", "two"] {
        let call = world.http(Method::POST, "/api/v1/check").header("idempotency-key", key).json(&json!({ "text": "language = 1" })).send();
        assert_eq!(call.await.expect("an answer").status(), StatusCode::OK);
    }
    // Those that stall were not waited for: nothing has come back to them.
    let waits = |stream: &mut TcpStream| {
        stream.set_nonblocking(true).expect("a setting");
        stream.read(&mut [0]).is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock)
    };
    assert!(stalled.iter_mut().any(waits));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_elsewhere_can_do_nothing() {
    let world = world().await;
    let client = reqwest::Client::new();
    let answer =
        client.post(format!("{}/api/v1/session", world.url)).json(&json!({ "token": world.token })).send().await.expect("an answer");
    let cookie = answer.headers()["set-cookie"].to_str().expect("text").split(';').next().expect("a pair").to_owned();
    let ask = |method: Method, path: &str| client.request(method, format!("{}{path}", world.url)).header("cookie", &cookie);
    assert_eq!(ask(Method::GET, "/api/v1/me").send().await.expect("an answer").status(), StatusCode::OK);
    let own = world.url.clone();
    for (name, value, status) in [
        ("origin", "https://evil.example", StatusCode::FORBIDDEN),
        ("origin", "null", StatusCode::FORBIDDEN),
        ("sec-fetch-site", "cross-site", StatusCode::FORBIDDEN),
        ("sec-fetch-site", "same-site", StatusCode::FORBIDDEN),
        ("x-nothing", "said", StatusCode::FORBIDDEN),
        ("origin", own.as_str(), StatusCode::OK),
        ("sec-fetch-site", "same-origin", StatusCode::OK),
    ] {
        let answer = ask(Method::POST, "/api/v1/sign-in-links").header(name, value).send().await.expect("an answer");
        assert_eq!(answer.status(), status, "{name}: {value}");
    }
    let foreign = client.get(format!("{}/api/v1/me", world.url)).header("host", "evil.example").bearer_auth(&world.token);
    assert_eq!(foreign.send().await.expect("an answer").status(), StatusCode::MISDIRECTED_REQUEST);
    // Every answer says what a browser may do with it: pages, data, errors, what is not there.
    for path in ["/", "/api/v1/me", "/api/v1/nowhere", "/assets/none.js", "/healthz", "/hooks/v1/x", "/runner/v1/x", "/view/x/y"] {
        let answer = client.get(format!("{}{path}", world.url)).send().await.expect("an answer");
        let header = |name: &str| answer.headers().get(name).map(|value| value.to_str().unwrap_or_default().to_owned()).unwrap_or_default();
        let policy = header("content-security-policy");
        assert!(policy.contains("frame-ancestors") && !policy.contains("script-src 'unsafe-inline'"), "{path}: {policy}");
        assert_eq!((header("x-content-type-options"), header("referrer-policy")), ("nosniff".into(), "no-referrer".into()), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_read_is_a_problem_with_details_too() {
    let world = world().await;
    world.project("tidegauge").await;
    for (method, path, status, kind) in [
        (Method::GET, "/api/v1/runs/tidegauge/one", StatusCode::BAD_REQUEST, "bad-address"),
        (Method::GET, "/api/v1/runs?cursor=one", StatusCode::BAD_REQUEST, "bad-query"),
        (Method::PATCH, "/api/v1/runs", StatusCode::METHOD_NOT_ALLOWED, "unknown-method"),
        (Method::GET, "/api/v1/none", StatusCode::NOT_FOUND, "unknown-address"),
        (Method::POST, "/api/v1/projects", StatusCode::UNSUPPORTED_MEDIA_TYPE, "not-json"),
    ] {
        let answer = world.http(method, path).send().await.expect("an answer");
        assert_eq!(
            (answer.status(), &answer.headers()["content-type"]),
            (status, &"application/problem+json".parse().expect("a type")),
            "{path}"
        );
        let problem: Value = answer.json().await.expect("JSON");
        assert_eq!(problem["type"], format!("/problems/{kind}"), "{problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_guesses_have_an_end() {
    let world = world().await;
    let client = reqwest::Client::new();
    let post = |path: &str, body: Value| client.post(format!("{}{path}", world.url)).json(&body).send();
    // The token comes before the name: who has none learns nothing of either.
    for name in ["quay", "x y", ""] {
        let answer = post("/runner/v1/enrol", json!({ "token": "oxi_wrong", "name": name })).await.expect("an answer");
        assert_eq!(answer.status(), StatusCode::UNAUTHORIZED, "{name}");
    }
    for (path, body) in [
        ("/api/v1/session", json!({ "token": "oxu_wrong" })),
        ("/runner/v1/enrol", json!({ "token": "oxi_wrong", "name": "quay" })),
        ("/hooks/v1/tidegauge", json!({})),
    ] {
        let mut statuses = Vec::new();
        for _ in 0..40 {
            statuses.push(post(path, body.clone()).await.expect("an answer").status());
        }
        assert_eq!(statuses[0], StatusCode::UNAUTHORIZED, "{path}");
        assert_eq!(statuses[39], StatusCode::TOO_MANY_REQUESTS, "{path}");
    }
    // Nobody who has signed in notices.
    assert_eq!(world.http(Method::GET, "/api/v1/me").send().await.expect("an answer").status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn heavy_files_wait_their_turn_and_the_service_goes_on() {
    let world = world().await;
    let axis = |name: &str| format!("{name} = [{}]", (0..36).map(|n| format!("\"v{n}\"")).collect::<Vec<_>>().join(", "));
    let text = format!(
        "language = 1\n[job.a.b]\neach = {{ {}, {}, {} }}\nif = 'each.a == \"v1\" || each.b == \"v2\"'\nsteps = [\"true\"]\n",
        axis("a"),
        axis("b"),
        axis("c")
    );
    let check = || tokio::spawn(world.http(Method::POST, "/api/v1/check").json(&json!({ "text": text })).send());
    // How long one takes here and now: so long would another call wait that has to wait for it.
    let begun = Instant::now();
    check().await.expect("a task").expect("an answer");
    let (alone, mut slowest) = (begun.elapsed(), Duration::ZERO);
    let heavy: Vec<_> = (0..6).map(|_| check()).collect();
    while heavy.iter().any(|call| !call.is_finished()) {
        let begun = Instant::now();
        assert_eq!(world.http(Method::GET, "/readyz").send().await.expect("an answer").status(), StatusCode::OK);
        slowest = slowest.max(begun.elapsed());
        tokio::task::yield_now().await;
    }
    assert!(slowest < alone, "another call waited {slowest:?}, where one file takes {alone:?}");
    for call in heavy {
        let status = call.await.expect("a task").expect("an answer").status();
        assert!(matches!(status, StatusCode::OK | StatusCode::SERVICE_UNAVAILABLE), "{status}");
    }
}

pub(super) fn certificate(folder: &std::path::Path, name: &str) {
    let made = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:prime256v1",
            "-nodes",
            "-days",
            "2",
            "-subj",
            &format!("/CN={name}"),
        ])
        .args([
            "-addext",
            "subjectAltName=IP:127.0.0.1",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
            "-keyout",
            "key.pem",
            "-out",
            "cert.pem",
        ])
        .current_dir(folder)
        .output()
        .expect("openssl runs");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// Whose certificate is shown.
async fn shown(folder: &std::path::Path, port: u16) -> Option<String> {
    let script = format!("echo | openssl s_client -connect 127.0.0.1:{port} 2>/dev/null | openssl x509 -noout -subject");
    let output = tokio::process::Command::new("sh").args(["-c", &script]).current_dir(folder).output().await.ok()?;
    Some(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn tls_is_built_in_and_read_anew_and_nothing_is_served_plainly_to_others() {
    let folder = tempfile::tempdir().expect("a folder");
    certificate(folder.path(), "first");
    let config = format!("[tls]\ncertificate = \"{0}/cert.pem\"\nkey = \"{0}/key.pem\"\n", folder.path().display());
    std::fs::write(folder.path().join("service.toml"), config).expect("a configuration");
    let serve = |listen: String, with: bool| {
        let mut command = std::process::Command::new(ORDOTAXIS);
        command.args(["serve", "--listen", &listen, "--data"]).arg(folder.path().join("data"));
        if with {
            command.arg("--config").arg(folder.path().join("service.toml"));
        }
        command
    };
    let plain = serve(format!("0.0.0.0:{}", free_port()), false).output().expect("it ends");
    let said = String::from_utf8_lossy(&plain.stderr).into_owned();
    assert!(!plain.status.success() && said.contains("without TLS would show every token"), "{said}");
    let port = free_port();
    let service = Process::start(&mut serve(format!("127.0.0.1:{port}"), true), folder.path(), "service", "printed this once");
    let said = service.said();
    let token = said.split_once("printed this once: ").expect("a token").1.lines().next().unwrap_or_default().to_owned();
    let trusted =
        reqwest::Certificate::from_pem(&std::fs::read(folder.path().join("cert.pem")).expect("the certificate")).expect("a certificate");
    let client = reqwest::Client::builder().tls_certs_only([trusted]).build().expect("a client");
    let me = client.get(format!("https://127.0.0.1:{port}/api/v1/me")).bearer_auth(&token).send().await.expect("an answer");
    assert_eq!(me.status(), StatusCode::OK);
    assert!(shown(folder.path(), port).await.is_some_and(|name| name.contains("first")));
    certificate(folder.path(), "second");
    service.signal(nix::sys::signal::Signal::SIGHUP);
    until("the new certificate", || async { shown(folder.path(), port).await.filter(|name| name.contains("second")) }).await;
    // What cannot be read leaves the one that was.
    std::fs::write(folder.path().join("cert.pem"), "nonsense").expect("a file");
    service.signal(nix::sys::signal::Signal::SIGHUP);
    assert!(shown(folder.path(), port).await.is_some_and(|name| name.contains("second")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_call_that_failed_is_found_in_the_log_by_its_id() {
    let mut world = world().await;
    world.environment = vec![("ORDOTAXIS_LOG".into(), "json".into())];
    world.kill_service();
    world.start_service();
    let well = world.http(Method::GET, "/api/v1/machines/none").send().await.expect("an answer");
    assert_eq!(well.headers()["x-request-id"].len(), 16);
    // A fault of ours, made by hand.
    let path = format!("sqlite://{}?mode=rw", world.folder.path().join("service/ordotaxis.db").display());
    let database = sqlx::SqlitePool::connect(&path).await.expect("it opens");
    sqlx::query("ALTER TABLE machines RENAME TO machines_elsewhere").execute(&database).await.expect("renamed");
    let failed = world.http(Method::GET, "/api/v1/machines/none").send().await.expect("an answer");
    assert_eq!(failed.status(), StatusCode::INTERNAL_SERVER_ERROR);
    let id = failed.headers()["x-request-id"].to_str().expect("text").to_owned();
    let said = failed.text().await.expect("text");
    assert!(!said.contains("no such table"), "nothing of what is beneath is told: {said}");
    let line = until("the log", || async {
        let log = world.service.as_ref().map(Process::said).unwrap_or_default();
        log.lines().find(|line| line.contains(&id)).map(str::to_owned)
    })
    .await;
    let line: Value = serde_json::from_str(&line).unwrap_or_else(|error| panic!("{error}: {line}"));
    assert_eq!(line["span"]["id"], id.as_str(), "{line}");
    assert_eq!(line["span"]["route"], "/api/v1/machines/{id}");
    assert!(line["fields"]["error"].as_str().is_some_and(|error| error.contains("no such table")), "{line}");
    let client = world.run(&["pool", "machine", "none"]).await;
    assert!(client.code == 3 && client.err.contains("its log names the call "), "{client:?}");
    sqlx::query("ALTER TABLE machines_elsewhere RENAME TO machines").execute(&database).await.expect("renamed");
}
