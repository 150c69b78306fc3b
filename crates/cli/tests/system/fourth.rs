//! A fourth dialect that nobody here speaks, read and spoken by a profile that was written from docs/forges.md alone.
//! Where the guide does not suffice for it, the guide is mended.

use super::ORDOTAXIS;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::routing::{get, patch};
use axum::{Json, Router};
use hmac::{Hmac, KeyInit, Mac};
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::{Value, json};
use sha2::Sha256;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

const PIER: &str = r#"
profile = 1

[hook]
signature = { way = "hmac", hash = "sha256", header = "Pier-Stamp", prefix = "", written = "hex", over = "{header.Pier-Berth}\n{body}" }
body      = "form"
id        = { header = "Pier-Slip" }

[hook.push]
when   = [{ pointer = "/act", is = ["made", "moved"] }, { pointer = "/rope", begins = "refs/heads/" }]
branch = "/rope"
commit = "/tied_to"
before = "/was_tied_to"
by     = { template = "{/first} {/last}" }

[hook.gone]
when = { pointer = "/act", is = "cut" }
name = "/rope"

[request.status]
method  = "PATCH"
url     = "{+url}/berths/{repository}/flags{?commit}"
headers = { Pier-Pass = "{basic}" }
body    = { flags = [{ of = "{context}", up = "{word}" }, 7, true], say = "{{ {sentence}", see = "{link}" }
done    = ["202"]
again   = ["423"]

[request.proposals]
method  = "GET"
url     = "{+url}/berths/{repository}/offers"
headers = { Pier-Pass = "{basic}" }
next    = "/turn/over"
items   = "/sheet"

[request.proposals.item]
number  = "/no"
title   = "/why"
target  = "/to/rope"
source  = "/of/rope"
commit  = "/of/tied_to"
outside = { pointer = "/of/owner", differs = "/to/owner" }
open    = { pointer = "/struck", is = "false" }
by      = ["/hand/nick", "/hand/name"]

[words]
waiting = "half mast"
running = "half mast"
passed  = "white"
failed  = "red"
"#;

#[derive(Clone, Default)]
struct Pier {
    flags: Arc<Mutex<Vec<(String, Value)>>>,
    /// So many calls find the sheet locked.
    locked: Arc<Mutex<u32>>,
    offers: Arc<Mutex<Vec<Value>>>,
}

fn passes(headers: &HeaderMap) -> bool {
    // base64 of `pier:salt`
    headers.get("pier-pass").is_some_and(|pass| pass == "cGllcjpzYWx0")
}

