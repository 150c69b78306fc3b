//! Signing in at a provider, tokens of jobs, and identities that jobs show to the outside; each with programs of other
//! people on the other side.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{Browser, Process, RunnerOptions, World, free_port};
use reqwest::header::{LOCATION, SET_COOKIE};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

fn script(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/tests").join(name)
}

/// A world whose service knows a provider, and the file with what the provider says.
async fn with_provider(newcomers: &str) -> (World, Process, PathBuf, String) {
    let folder = tempfile::tempdir().expect("a folder");
    let (claims, secret, port) = (folder.path().join("claims.json"), folder.path().join("client-secret"), free_port());
    std::fs::write(&claims, "{}").expect("a file");
    std::fs::write(&secret, "salt-and-mud\n").expect("a file");
    let mut command = Command::new("node");
    command.arg(script("provider.mjs")).arg(port.to_string()).arg(&claims);
    let provider = Process::start(&mut command, folder.path(), "provider", "provides at");
    let issuer = format!("http://localhost:{port}");
    let config = format!(
        "lease = \"2s\"\nbeat = \"300ms\"\n[sign_in]\nname = \"Saltmarsh\"\nissuer = \"{issuer}\"\nclient_id = \"ordotaxis\"\nclient_secret_file = \"{}\"\nnewcomers = \"{newcomers}\"\n",
        secret.display()
    );
    let world = World::start_in(ORDOTAXIS, String::leak(config), folder).await;
    (world, provider, claims, issuer)
}

fn client() -> reqwest::Client {
    reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().expect("a client")
}

/// What the provider sends back to a browser that was sent there: its answer, and the cookie of the browser.
async fn answer(world: &World) -> (Value, String) {
    let begun = client().get(format!("{}/api/v1/sign-in/begin", world.url)).send().await.expect("an answer");
    assert_eq!(begun.status(), 303, "{begun:?}");
    let header = |name| begun.headers()[name].to_str().expect("a text").to_owned();
    let (cookie, provider) = (header(SET_COOKIE), header(LOCATION));
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax"), "{cookie}");
    assert!(provider.contains("code_challenge_method=S256") && provider.contains("nonce="), "{provider}");
    let back = client().get(provider).send().await.expect("an answer");
    let back = reqwest::Url::parse(back.headers()[LOCATION].to_str().expect("an address")).expect("an address");
    assert!(back.as_str().starts_with(&format!("{}/sign-in?", world.url)), "{back}");
    let part = |name: &str| back.query_pairs().find(|(known, _)| known == name).map(|(_, value)| value.into_owned()).unwrap_or_default();
    (json!({ "provider": { "code": part("code"), "state": part("state") } }), cookie.split(';').next().unwrap_or_default().to_owned())
}

