//! Between forge, repository and service: hooks that come late or never, branches that are forced back or gone, and two
//! services on one repository.

use super::ORDOTAXIS;
use super::landing::{Setting, says};
use ordotaxis_core::notice::{webhook_key, webhook_signature};
use ordotaxis_practice::{Dialect, Fault, What};
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::{Value, json};

const QUEUE: &str = "rules = 1\n[branch.main]\nland = \"queue\"\n";
const PIPELINE: &str = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.a.b]\nsteps = [\"true\"]\n";
const CONFIG: &str = "beat = \"250ms\"\nretry_pause = \"100ms\"\nhook_grace = \"1s\"\n";

/// A hook of the practice forge's own dialect, sent now; it is taken.
async fn hook(world: &World, id: &str, body: &Value) {
    let (status, told) = send(world, id, body).await;
    assert_eq!(status, 200, "{told}");
}

async fn send(world: &World, id: &str, body: &Value) -> (u16, Value) {
    let (secret, _) = world.forge_token("tidegauge");
    let (body, time) = (body.to_string(), jiff::Timestamp::now().as_second());
    let signature = webhook_signature(&webhook_key(&secret).expect("a key"), id, time, body.as_bytes());
    let call = reqwest::Client::new().post(format!("{}/hooks/v1/tidegauge", world.url)).header("content-type", "application/json");
    let call = call.header("webhook-id", id).header("webhook-timestamp", time.to_string()).header("webhook-signature", signature);
    let answer = call.body(body).send().await.expect("an answer");
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

/// From now on the forge's hooks go nowhere.
async fn lose_hooks(world: &World) {
    let nowhere = json!({ "url": "http://127.0.0.1:1/", "secret": "none" });
    let set = reqwest::Client::new().put(format!("{}/api/repositories/tidegauge/hook", world.forge_url)).json(&nowhere);
    set.send().await.expect("an answer").error_for_status().expect("set");
}

async fn act(world: &World, path: &str, body: &Value) {
    let call = reqwest::Client::new().post(format!("{}/api/{path}", world.forge_url)).json(body);
    call.send().await.expect("an answer").error_for_status().expect("it is done");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hook_that_comes_late_does_not_set_a_proposal_back() {
    let setting = Setting::new(QUEUE).await;
    let (world, repository) = (&setting.world, &setting.repository);
    let name = setting.offer(1, "a", "1\n").await;
    repository.git(&["checkout", "--quiet", "topic/1"]);
    let commits: Vec<String> = (0..4)
        .map(|number| {
            repository.write("more", &format!("{number}\n"));
            repository.commit(&format!("More {number}"))
        })
        .collect();
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    let (late, newest) = (&commits[0], &commits[3]);
    world.proposal(&name, "its newest commit", |one| one["commit"] == *newest && one["verdicts"][0]["state"] == "passed").await;
    let told = |commit: &str| {
        json!({ "event": "proposal", "number": 1, "title": "Change 1", "target": "main", "source": "topic/1", "commit": commit,
            "outside": false, "draft": false, "by": "odd" })
    };
    setting.hold();
    setting.land(&name).await;
    setting.entry(1, "tested", |entry| says(entry, "is being tested")).await;
    // The forge says what is offered; when it does not answer, the branch does.
    hook(world, "late-1", &told(late)).await;
    world.proposal(&name, "what the forge says", |one| one["commit"] == *newest).await;
    world.forge.will_fail((0..9).map(|_| Fault { what: What::Status { status: 500 }, on: "proposals/1$".into() }));
    hook(world, "late-2", &told(&commits[1])).await;
    world.proposal(&name, "where its branch is", |one| one["commit"] == *newest).await;
    let entry = setting.entry(1, "still tested", |entry| entry["commit"].is_string()).await;
    assert!(says(&entry, "is being tested"), "what comes late takes nothing out of the queue: {entry}");
    // Put back on purpose, it offers what it offered before, and leaves.
    repository.git(&["push", "--quiet", "--force", "origin", &format!("{}:refs/heads/topic/1", commits[2])]);
    assert_eq!(setting.end(1).await["why"], "it offers another commit now: ask again");
    setting.release();
    world.proposal(&name, "put back", |one| one["commit"] == commits[2] && one["verdicts"][0]["state"] == "passed").await;
}

/// A forge may say anything: what is no commit is told as a miss, and is nowhere taken for one.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_commit_is_not_taken_for_one() {
    let setting = Setting::new(QUEUE).await;
    let world = &setting.world;
    let name = setting.offer(1, "a", "1\n").await;
    world.proposal(&name, "a verdict", |one| one["verdicts"][0]["state"] == "passed").await;
    let odd = "høyvann, høyvann";
    let about =
        json!({ "number": 1, "title": "Change 1", "target": "main", "source": "topic/1", "outside": false, "draft": false, "by": "odd" });
    for event in ["proposal", "landed"] {
        let mut body = about.clone();
        (body["event"], body["commit"]) = (json!(event), json!(odd));
        let (status, told) = send(world, &format!("odd-{event}"), &body).await;
        assert_eq!(status, 422, "{told}");
        assert!(told["detail"].as_str().is_some_and(|detail| detail.contains("is no commit")), "{told}");
    }
    let review = world.run(&["review", &name, "--approve", "--commit", odd]).await;
    assert!(review.code == 3 && review.err.contains("look at that one"), "{review:?}");
    let shown = world.json(&["proposals", &name]).await;
    assert_eq!((&shown["state"], shown["commit"].as_str().map(str::len)), (&json!("open"), Some(40)), "{shown}");
}

/// What was said of a proposal at its forge counts, also where no hook told it; and what was said here stays.
async fn words_without_hooks(dialect: Dialect, number: &str) {
    let world = World::start_speaking(ORDOTAXIS, CONFIG, tempfile::tempdir().expect("a folder"), dialect).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    for (name, login) in [("maren", "maren"), ("owner", "ines")] {
        let _ = world.run(&["person", "add", name]).await;
        assert_eq!(world.run(&["person", "known", name, "--issuer", &world.forge_url, "--subject", login]).await.code, 0);
    }
    std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
    repository.write("ordotaxis/rules.toml", &format!("{QUEUE}approvals = {{ of = 2, by = [\"maren\", \"owner\"] }}\n"));
    let first = repository.push_pipeline(PIPELINE);
    world.verdict("tidegauge", &first).await;
    repository.git(&["checkout", "--quiet", "-B", "topic/1", "main"]);
    repository.write("a", "1\n");
    repository.commit("One");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    act(&world, "repositories/tidegauge/proposals", &json!({ "source": "topic/1", "target": "main", "title": "One", "by": "odd" })).await;
    let name = format!("tidegauge/{number}");
    world.proposal(&name, "it is known", |_| true).await;
    lose_hooks(&world).await;
    // Its new commit and an approval: both are asked for when it is to land.
    repository.write("a", "2\n");
    let head = repository.commit("Two");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    act(&world, "people/tidegauge/proposals/1/review", &json!({ "by": "maren", "approves": false })).await;
    let landing = world.json(&["land", &name]).await;
    let entry = &landing["branches"][0]["entries"][0];
    assert!(says(entry, "maren refuses it"), "{landing}");
    assert_eq!(world.json(&["proposals", &name]).await["commit"], head);
    assert_eq!(world.run(&["review", &name, "--approve", "--commit", &head]).await.code, 0);
    act(&world, "people/tidegauge/proposals/1/review", &json!({ "by": "maren", "approves": true })).await;
    // It stands in the queue: the next look at the repository asks who approves.
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    let landed = world.proposal(&name, "that it landed", |one| one["state"] == "landed").await;
    repository.git(&["fetch", "--quiet", "origin"]);
    assert_eq!(repository.git(&["rev-parse", "origin/main^2"]), head, "{landed}");
    assert_eq!(landed["landed_as"], repository.git(&["rev-parse", "origin/main"]).trim());
}

#[tokio::test(flavor = "multi_thread")]
async fn words_in_the_dialect_practice_count_without_hooks() {
    words_without_hooks(Dialect::Practice, "1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn words_in_the_dialect_harbour_count_without_hooks() {
    words_without_hooks(Dialect::Harbour, "1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn words_in_the_dialect_beacon_count_without_hooks() {
    words_without_hooks(Dialect::Beacon, "m1").await;
}

/// Main is forced back while a trial runs: the trial is made anew on what main is now, and that lands.
#[tokio::test(flavor = "multi_thread")]
async fn a_main_branch_that_is_forced_back_is_believed() {
    let setting = Setting::new(QUEUE).await;
    let (world, repository) = (&setting.world, &setting.repository);
    let first = repository.git(&["rev-parse", "main"]).trim().to_owned();
    let name = setting.offer(1, "a", "1\n").await;
    repository.write("readings.txt", "one\n");
    let second = repository.commit("To be taken back");
    repository.git(&["push", "--quiet", "origin", "main"]);
    world.verdict("tidegauge", &second).await;
    setting.hold();
    setting.land(&name).await;
    let before = setting.entry(1, "tested", |entry| says(entry, "is being tested") && entry["commit"].is_string()).await;
    repository.git(&["push", "--quiet", "--force", "origin", &format!("{first}:refs/heads/main")]);
    let anew = setting.entry(1, "made anew", |entry| entry["commit"].is_string() && entry["commit"] != before["commit"]).await;
    setting.release();
    let end = setting.end(1).await;
    assert_eq!(end["commit"], anew["commit"]);
    repository.git(&["fetch", "--quiet", "origin"]);
    assert_eq!(repository.git(&["rev-parse", "origin/main^1"]), first, "what was taken back has not come back");
    let runs = world.json(&["runs", "tidegauge"]).await;
    let of_first = runs.as_array().into_iter().flatten().filter(|run| run["commit"] == first).count();
    assert_eq!(of_first, 1, "the commit of before is not run twice: {runs}");
}

/// A branch that is gone takes nothing: what waits for it leaves, and nobody else may join.
#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_whose_target_is_gone_leaves() {
    let setting = Setting::new(&format!("{QUEUE}[branch.stable]\nland = \"queue\"\n")).await;
    let (world, repository) = (&setting.world, &setting.repository);
    repository.git(&["push", "--quiet", "origin", "main:refs/heads/stable"]);
    let text = std::fs::read_to_string(repository.folder.join("ordotaxis.toml")).expect("a pipeline");
    for (number, file) in [(1, "c"), (2, "d")] {
        repository.git(&["checkout", "--quiet", "-B", &format!("topic/{number}"), "main"]);
        repository.write(file, "1\n");
        repository.write("ordotaxis.toml", &text.replace("proposal = [\"main\"]", "proposal = [\"stable\"]"));
        repository.commit("For the stable branch");
        repository.git(&["push", "--quiet", "origin", "HEAD"]);
        let offered = json!({ "source": format!("topic/{number}"), "target": "stable", "title": "Stable", "by": "odd" });
        setting.act("repositories/tidegauge/proposals", &offered).await;
        world.proposal(&format!("tidegauge/{number}"), "it is known", |_| true).await;
    }
    setting.hold();
    setting.land("tidegauge/1").await;
    setting.entry(1, "tested", |entry| says(entry, "is being tested")).await;
    repository.git(&["push", "--quiet", "origin", ":stable"]);
    let late = world.run(&["land", "tidegauge/2"]).await;
    assert!(late.code == 3 && late.err.contains("there is no branch stable"), "{late:?}");
    setting.release();
    assert_eq!(setting.end(1).await["why"], "there is no branch stable any more");
    assert_eq!(world.json(&["proposals", "tidegauge/1"]).await["state"], "open", "its forge still offers it");
}

/// Two services know the same repository, by the same name: neither undoes what the other did.
#[tokio::test(flavor = "multi_thread")]
async fn two_services_on_one_repository_stay_out_of_each_others_way() {
    let (one, two) = (super::world().await, super::world().await);
    let repository = one.project("source").await;
    repository.write("ordotaxis.toml", PIPELINE);
    std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
    repository.write("ordotaxis/rules.toml", QUEUE);
    repository.commit("Pipeline and rules");
    let bare = one.folder.path().join("both.git").display().to_string();
    repository.git(&["clone", "--quiet", "--bare", ".", &bare]);
    let mut runners = Vec::new();
    for world in [&one, &two] {
        world.json(&["project", "add", "gauge", "--git", &bare]).await;
        assert_eq!(world.run(&["project", "poll", "gauge", "1s"]).await.code, 0);
        runners.push(world.runner(RunnerOptions::default()).await);
    }
    for (branch, file) in [("topic/1", "c"), ("topic/2", "d")] {
        repository.git(&["checkout", "--quiet", "-B", branch, "main"]);
        repository.write(file, "1\n");
        repository.commit(branch);
        repository.git(&["push", "--quiet", &bare, "HEAD"]);
    }
    for (world, branch) in [(&one, "topic/1"), (&two, "topic/2")] {
        until("the branch", || async { (world.run(&["propose", "gauge", branch]).await.code == 0).then_some(()) }).await;
        assert_eq!(world.run(&["land", "gauge/1"]).await.code, 0);
    }
    for world in [&one, &two] {
        world.proposal("gauge/1", "that it landed", |one| one["state"] == "landed").await;
    }
    let git = |arguments: &[&str]| repository.git(&[&["--git-dir", &bare], arguments].concat());
    assert_eq!(git(&["ls-tree", "--name-only", "main", "c", "d"]), "c\nd", "whoever was second has tried on top of the first");
    // Both wrote their verdict on the commit that both ran.
    let head = git(&["rev-parse", "main"]);
    let lines = until("both notes", || async {
        let note = std::process::Command::new("git").args(["--git-dir", &bare, "notes", "--ref", "ordotaxis", "show", &head]).output();
        let text = String::from_utf8_lossy(&note.ok()?.stdout).into_owned();
        let urls = [&one.url, &two.url].map(|url| text.lines().any(|line| line.contains(url.as_str()) && line.contains("passed")));
        (urls == [true, true]).then_some(text)
    })
    .await;
    assert!(lines.lines().all(|line| serde_json::from_str::<Value>(line).is_ok()), "{lines}");
}
