//! Forges: three dialects read and spoken by profiles alone; deliveries kept with what became of them; what hooks lose is
//! found by looking; answers that are none.

use super::ORDOTAXIS;
use ordotaxis_practice::{Dialect, Fault, What};
use ordotaxis_testbed::{Repository, RunnerOptions, World, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const PIPELINE: &str =
    "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\ntag = [\"v*\"]\n[job.a.b]\nsteps = [\"test ! -e bad\"]\n";
const CONFIG: &str = "lease = \"20s\"\nbeat = \"250ms\"\nretry_pause = \"100ms\"\nhook_grace = \"1s\"\n";

async fn world(dialect: Dialect) -> World {
    World::start_speaking(ORDOTAXIS, CONFIG, tempfile::tempdir().expect("a folder"), dialect).await
}

/// The next answers of the forge go wrong.
fn fault(what: What, on: &str) -> Fault {
    Fault { what, on: on.into() }
}

/// Someone does something at the forge.
pub(super) async fn act(world: &World, path: &str, body: &Value) {
    let call = reqwest::Client::new().post(format!("{}/api/{path}", world.forge_url)).json(body);
    call.send().await.expect("an answer").error_for_status().expect("it is done");
}

async fn offer(world: &World, repository: &Repository, branch: &str, outside: bool) -> String {
    repository.git(&["checkout", "--quiet", "-B", branch, "main"]);
    repository.write(&format!("{}.txt", branch.replace('/', "-")), "high water 4200\n");
    let commit = repository.commit(&format!("Readings of {branch}"));
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    repository.git(&["checkout", "--quiet", "main"]);
    let body = json!({ "source": branch, "target": "main", "title": format!("Take {branch} in"), "outside": outside, "draft": false });
    act(world, "repositories/tidegauge/proposals", &body).await;
    commit
}

async fn proposals(world: &World) -> Vec<Value> {
    world.json(&["proposals", "tidegauge", "--all"]).await.as_array().cloned().unwrap_or_default()
}

/// The proposal of a branch, once it fits.
async fn proposal(world: &World, source: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
    until(&format!("the proposal of {source}: {what}"), || async {
        proposals(world).await.into_iter().find(|one| one["source"] == source && fits(one))
    })
    .await
}

/// What one dialect says and takes, from a push to a landing.
async fn a_whole_life(dialect: Dialect, passed: &str, first: &str) {
    let world = world(dialect).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(PIPELINE);
    let statuses = world.statuses_until("tidegauge", &commit, passed).await;
    let last = statuses.last().expect("a status");
    assert_eq!((last.context.as_str(), last.link.as_str()), ("ordotaxis/main", format!("{}/runs/tidegauge/1", world.url).as_str()));
    assert!(last.text.starts_with("Passed"), "{last:?}");

    let head = offer(&world, &repository, "topic/neap", false).await;
    let one = proposal(&world, "topic/neap", "a verdict", |one| one["verdicts"][0]["state"] == "passed").await;
    for (field, wanted) in [("number", first), ("title", "Take topic/neap in"), ("author", "Ines"), ("target", "main"), ("state", "open")] {
        assert_eq!(one[field], wanted, "{field} in {one}");
    }
    assert_eq!((&one["outside"], &one["draft"], &one["commit"]), (&json!(false), &json!(false), &json!(head)), "{one}");
    let link = one["link"].as_str().expect("a link");
    assert!(link.starts_with(&format!("{}/tidegauge#proposal", world.forge_url)), "{link}");
    world.statuses_until("tidegauge", &head, passed).await;
    act(&world, "people/tidegauge/proposals/1/review", &json!({ "by": "maren", "approves": true })).await;
    act(&world, "people/tidegauge/proposals/1/review", &json!({ "by": "tomas", "approves": false })).await;
    let reviewed = proposal(&world, "topic/neap", "two words", |one| one["reviews"].as_array().is_some_and(|all| all.len() == 2)).await;
    let words: Vec<(&str, bool)> = reviewed["reviews"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|one| (one["by"].as_str().unwrap_or_default(), one["approves"] == true))
        .collect();
    assert_eq!(words, [("maren", true), ("tomas", false)]);

    // A new commit of the source is the proposal's; what was approved was another.
    repository.git(&["checkout", "--quiet", "topic/neap"]);
    repository.write("more.txt", "low water 300\n");
    let newer = repository.commit("More readings");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    let changed = proposal(&world, "topic/neap", "its new commit", |one| one["commit"] == newer).await;
    assert_eq!(changed["reviews"][0]["current"], false, "{changed}");

    // One from outside; one that is closed; and the first lands.
    offer(&world, &repository, "topic/spring", true).await;
    proposal(&world, "topic/spring", "from outside", |one| one["outside"] == true).await;
    act(&world, "people/tidegauge/proposals/2/close", &json!({ "by": "Odd" })).await;
    proposal(&world, "topic/spring", "closed", |one| one["state"] == "closed" && one["ended_at"].is_string()).await;
    repository.git(&["merge", "--quiet", "--no-ff", "--no-edit", "topic/neap"]);
    let landed_as = repository.git(&["rev-parse", "HEAD"]);
    repository.git(&["push", "--quiet", "origin", "HEAD:main"]);
    proposal(&world, "topic/neap", "landed", |one| one["state"] == "landed" && one["landed_as"] == landed_as.trim()).await;

    // A tag starts what tags start, and a branch that goes is told.
    repository.git(&["tag", "v1"]);
    repository.git(&["push", "--quiet", "origin", "v1"]);
    until("a run of the tag", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        runs.as_array()?.iter().any(|run| run["occasion"]["tag"] == "v1").then_some(())
    })
    .await;
    repository.git(&["push", "--quiet", "origin", ":topic/spring"]);
    let told = until("that the branch is gone", || async {
        let list = world.json(&["hook", "list", "tidegauge"]).await;
        let gone = |one: &&Value| one["events"].to_string().contains("the branch topic/spring was removed");
        list.as_array()?.iter().find(gone).cloned()
    })
    .await;
    assert_eq!((&told["state"], &told["times"]), (&json!("taken"), &json!(1)), "{told}");
    let list = world.run(&["hook", "list", "tidegauge"]).await;
    assert!(list.out.contains("a push to main") && list.out.contains("run 1"), "{}", list.out);
    let secret = world.forge_token("tidegauge");
    finds_repositories(&world, dialect, &secret.1).await;
    let kept = world.json(&["hook", "show", "tidegauge", &told["id"].to_string()]).await.to_string();
    assert!(!kept.contains(&secret.1) && !kept.contains(&secret.0), "neither the hook's secret nor the token is kept: {kept}");
}

