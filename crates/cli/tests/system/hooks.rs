//! Webhooks and the HTTP edge: signatures, repeats, sign-in, limits, problem details.

use super::world;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use ordotaxis_testbed::{RunnerOptions, World};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sha2::Sha256;

/// Signed after Standard Webhooks with the secret that the forge was given.
pub(super) async fn send(world: &World, project: &str, id: &str, body: &str, spoil: bool) -> StatusCode {
    let book = std::fs::read_to_string(world.folder.path().join("forge/forge.json")).expect("the forge's book");
    let book: Value = serde_json::from_str(&book).expect("JSON");
    let secret = book["repositories"][project]["hook"]["secret"].as_str().unwrap_or_default().trim_start_matches("whsec_").to_owned();
    let time = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("a time").as_secs();
    let mut mac = Hmac::<Sha256>::new_from_slice(&STANDARD.decode(secret).expect("a secret")).expect("a key");
    mac.update(format!("{id}.{time}.{body}").as_bytes());
    let mut signature = mac.finalize().into_bytes().to_vec();
    signature[0] ^= u8::from(spoil);
    let request = reqwest::Client::new()
        .post(format!("{}/hooks/v1/{project}", world.url))
        .header("webhook-id", id)
        .header("webhook-timestamp", time.to_string())
        .header("webhook-signature", format!("v1,{}", STANDARD.encode(signature)))
        .body(body.to_owned());
    request.send().await.expect("an answer").status()
}