async fn sign_in(world: &World, ask: &Value, cookie: &str) -> (u16, Value) {
    let call = client().post(format!("{}/api/v1/session", world.url)).header("cookie", cookie).json(ask);
    let answer = call.send().await.expect("an answer");
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_at_a_provider() {
    let (world, _provider, claims, issuer) = with_provider("refuse").await;
    let ways: Value = client().get(format!("{}/api/v1/sign-in", world.url)).send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!((ways["provider"].as_str(), ways["url"].as_str()), (Some("Saltmarsh"), Some("/api/v1/sign-in/begin")));
    std::fs::write(&claims, json!({ "sub": "7", "preferred_username": "maren" }).to_string()).expect("a file");
    let (ask, cookie) = answer(&world).await;
    let (status, told) = sign_in(&world, &ask, &cookie).await;
    let detail = told["detail"].as_str().unwrap_or_default();
    assert!(status == 403 && detail.contains(&format!("ordotaxis person known NAME --issuer {issuer} --subject 7")), "{told}");
    assert_eq!(world.run(&["person", "add", "maren"]).await.code, 0);
    assert_eq!(world.run(&["person", "known", "maren", "--issuer", &issuer, "--subject", "7"]).await.code, 0);
    let (ask, cookie) = answer(&world).await;
    let (status, told) = sign_in(&world, &ask, &cookie).await;
    assert_eq!((status, told["name"].as_str()), (200, Some("maren")), "{told}");
    let (status, told) = sign_in(&world, &ask, &cookie).await;
    assert_eq!((status, told["type"].as_str()), (401, Some("/problems/not-known")), "a code counts once: {told}");
    let (ask, _) = answer(&world).await;
    assert_eq!(sign_in(&world, &ask, "").await.0, 401, "in another browser than the one that asked");
    let (_, cookie) = answer(&world).await;
    assert_eq!(sign_in(&world, &ask, &cookie).await.0, 401, "with another browser's answer");
    let made_up = json!({ "provider": { "code": "x", "state": "y" } });
    assert_eq!(sign_in(&world, &made_up, "ordotaxis_sign_in=y").await.0, 401);
    let journal = world.json(&["journal", "--action", "session.begin"]).await;
    let refusals = journal.as_array().into_iter().flatten().filter(|row| !row["refused"].is_null()).count();
    assert_eq!(refusals, 5, "{journal}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_provider_says_must_hold() {
    let (world, _provider, claims, issuer) = with_provider("add").await;
    let own = json!({ "sub": "9", "preferred_username": "odd" });
    for (wrong, words) in [
        (json!({ "nonce": "another" }), "nonce"),
        (json!({ "iss": "http://localhost:1" }), "issuer"),
        (json!({ "aud": "someone-else" }), "audience"),
        (json!({ "exp": 1_000_000 }), "xpired"),
    ] {
        let mut said = own.clone();
        said.as_object_mut().expect("claims").extend(wrong.as_object().expect("claims").clone());
        std::fs::write(&claims, said.to_string()).expect("a file");
        let (ask, cookie) = answer(&world).await;
        let (status, told) = sign_in(&world, &ask, &cookie).await;
        assert!(status == 401 && told["detail"].as_str().is_some_and(|detail| detail.contains(words)), "{wrong}: {told}");
    }
    std::fs::write(&claims, own.to_string()).expect("a file");
    let (ask, cookie) = answer(&world).await;
    let (status, told) = sign_in(&world, &ask, &cookie).await;
    assert_eq!((status, told["name"].as_str(), told["role"].is_null()), (200, Some("odd"), true), "{told}");
    let persons = world.json(&["person", "list"]).await;
    let odd = persons.as_array().and_then(|all| all.iter().find(|one| one["name"] == "odd")).cloned().unwrap_or_default();
    assert_eq!(odd["identities"], json!([{ "issuer": issuer, "subject": "9" }]), "{persons}");
    // Someone else who is called the same there is not the same person.
    std::fs::write(&claims, json!({ "sub": "10", "preferred_username": "odd" }).to_string()).expect("a file");
    let (ask, cookie) = answer(&world).await;
    assert_eq!(sign_in(&world, &ask, &cookie).await.0, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_goes_to_the_provider_and_comes_back_signed_in() {
    let (world, _provider, claims, _) = with_provider("add").await;
    std::fs::write(&claims, json!({ "sub": "9", "preferred_username": "odd" }).to_string()).expect("a file");
    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&format!("{}/notices", world.url)).await.expect("the page");
    browser.see("Sign in with Saltmarsh").await;
    browser.see("Then it goes on to /notices").await;
    browser.click("a[href='/api/v1/sign-in/begin']").await;
    browser.see("no runner connected").await;
    assert_eq!(browser.text("header > .menu summary").await, "odd");
    assert_eq!(browser.script("return location.search").await, json!(""), "the code is gone from the address");
    browser.holds("it is the page that was opened", "location.pathname === '/notices'").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_that_is_away_is_told() {
    let (world, provider, ..) = with_provider("refuse").await;
    provider.kill();
    let begun = client().get(format!("{}/api/v1/sign-in/begin", world.url)).send().await.expect("an answer");
    assert_eq!(begun.status(), 502);
    let told: Value = begun.json().await.expect("JSON");
    assert!(told["detail"].as_str().is_some_and(|detail| detail.starts_with("the provider could not be asked")), "{told}");
    assert_eq!(world.run(&["person", "list"]).await.code, 0, "other ways go on");
}

/// What `node identity.mjs` says of a token.
fn verified(issuer: &str, audience: &str, token: &str) -> Result<Value, String> {
    use std::io::Write;
    let mut command = Command::new("node");
    command.arg(script("identity.mjs")).args([issuer, audience]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("node");
    child.stdin.take().expect("a pipe").write_all(token.as_bytes()).expect("written");
    let output = child.wait_with_output().expect("an end");
    match output.status.success() {
        true => Ok(serde_json::from_slice(&output.stdout).expect("JSON")),
        false => Err(String::from_utf8_lossy(&output.stderr).into_owned()),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_shows_who_it_is_and_does_what_it_may() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let stations = world.project("stations").await;
    world.project("almanac").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    stations.push_pipeline("language = 1\n[starts]\npush = []\n[job.a.b]\ncheckout = false\nsteps = [\"true\"]\n");
    let out = world.folder.path().join("out");
    std::fs::create_dir(&out).expect("a folder");
    let start = |project: &str| {
        format!(
            "curl -s -o /dev/null -w '%{{http_code}}' -H \"Authorization: Bearer $ORDOTAXIS_TOKEN\" -H 'content-type: application/json' -d '{{}}' {}/api/v1/projects/{project}/runs > {}/start-{project}",
            world.url,
            out.display()
        )
    };
    let note = format!(
        "curl -s -o /dev/null -w '%{{http_code}}' -H \"Authorization: Bearer $ORDOTAXIS_TOKEN\" -H 'content-type: application/json' -d '{{\"text\":\"datum checked\"}}' {}/api/v1/runs/$ORDOTAXIS_RUN/notes > {}/note",
        world.url,
        out.display()
    );
    let steps = [
        format!("printf %s \"$CLOUD\" > {}/cloud", out.display()),
        format!("printf %s \"$ORDOTAXIS_TOKEN\" > {}/token", out.display()),
        "echo shown: $CLOUD $ORDOTAXIS_TOKEN".to_owned(),
        start("stations"),
        start("almanac"),
        note,
    ];
    let text = format!(
        "language = 1\n[job.ship.it]\ncheckout = false\nallows = [\"start:stations\", \"note\"]\nidentity = {{ CLOUD = \"https://cloud.example\" }}\nsteps = {}\n",
        serde_json::to_string(&steps).expect("JSON")
    );
    let commit = repository.push_pipeline(&text);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}\n{}", world.log(&run, "ship.it").await);
    let read = |name: &str| std::fs::read_to_string(out.join(name)).unwrap_or_default();
    assert_eq!((read("start-stations").as_str(), read("start-almanac").as_str(), read("note").as_str()), ("201", "403", "204"));
    let log = world.log(&run, "ship.it").await;
    assert!(!log.contains(&read("token")) && !log.contains(&read("cloud")), "both are masked: {log}");
    // The identity, as an outside system sees it.
    let (url, token) = (world.url.clone(), read("cloud"));
    let (good, elsewhere, forged) = tokio::task::spawn_blocking(move || {
        let good = verified(&url, "https://cloud.example", &token);
        let elsewhere = verified(&url, "https://other.example", &token);
        let (head, signature) = token.rsplit_once('.').expect("a signature");
        let forged = verified(&url, "https://cloud.example", &format!("{head}.{}", signature.chars().rev().collect::<String>()));
        (good, elsewhere, forged)
    })
    .await
    .expect("a task");
    let claims = good.expect("a good token")["payload"].clone();
    for (claim, value) in [
        ("project", "tidegauge"),
        ("pipeline", "main"),
        ("run", "tidegauge/1"),
        ("job", "ship.it"),
        ("event", "push"),
        ("branch", "main"),
        ("commit", commit.as_str()),
        ("sub", "project:tidegauge:branch:main"),
    ] {
        assert_eq!(claims[claim], value, "{claims}");
    }
    let lasts = claims["exp"].as_i64().zip(claims["iat"].as_i64()).map(|(end, begin)| end - begin);
    assert!(lasts.is_some_and(|lasts| lasts <= 24 * 3600 + 60), "{claims}");
    assert!(elsewhere.is_err() && forged.is_err(), "{elsewhere:?} {forged:?}");
    // Its own token ends with it, and the journal says what it did.
    let late = client().post(format!("{}/api/v1/projects/stations/runs", world.url)).bearer_auth(read("token")).json(&json!({}));
    assert_eq!(late.send().await.expect("an answer").status().as_u16(), 401);
    let did = world.json(&["journal", "--by", "tidegauge/1 ship.it"]).await;
    let did: Vec<(&str, bool)> =
        did.as_array().into_iter().flatten().map(|row| (row["action"].as_str().unwrap_or_default(), row["refused"].is_null())).collect();
    assert_eq!(did, [("note.add", true), ("run.start", false), ("run.start", true)]);
    let started = world.json(&["show", "stations"]).await;
    assert_eq!(started["occasion"]["by"], "tidegauge/1 ship.it", "{started}");
    let noted = ordotaxis_testbed::until("the note", || async {
        repository.git(&["fetch", "-q", "origin", "+refs/notes/ordotaxis:refs/notes/ordotaxis"]);
        let notes = repository.git(&["notes", "--ref", "refs/notes/ordotaxis", "show", &commit]);
        notes.contains("datum checked").then_some(notes)
    })
    .await;
    assert!(noted.contains("\"by\":\"tidegauge/1 ship.it\""), "{noted}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_from_outside_gets_neither_token_nor_identity() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { outside: "yes", ..RunnerOptions::default() }).await;
    assert_eq!(world.run(&["project", "outside", "tidegauge", "run"]).await.code, 0);
    let text = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.a.b]\ncheckout = false\nallows = [\"note\"]\nidentity = { CLOUD = \"https://cloud.example\" }\nsteps = [\"true\"]\n";
    repository.push_pipeline(text);
    repository.git(&["checkout", "-q", "-b", "topic"]);
    repository.write("more", "more\n");
    let head = repository.commit("More");
    repository.git(&["push", "-q", "origin", "topic"]);
    world.propose("tidegauge", "topic", true).await;
    let run = ordotaxis_testbed::until("the proposal's end", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        let run = runs.as_array()?.iter().find(|run| run["occasion"]["event"] == "proposal" && !run["ended_at"].is_null())?.clone();
        Some(world.json(&["show", run["run"].as_str()?]).await)
    })
    .await;
    let why = World::job(&run, "a.b")["why"].as_str().unwrap_or_default().to_owned();
    assert!(run["state"] == "failed" && why.contains("is not given to a proposal from outside"), "{head}: {run}");
}