/// What the forge has is listed before it is a project, and with the project that it is.
async fn finds_repositories(world: &World, dialect: Dialect, token: &str) {
    let make = reqwest::Client::new().post(format!("{}/api/repositories", world.forge_url));
    let made = make.json(&json!({ "name": "almanac", "token": token })).send().await.expect("an answer");
    assert!(made.status().is_success(), "{made:?}");
    let profile = format!("{dialect:?}").to_lowercase();
    let find = ["project", "find", "--forge", &profile, "--forge-url", &world.forge_url, "--forge-token"];
    let found = world.json(&[&find[..], &[token]].concat()).await;
    let read: Vec<(&str, &Value)> =
        found.as_array().into_iter().flatten().map(|one| (one["repository"].as_str().unwrap_or_default(), &one["project"])).collect();
    assert_eq!(read, [("almanac", &Value::Null), ("tidegauge", &json!("tidegauge"))], "{found}");
    assert_eq!(found[0]["git_url"], format!("{}/git/almanac.git", world.forge_url));
    let table = world.run(&[&find[..], &[token]].concat()).await;
    assert!(table.err.contains("--forge-repository almanac") && table.out.contains("tidegauge"), "{table:?}");
    let none = world.run(&[&find[..], &["another"]].concat()).await;
    assert!(none.code == 0 && none.err.contains("lists no repository that this token opens"), "{none:?}");
    let unknown = world.run(&["project", "find", "--forge", "pier", "--forge-url", &world.forge_url]).await;
    assert!(unknown.code == 2 && unknown.err.contains("there is no forge profile `pier`; there are: "), "{unknown:?}");
    let odd = world.run(&["project", "find", "--forge", &profile, "--forge-url", "forge"]).await;
    assert!(odd.code == 2 && odd.err.contains("begins with https://"), "{odd:?}");
    let away = world.run(&["project", "find", "--forge", &profile, "--forge-url", "http://127.0.0.1:1"]).await;
    assert!(away.code == 3 && away.err.contains("could not be reached"), "{away:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_dialect_practice_is_read_and_spoken_by_its_profile() {
    a_whole_life(Dialect::Practice, "success", "1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_dialect_harbour_is_read_and_spoken_by_its_profile() {
    a_whole_life(Dialect::Harbour, "clear", "1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_dialect_beacon_is_read_and_spoken_by_its_profile() {
    a_whole_life(Dialect::Beacon, "green", "m1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_delivery_says_what_became_of_it_and_why() {
    let world = world(Dialect::Beacon).await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(PIPELINE);
    world.run_of("tidegauge", &commit, "a run", |_| true).await;
    let (secret, _) = world.forge_token("tidegauge");
    let send = async |word: &str, kind: &str, body: String| {
        let call = reqwest::Client::new()
            .post(format!("{}/hooks/v1/tidegauge", world.url))
            .header("x-beacon-word", word)
            .header("content-type", kind);
        let answer = call.header("authorization", "Bearer of-the-forge").body(body).send().await.expect("an answer");
        (answer.status(), answer.json::<Value>().await.unwrap_or_default())
    };
    let newest = async || world.json(&["hook", "list", "tidegauge"]).await[0].clone();
    let json_kind = "application/json";
    let (status, told) = send("wrong", json_kind, "{}".into()).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
    assert!(!told.to_string().contains("secret"), "whoever sent it learns nothing: {told}");
    let refused = newest().await;
    assert_eq!(refused["state"], "refused");
    assert!(refused["why"].as_str().is_some_and(|why| why.contains("signed with another secret")), "{refused}");
    let again = world.run(&["hook", "again", "tidegauge", &refused["id"].to_string()]).await;
    assert!(again.code != 0 && again.err.contains("was refused"), "{again:?}");
    let unsigned = reqwest::Client::new().post(format!("{}/hooks/v1/tidegauge", world.url)).body("{}").send().await.expect("an answer");
    assert_eq!(unsigned.status(), StatusCode::UNAUTHORIZED);
    assert!(newest().await["why"].as_str().is_some_and(|why| why.contains("no header `x-beacon-word`")));

    let (status, _) = send(&secret, "application/x-www-form-urlencoded", "payload=%7B%7D".into()).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    assert!(
        newest().await["why"].as_str().is_some_and(|why| why.contains("the profile expects JSON: set `body = { form = \"payload\" }`"))
    );
    let (status, told) =
        send(&secret, json_kind, json!({ "flash": "f1", "noun": "line", "verb": "moved", "line": { "name": "main" } }).to_string()).await;
    assert_eq!((status, &told["errors"][0]["pointer"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("/line/tip/id")), "{told}");
    let unread = newest().await;
    assert!(unread["why"].as_str().is_some_and(|why| why.contains("`commit` of [hook.push] is not at /line/tip/id (line ")), "{unread}");
    let (status, _) = send(&secret, json_kind, json!({ "flash": "f2", "noun": "star" }).to_string()).await;
    assert_eq!(status, StatusCode::ACCEPTED);
    assert_eq!(newest().await["state"], "nothing");
    let push = json!({ "flash": "f3", "noun": "line", "verb": "moved", "line": { "name": "main", "tip": { "id": commit } } }).to_string();
    for _ in 0..3 {
        assert_eq!(send(&secret, json_kind, push.clone()).await.0, StatusCode::OK);
    }
    assert_eq!((&newest().await["times"], &newest().await["given"]), (&json!(3), &json!("f3")));
    let shown = world.run(&["hook", "show", "tidegauge", &newest().await["id"].to_string()]).await.out;
    assert!(shown.contains("a push to main") && shown.contains("\"flash\": \"f3\""), "{shown}");
    assert!(!shown.contains(&secret) && !shown.contains("of-the-forge"), "{shown}");
    let again = world.json(&["hook", "again", "tidegauge", &newest().await["id"].to_string()]).await;
    assert_eq!((&again["state"], again["outcomes"].as_array().map(Vec::len)), (&json!("taken"), Some(1)), "{again}");
    assert_eq!(world.json(&["runs", "tidegauge"]).await.as_array().map(Vec::len), Some(1), "the same commit is not run twice");
    let states = world.json(&["hook", "list", "tidegauge", "--state", "refused"]).await;
    assert_eq!(states.as_array().map(Vec::len), Some(2), "{states}");

    // A new secret: the one before opens nothing any more.
    let made = world.json(&["hook", "secret", "tidegauge"]).await;
    assert_eq!(send(&secret, json_kind, push.clone()).await.0, StatusCode::UNAUTHORIZED);
    assert_eq!(send(made["hook_secret"].as_str().expect("a secret"), json_kind, push).await.0, StatusCode::OK);
    let large = format!("{{\"flash\":\"{}\"}}", "x".repeat(5 << 20));
    assert_eq!(send(&secret, json_kind, large).await.0, StatusCode::PAYLOAD_TOO_LARGE);
}

/// What a hook should have told is found by looking, run once, and said.
#[tokio::test(flavor = "multi_thread")]
async fn what_hooks_lose_is_found_by_looking() {
    let world = world(Dialect::Harbour).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let first = repository.push_pipeline(PIPELINE);
    world.verdict("tidegauge", &first).await;
    // From now on its hooks go nowhere.
    let hook = json!({ "url": "http://127.0.0.1:1/", "secret": "none" });
    let set = reqwest::Client::new().put(format!("{}/api/repositories/tidegauge/hook", world.forge_url)).json(&hook);
    set.send().await.expect("an answer").error_for_status().expect("set");
    repository.write("more.txt", "1\n");
    let lost = repository.commit("A push that nobody is told of");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    // More proposals than a page of the forge's list holds; one of them is closed by the time it is looked at.
    for number in 0..25 {
        repository.git(&["push", "--quiet", "origin", &format!("HEAD:refs/heads/topic/{number}")]);
        let body = json!({ "source": format!("topic/{number}"), "target": "main", "title": "One of many" });
        act(&world, "repositories/tidegauge/proposals", &body).await;
    }
    act(&world, "people/tidegauge/proposals/3/close", &json!({ "by": "Ines" })).await;
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    world.verdict("tidegauge", &lost).await;
    until("the proposals", || async {
        let open = world.json(&["proposals", "tidegauge"]).await;
        (open.as_array()?.len() == 24).then_some(())
    })
    .await;
    let shown = until("that it is said", || async {
        let project = world.json(&["project", "show", "tidegauge"]).await;
        project["found"].as_str().map(str::to_owned)
    })
    .await;
    assert!(shown.contains("found by looking; their hooks never came"), "{shown}");
    act(&world, "people/tidegauge/proposals/5/close", &json!({ "by": "Ines" })).await;
    proposal(&world, "topic/4", "closed, as the list says", |one| one["state"] == "closed").await;
    let runs = world.json(&["runs", "tidegauge"]).await;
    let pushes = runs.as_array().into_iter().flatten().filter(|run| run["occasion"]["event"] == "push" && run["commit"] == lost);
    assert_eq!(pushes.count(), 1, "{runs}");
}

/// What a hook tells while the forge's list is on its way is newer than the list.
#[tokio::test(flavor = "multi_thread")]
async fn a_list_that_is_older_than_a_hook_changes_nothing() {
    let world = world(Dialect::Practice).await;
    let repository = world.project("tidegauge").await;
    repository.push_pipeline(PIPELINE);
    offer(&world, &repository, "topic/neap", false).await;
    proposal(&world, "topic/neap", "open", |one| one["state"] == "open").await;
    let looked = async || world.json(&["project", "show", "tidegauge"]).await["looked_at"].clone();
    until("a first look", || async { (!looked().await.is_null()).then_some(()) }).await;
    // Until it is let go, and for less than the service waits for an answer.
    world.forge.will_fail([fault(What::Slow { ms: 25_000 }, "proposals$")]);
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    until("the list is made", || async { (world.forge.late() == 1).then_some(()) }).await;
    let before = looked().await;
    repository.git(&["checkout", "--quiet", "topic/neap"]);
    repository.write("more.txt", "low water 300\n");
    let newer = repository.commit("More readings");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    offer(&world, &repository, "topic/spring", false).await;
    proposal(&world, "topic/spring", "open", |one| one["state"] == "open").await;
    proposal(&world, "topic/neap", "its newer commit", |one| one["commit"] == newer).await;
    assert_eq!((looked().await, world.forge.late()), (before.clone(), 1), "the list is still on its way");
    world.forge.answer_now();
    until("the look has ended", || async { (looked().await != before).then_some(()) }).await;
    let all = proposals(&world).await;
    assert!(all.len() == 2 && all.iter().all(|one| one["state"] == "open"), "{all:?}");
    assert!(all.iter().any(|one| one["commit"] == newer), "{all:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plain_repository_is_looked_at() {
    let world = world(Dialect::Practice).await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let bare = world.folder.path().join("plain.git").display().to_string();
    let repository = world.project("other").await;
    let before = repository.push_pipeline(PIPELINE);
    repository.git(&["clone", "--quiet", "--bare", ".", &bare]);
    world.json(&["project", "add", "plain", "--git", &bare]).await;
    until("a first look", || async { world.json(&["project", "show", "plain"]).await["looked_at"].as_str().map(drop) }).await;
    assert_eq!(world.run(&["project", "poll", "plain", "1s"]).await.code, 0);
    repository.write("more.txt", "1\n");
    let commit = repository.commit("A push to a plain repository");
    repository.git(&["tag", "v2"]);
    repository.git(&["push", "--quiet", &bare, "HEAD:refs/heads/main", "v2"]);
    assert_eq!(world.verdict("plain", &commit).await["state"], "passed");
    let runs = until("both runs", || async {
        let runs = world.json(&["runs", "plain"]).await;
        (runs.as_array()?.len() == 2).then_some(runs)
    })
    .await;
    assert!(runs.as_array().into_iter().flatten().all(|run| run["commit"] != before), "what was there before starts nothing: {runs}");
    let words = world.run(&["project", "show", "plain"]).await.out;
    assert!(words.contains("looked at   every 1s, last") && !words.contains("never came"), "{words}");
    // A repository that is away is trouble that is shown, and looked for again.
    std::fs::rename(&bare, format!("{bare}.away")).expect("moved");
    let trouble =
        until("trouble", || async { world.json(&["project", "show", "plain"]).await["trouble"].as_str().map(str::to_owned) }).await;
    assert!(trouble.contains("could not be looked at"), "{trouble}");
    std::fs::rename(format!("{bare}.away"), &bare).expect("moved back");
    until("that it passes", || async { world.json(&["project", "show", "plain"]).await["trouble"].is_null().then_some(()) }).await;
    for (every, code) in [("never", 0), ("usual", 0), ("soon", 2), ("1ms", 2)] {
        assert_eq!(world.run(&["project", "poll", "plain", every]).await.code, code, "{every}");
    }
}

/// Whatever the forge answers in place of an answer, the status comes in the end, and nothing that opens it goes elsewhere.
#[tokio::test(flavor = "multi_thread")]
async fn answers_that_are_none_are_told_from_answers() {
    let world = world(Dialect::Practice).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    world.forge.will_fail([
        fault(What::Status { status: 500 }, "statuses"),
        fault(What::Page, "statuses"),
        fault(What::Busy { seconds: 1 }, "statuses"),
        fault(What::Slow { ms: 300 }, "statuses"),
    ]);
    let commit = repository.push_pipeline(PIPELINE);
    world.statuses_until("tidegauge", &commit, "success").await;
    // A redirect is not followed, and says where it leads.
    let other = "http://127.0.0.1:1/take-the-token";
    world.forge.will_fail((0..3).map(|_| fault(What::Redirect { to: other.into() }, "statuses")));
    repository.write("more.txt", "1\n");
    repository.commit("More");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    let given_up = until("given-up work", || async {
        let work = world.json(&["work", "list"]).await;
        work.as_array()?.iter().find(|one| one["state"] == "given up").cloned()
    })
    .await;
    let why = given_up["why"].as_str().unwrap_or_default();
    assert!(why.contains("redirects to http://127.0.0.1:1/take-the-token; redirects are not followed"), "{why}");
    // A list of proposals that breaks off, or is a page, closes nothing.
    offer(&world, &repository, "topic/neap", false).await;
    proposal(&world, "topic/neap", "open", |one| one["state"] == "open").await;
    world.forge.will_fail([fault(What::Half, "proposals$"), fault(What::Page, "proposals$")]);
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    let trouble =
        until("trouble", || async { world.json(&["project", "show", "tidegauge"]).await["trouble"].as_str().map(str::to_owned) }).await;
    assert!(trouble.contains("could not be looked at"), "{trouble}");
    assert_eq!(proposals(&world).await[0]["state"], "open");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_not_see_a_delivery_sees_none() {
    let world = world(Dialect::Practice).await;
    world.project("tidegauge").await;
    let anonymous =
        reqwest::Client::new().get(format!("{}/api/v1/projects/tidegauge/deliveries", world.url)).send().await.expect("an answer");
    assert_eq!(anonymous.status(), StatusCode::UNAUTHORIZED);
    let none = world.http(Method::GET, "/api/v1/projects/tidegauge/deliveries/99").send().await.expect("an answer");
    assert_eq!(none.status(), StatusCode::NOT_FOUND);
    let odd = world.http(Method::GET, "/api/v1/projects/tidegauge/deliveries?state=lost").send().await.expect("an answer");
    assert_eq!(odd.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_profile_is_tried_on_a_sample_before_it_is_used() {
    let world = world(Dialect::Practice).await;
    let folder = world.folder.path();
    let profile = "[hook]\nsignature = \"standard-webhooks\"\n\n[hook.push]\nwhen = [{ pointer = \"/kind\", is = \"push\" }, { header = \"X-From\", is = \"forge\" }]\nbranch = \"/ref\"\ncommit = \"/after\"\n";
    let write = |name: &str, text: &str| std::fs::write(folder.join(name), text).expect("written");
    write("own.toml", profile);
    write("body.json", &json!({ "kind": "push", "ref": "refs/heads/main", "after": "c".repeat(40) }).to_string());
    write("headers.txt", "Content-Type: application/json\nX-From: forge\n");
    let check = async |more: &[&str]| world.run(&[&["profile", "check", "own.toml"], more].concat()).await;
    let good = check(&["--sample", "body.json", "--headers", "headers.txt"]).await;
    assert_eq!(good.code, 0, "{good:?}");
    assert!(good.out.contains("a push to main, cccccccc") && good.err.contains("the sample holds 1 event"), "{good:?}");
    let unfit = check(&["--sample", "body.json"]).await;
    assert_eq!(unfit.code, 1);
    assert!(
        unfit.out.contains("no table of [hook] fits") && unfit.out.contains("at header X-From stands nothing, and `forge` is wanted"),
        "{unfit:?}"
    );
    write("body.json", "{\"kind\":\"push\",\"ref\":\"refs/heads/main\"}");
    let miss = check(&["--sample", "body.json", "--headers", "headers.txt"]).await;
    assert!(miss.code == 1 && miss.out.contains("own.toml:7:1") && miss.out.contains("nothing stands at /after"), "{miss:?}");
    write("own.toml", &profile.replace("branch =", "brunch ="));
    let wrong = world.json(&["profile", "check", "own.toml"]).await;
    assert_eq!((&wrong["diagnostics"][0]["code"], &wrong["diagnostics"][0]["line"]), (&json!("unknown-key"), &json!(6)), "{wrong}");
    let known = world.run(&["profile", "list"]).await.out;
    assert!(["practice", "harbour", "beacon"].iter().all(|name| known.contains(name)) && !known.contains("plain"), "{known}");
    let schema: Value = serde_json::from_str(&world.run(&["profile", "schema"]).await.out).expect("JSON");
    assert!(schema["properties"]["hook"].is_object());
}

/// A badge says how the branch is to whoever may know it, and `unknown` to everybody else.
#[tokio::test(flavor = "multi_thread")]
async fn badges_say_how_a_branch_is() {
    let world = world(Dialect::Practice).await;
    let repository = world.project("tidegauge").await;
    let badge = world.json(&["project", "badge", "tidegauge"]).await;
    let address = badge["address"].as_str().expect("an address").to_owned();
    assert!(address.contains("?key="), "it is not public: {address}");
    assert!(badge["markdown"].as_str().is_some_and(|text| text.starts_with(&format!("[![tidegauge]({address})]("))), "{badge}");
    let client = reqwest::Client::new();
    let state = async |address: &str| {
        let answer = client.get(address.replace(".svg", ".json")).send().await.expect("an answer");
        assert_eq!(answer.status(), StatusCode::OK);
        answer.json::<Value>().await.expect("JSON")["state"].as_str().unwrap_or_default().to_owned()
    };
    assert_eq!(state(&address).await, "no run yet");
    let _runner = world.runner(RunnerOptions::default()).await;
    let good = repository.push_pipeline(PIPELINE);
    world.verdict("tidegauge", &good).await;
    assert_eq!(state(&address).await, "passed");
    let drawn = client.get(&address).send().await.expect("an answer");
    assert_eq!(
        (drawn.headers()["content-type"].as_bytes(), drawn.headers()["cache-control"].as_bytes()),
        (&b"image/svg+xml"[..], &b"no-cache"[..])
    );
    assert_eq!(drawn.headers()["cross-origin-resource-policy"], "cross-origin", "pages of others show it");
    let tag = drawn.headers()["etag"].clone();
    assert!(drawn.text().await.expect("text").contains(">passed</text>"));
    let same = client.get(&address).header("if-none-match", &tag).send().await.expect("an answer");
    assert_eq!(same.status(), StatusCode::NOT_MODIFIED);
    repository.write("bad", "");
    let bad = repository.commit("Worse");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    world.verdict("tidegauge", &bad).await;
    assert_eq!(state(&address).await, "failed");
    let newer = client.get(&address).header("if-none-match", &tag).send().await.expect("an answer");
    assert_eq!(newer.status(), StatusCode::OK, "what was known is not true any more");
    assert_eq!(state(&format!("{address}&branch=topic/none")).await, "no run yet");
    assert_eq!(state(&format!("{address}&pipeline=none")).await, "no run yet");
    let plain = address.split('?').next().expect("an address").to_owned();
    for other in [plain.clone(), format!("{plain}?key=wrong"), plain.replace("tidegauge", "almanac"), format!("{plain}?key=")] {
        assert_eq!(state(&other).await, "unknown", "{other}");
    }
    assert_eq!(client.get(plain.replace(".svg", "")).send().await.expect("an answer").status(), StatusCode::NOT_FOUND);
    assert_eq!(world.run(&["project", "seen", "tidegauge", "public"]).await.code, 0);
    assert_eq!(state(&plain).await, "failed");
    let texts = world.run(&["project", "badge", "tidegauge", "--pipeline", "main"]).await.out;
    assert!(texts.contains("badge/tidegauge.svg?pipeline=main)") && texts.contains(".. image::") && texts.contains("<img src="), "{texts}");
}