/// Tells the service of a push as the forge would.
pub(super) async fn announce(world: &World, project: &str, branch: &str, commit: &str) {
    let body = json!({ "event": "push", "branch": branch, "commit": commit, "by": "Ines" }).to_string();
    assert_eq!(send(world, project, &format!("msg_{commit}"), &body, false).await, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn only_signed_deliveries_count_and_each_once() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("ordotaxis.toml", "language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let commit = repository.commit("A gauge");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    world.verdict("tidegauge", &commit).await;
    let body = json!({ "event": "push", "branch": "main", "commit": commit, "by": "Ines" }).to_string();
    assert_eq!(send(&world, "tidegauge", "msg_1", &body, true).await, StatusCode::UNAUTHORIZED);
    assert_eq!(send(&world, "tidegauge", "msg_1", &body, false).await, StatusCode::OK);
    assert_eq!(send(&world, "tidegauge", "msg_1", &body, false).await, StatusCode::OK);
    assert_eq!(send(&world, "tidegauge", "msg_2", &body, false).await, StatusCode::OK);
    assert_eq!(send(&world, "tidegauge", "msg_3", "not json", false).await, StatusCode::BAD_REQUEST);
    assert_eq!(send(&world, "tidegauge", "msg_4", "{\"event\":\"tag\"}", false).await, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(send(&world, "tidegauge", "msg_5", "{\"event\":\"star\"}", false).await, StatusCode::ACCEPTED);
    let unknown = reqwest::Client::new().post(format!("{}/hooks/v1/nothing", world.url)).body("{}").send().await.expect("an answer");
    assert_eq!(unknown.status(), StatusCode::UNAUTHORIZED);
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(1), "{runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_edge_answers_with_problem_details() {
    let world = world().await;
    let client = reqwest::Client::new();
    let anonymous = client.get(format!("{}/api/v1/board", world.url)).send().await.expect("an answer");
    assert_eq!(anonymous.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(anonymous.headers()["content-type"], "application/problem+json");
    let wrong_token = client.get(format!("{}/api/v1/board", world.url)).bearer_auth("oxu_wrong").send().await.expect("an answer");
    assert_eq!(wrong_token.status(), StatusCode::UNAUTHORIZED);

    let post = |path: &str, body: &'static str| world.http(Method::POST, path).header("content-type", "application/json").body(body).send();
    for (path, body, status, kind) in [
        ("/api/v1/projects", "{", 400, "/problems/not-json"),
        ("/api/v1/projects", "{\"name\": 3}", 422, "/problems/bad-input"),
        ("/api/v1/projects", "{\"name\": \"A\", \"git_url\": \"x\"}", 422, "/problems/bad-input"),
        ("/api/v1/projects/none/runs", "{}", 404, "/problems/unknown-project"),
        ("/api/v1/nowhere", "{}", 404, "/problems/unknown-address"),
    ] {
        let answer = post(path, body).await.expect("an answer");
        assert_eq!(answer.status().as_u16(), status, "{path} {body}");
        let problem: Value = answer.json().await.expect("JSON");
        assert_eq!(problem["type"], kind, "{problem}");
    }
    let large = world.http(Method::POST, "/api/v1/projects").header("content-type", "application/json").body("x".repeat(2_000_000));
    assert_eq!(large.send().await.expect("an answer").status(), StatusCode::PAYLOAD_TOO_LARGE);
    for (path, open) in [("/healthz", true), ("/readyz", true), ("/metrics", false), ("/api/openapi.json", false)] {
        let plain = client.get(format!("{}{path}", world.url)).send().await.expect("an answer").status();
        assert_eq!(plain, if open { StatusCode::OK } else { StatusCode::UNAUTHORIZED }, "{path}");
        assert_eq!(world.http(Method::GET, path).send().await.expect("an answer").status(), StatusCode::OK, "{path}");
    }
    assert_eq!(client.get(format!("{}/assets/none.js", world.url)).send().await.expect("an answer").status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_are_kept_as_digests_and_used_once() {
    let world = world().await;
    let invitation = world.json(&["runner", "invite"]).await["token"].as_str().unwrap_or_default().to_owned();
    let enrol = |name: &'static str| {
        let ask = json!({ "token": invitation, "name": name });
        reqwest::Client::new().post(format!("{}/runner/v1/enrol", world.url)).json(&ask).send()
    };
    let first: Value = enrol("quay").await.expect("an answer").json().await.expect("JSON");
    let credential = first["credential"].as_str().expect("a credential").to_owned();
    assert_eq!(enrol("spar").await.expect("an answer").status(), StatusCode::UNAUTHORIZED);
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    let code = link.split_once('#').expect("a code").1.to_owned();
    let sign_in = || reqwest::Client::new().post(format!("{}/api/v1/session", world.url)).json(&json!({ "code": code })).send();
    let session = sign_in().await.expect("an answer");
    let cookie = session.headers()["set-cookie"].to_str().expect("text").to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    assert_eq!(sign_in().await.expect("an answer").status(), StatusCode::UNAUTHORIZED);
    let value = cookie.split(';').next().unwrap_or_default().to_owned();
    let me = reqwest::Client::new().get(format!("{}/api/v1/me", world.url)).header("cookie", &value).send().await.expect("an answer");
    assert_eq!(me.status(), StatusCode::OK);
    let secrets = [world.token.clone(), credential, code, value.split_once('=').expect("a value").1.to_owned()];
    for name in ["ordotaxis.db", "ordotaxis.db-wal"] {
        let bytes = std::fs::read(world.folder.path().join("service").join(name)).unwrap_or_default();
        for secret in &secrets {
            assert!(!bytes.windows(secret.len()).any(|window| window == secret.as_bytes()), "a secret stands in {name}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_repeated_unsafe_call_does_nothing_more() {
    let world = world().await;
    let add = |name: &'static str| {
        let ask = json!({ "name": name, "git_url": "http://127.0.0.1:1/none.git" });
        world.http(Method::POST, "/api/v1/projects").header("idempotency-key", "one").json(&ask).send()
    };
    let first = add("tidegauge").await.expect("an answer");
    assert_eq!(first.status(), StatusCode::CREATED);
    let first: Value = first.json().await.expect("JSON");
    // Its answer held the webhook's secret: it is not kept, and still nothing is done twice.
    let second = add("tidegauge").await.expect("an answer");
    assert_eq!(second.status(), StatusCode::CONFLICT);
    let second: Value = second.json().await.expect("JSON");
    assert_eq!(second["type"], "/problems/answer-not-kept");
    let other: Value = add("almanac").await.expect("an answer").json().await.expect("JSON");
    assert_eq!(other["type"], "/problems/key-used", "the same key for something else");
    assert_eq!(world.json(&["project", "list"]).await.as_array().map(Vec::len), Some(1));
    let secret = first["hook_secret"].as_str().expect("a secret");
    for name in ["ordotaxis.db", "ordotaxis.db-wal"] {
        let bytes = std::fs::read(world.folder.path().join("service").join(name)).unwrap_or_default();
        assert!(!bytes.windows(secret.len()).any(|part| part == secret.as_bytes()), "the secret lies in {name}");
    }
    // An answer without a secret is kept and given again, word for word.
    let check =
        || world.http(Method::POST, "/api/v1/check").header("idempotency-key", "two").json(&json!({ "text": "language = 2" })).send();
    let answers = [check().await.expect("an answer"), check().await.expect("an answer")];
    let [one, two] = answers.map(|answer| answer.text());
    assert_eq!(one.await.expect("text"), two.await.expect("text"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_old_fencing_number_changes_nothing() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let credential = std::fs::read_to_string(world.folder.path().join("runner-1/runner.toml")).expect("an identity");
    let credential =
        credential.lines().find_map(|line| line.strip_prefix("credential = ")).expect("a credential").trim_matches('"').to_owned();
    for path in ["log?offset=0", "phases", "finish"] {
        let body = match path {
            "phases" => json!({ "phases": [] }),
            _ => {
                json!({ "session": "old", "slot": 0, "outcome": "passed", "exit_code": 0, "why": null, "phases": [], "artifacts": [], "claim": false })
            }
        };
        let call =
            reqwest::Client::new().post(format!("{}/runner/v1/attempts/1-0-1/{path}", world.url)).bearer_auth(&credential).json(&body);
        assert_eq!(call.send().await.expect("an answer").status(), StatusCode::CONFLICT, "{path}");
    }
}