async fn flag(
    State(pier): State<Pier>,
    Path(berth): Path<String>,
    Query(query): Query<HashMap<String, String>>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> StatusCode {
    let mut locked = pier.locked.lock().expect("a lock");
    if *locked > 0 {
        *locked -= 1;
        return StatusCode::LOCKED;
    }
    if !passes(&headers) || berth != "tide/gauge" {
        return StatusCode::FORBIDDEN;
    }
    pier.flags.lock().expect("a lock").push((query["commit"].clone(), body));
    StatusCode::ACCEPTED
}

async fn offers(
    State(pier): State<Pier>,
    Query(query): Query<HashMap<String, usize>>,
    headers: HeaderMap,
) -> Result<Json<Value>, StatusCode> {
    if !passes(&headers) {
        return Err(StatusCode::FORBIDDEN);
    }
    let (all, at) = (pier.offers.lock().expect("a lock").clone(), query.get("at").copied().unwrap_or(0));
    let over = (at + 1 < all.len()).then(|| format!("?at={}", at + 1));
    Ok(Json(json!({ "sheet": all.get(at).into_iter().collect::<Vec<_>>(), "turn": { "over": over } })))
}

/// Another first digit.
fn otherwise(stamp: &str) -> String {
    let first = if stamp.starts_with('0') { '1' } else { '0' };
    format!("{first}{}", &stamp[1..])
}

/// Tells the service as the pier would.
async fn tell(world: &World, secret: &str, fields: &[(&str, &str)], spoil: bool) -> StatusCode {
    let body = reqwest::Url::parse_with_params("http://x/", fields).expect("fields").query().unwrap_or_default().to_owned();
    let mut mac = Hmac::<Sha256>::new_from_slice(secret.as_bytes()).expect("a key");
    mac.update(format!("tide/gauge\n{body}").as_bytes());
    let stamp = mac.finalize().into_bytes().iter().map(|byte| format!("{byte:02X}")).collect::<String>();
    let call = reqwest::Client::new()
        .post(format!("{}/hooks/v1/tidegauge", world.url))
        .header("pier-stamp", if spoil { otherwise(&stamp) } else { stamp })
        .header("pier-berth", "tide/gauge")
        .header("pier-slip", fields[0].1)
        .header("content-type", "application/x-www-form-urlencoded")
        .body(body);
    call.send().await.expect("an answer").status()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dialect_that_nobody_here_speaks_is_spoken_by_a_profile_from_the_guide() {
    let pier = Pier { locked: Arc::new(Mutex::new(1)), ..Pier::default() };
    let router =
        Router::new().route("/berths/{berth}/flags", patch(flag)).route("/berths/{berth}/offers", get(offers)).with_state(pier.clone());
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let pier_url = format!("http://{}", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, router).await });

    let folder = tempfile::tempdir().expect("a folder");
    std::fs::create_dir_all(folder.path().join("service/profiles")).expect("a folder");
    std::fs::write(folder.path().join("service/profiles/pier.toml"), PIER).expect("written");
    let config = "beat = \"250ms\"\nretry_pause = \"100ms\"\nhook_grace = \"100ms\"\n";
    let world = World::start_in(ORDOTAXIS, config, folder).await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("other").await;
    let bare = world.folder.path().join("tide.git").display().to_string();
    repository.write("ordotaxis.toml", "language = 1\n[starts]\npush = [\"**\"]\nproposal = [\"main\"]\n[job.a.b]\nsteps = [\"true\"]\n");
    let commit = repository.commit("A gauge");
    repository.git(&["clone", "--quiet", "--bare", ".", &bare]);
    let forge = ["--forge", "pier", "--forge-url", &pier_url, "--forge-repository", "tide/gauge", "--forge-token", "pier:salt"];
    let added = world.json(&[&["project", "add", "tidegauge", "--git", &bare], &forge[..]].concat()).await;
    let secret = added["hook_secret"].as_str().expect("a secret").to_owned();

    let zeros = "0".repeat(40);
    let push = [
        ("slip", "s1"),
        ("act", "moved"),
        ("rope", "refs/heads/main"),
        ("tied_to", commit.as_str()),
        ("was_tied_to", zeros.as_str()),
        ("first", "Ines"),
        ("last", "of the survey"),
    ];
    assert_eq!(tell(&world, &secret, &push, true).await, StatusCode::UNAUTHORIZED);
    assert_eq!(tell(&world, &secret, &push, false).await, StatusCode::OK);
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    assert_eq!(world.json(&["runs", "tidegauge"]).await[0]["occasion"]["by"], "Ines of the survey");
    let (told_on, last) = until("a white flag", || async {
        let flags = pier.flags.lock().expect("a lock");
        flags.iter().find(|(_, flag)| flag["flags"][0]["up"] == "white").cloned()
    })
    .await;
    assert_eq!((told_on.as_str(), &last["flags"]), (commit.as_str(), &json!([{ "of": "ordotaxis/main", "up": "white" }, 7, true])));
    assert!(last["say"].as_str().is_some_and(|say| say.starts_with("{ Passed")), "{last}");
    assert_eq!(last["see"], format!("{}/runs/tidegauge/1", world.url));
    assert_eq!(tell(&world, &secret, &[("slip", "s2"), ("act", "cut"), ("rope", "refs/heads/old")], false).await, StatusCode::OK);
    assert_eq!(tell(&world, &secret, &[("slip", "s3"), ("act", "sung")], false).await, StatusCode::ACCEPTED);

    let offer = |no: usize, struck: bool, owner: usize| {
        json!({ "no": no, "why": "Neap tides", "struck": struck, "hand": { "nick": null, "name": "Odd" },
            "of": { "rope": "topic/neap", "tied_to": commit, "owner": owner }, "to": { "rope": "main", "owner": 4 } })
    };
    *pier.offers.lock().expect("a lock") = vec![offer(11, false, 4), offer(12, true, 4), offer(13, false, 5)];
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    let listed = until("both proposals", || async {
        let list = world.json(&["proposals", "tidegauge"]).await;
        (list.as_array()?.len() == 2).then_some(list)
    })
    .await;
    let read: Vec<(&str, bool, &str)> = listed
        .as_array()
        .into_iter()
        .flatten()
        .map(|one| (one["number"].as_str().unwrap_or_default(), one["outside"] == true, one["author"].as_str().unwrap_or_default()))
        .collect();
    assert_eq!(read, [("13", true, "Odd"), ("11", false, "Odd")]);

    // A hundred pages are read to their end; of a longer list nothing is taken for closed, and nothing is made of the rest.
    let open = async |count: usize| {
        until(&format!("{count} proposals"), || async {
            let list = world.json(&["proposals", "tidegauge"]).await;
            (list.as_array()?.len() == count).then_some(())
        })
        .await;
    };
    let many = |count: usize| (0..count).map(|no| offer(no + 20, false, 4)).collect::<Vec<_>>();
    *pier.offers.lock().expect("a lock") = many(120);
    open(102).await;
    *pier.offers.lock().expect("a lock") = many(100);
    open(100).await;
}
