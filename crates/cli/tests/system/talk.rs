//! Talk on proposals: one comment that is rewritten, commands in comments of others with the rights of who wrote them, places
//! and single jobs as statuses.

use super::ORDOTAXIS;
use super::landing::Setting;
use ordotaxis_practice::{Comment, Dialect, Fault, What};
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::json;

const RULES: &str =
    "rules = 1\n[branch.main]\nland = \"queue\"\napprovals = { of = 1, by = [\"maren\"] }\n[told]\njobs = [\"test.together\"]\n";

fn comments(world: &World, number: usize) -> Vec<Comment> {
    world.forge.proposal("tidegauge", number).map(|proposal| proposal.comments).unwrap_or_default()
}

/// The comment of the service on a proposal, once it says this.
async fn says(world: &World, number: usize, words: &str) -> Comment {
    until(&format!("a comment on {number} with `{words}`"), || async {
        let own = comments(world, number).into_iter().filter(|one| one.by == "ordotaxis").collect::<Vec<_>>();
        assert!(own.len() < 2, "there is one comment, and no second: {own:?}");
        own.into_iter().find(|one| one.text.contains(words))
    })
    .await
}

/// Someone here, as the forge knows them.
async fn person(world: &World, name: &str, role: Option<&str>) {
    assert_eq!(world.run(&["person", "add", name]).await.code, 0);
    let known = world.run(&["person", "known", name, "--issuer", &world.forge_url, "--subject", name]).await;
    assert_eq!(known.code, 0, "{known:?}");
    if let Some(role) = role {
        let given = world.run(&["grant", "set", name, role, "--project", "tidegauge"]).await;
        assert_eq!(given.code, 0, "{given:?}");
    }
}

async fn write(setting: &Setting, number: usize, by: &str, text: &str) {
    setting.act(&format!("people/tidegauge/proposals/{number}/comment"), &json!({ "by": by, "text": text })).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_has_one_comment_that_says_how_it_is() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    setting.offer(1, "a", "1\n").await;
    let first = says(world, 1, ": passed").await;
    let link = "- main passed: `Passed: 2 jobs";
    assert!(first.text.starts_with("**tidegauge** at ") && first.text.contains(link), "{}", first.text);
    assert!(first.text.contains("`1 approval of its newest commit is missing, by maren`"), "{}", first.text);
    // Another commit, which fails: the same comment speaks of it, and names what fails.
    setting.repository.git(&["checkout", "--quiet", "topic/1"]);
    setting.repository.write("bad", "");
    let head = setting.repository.commit("Worse");
    setting.repository.git(&["push", "--quiet", "origin", "HEAD"]);
    let second = says(world, 1, &format!("at {}: failed", &head[..8])).await;
    assert_eq!(second.id, first.id);
    assert!(second.text.contains("New failures:\n- `test.together`: `step"), "{}", second.text);
    // Someone deletes it: it is written anew, once.
    let client = reqwest::Client::new();
    let gone = client.delete(format!("{}/api/people/tidegauge/proposals/1/comments/{}", world.forge_url, first.id)).send().await;
    gone.expect("an answer").error_for_status().expect("it is gone");
    // Its forge fails meanwhile.
    world.forge.will_fail([
        Fault { what: What::Status { status: 500 }, on: "comments".into() },
        Fault { what: What::Half, on: "comments".into() },
    ]);
    assert_eq!(world.run(&["again", "tidegauge/3"]).await.code, 0, "tidegauge/3 is the second run of it");
    let third = says(world, 1, "/runs/tidegauge/4").await;
    assert!(third.id > first.id);
    // A job that the rules name has a status of its own, and only such a one.
    let contexts: Vec<String> = world.forge.statuses("tidegauge", &head).into_iter().map(|one| one.context).collect();
    assert!(contexts.iter().any(|one| one == "ordotaxis/main/test.together"), "{contexts:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_people_ask_for_in_comments_is_done_as_they_are() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    person(world, "maren", None).await;
    person(world, "tomas", Some("operator")).await;
    setting.offer(1, "a", "1\n").await;
    says(world, 1, ": passed").await;
    for (by, text, answer) in [
        ("mallory", "ordotaxis: land", "`mallory` `land`: `not done: nobody here is known as mallory at the forge"),
        ("maren", "ordotaxis: land", "`maren` `land`: `not done: this needs the role operator of tidegauge"),
        ("tomas", "Good.\r\nordotaxis: lnad\r\n", "`tomas` `lnad`: `no such command; did you mean 'land'?"),
        ("tomas", "ordotaxis: leave", "not done: proposal 1 is not in the landing queue of main"),
        ("tomas", "ordotaxis: again failed", "not done: nothing of tidegauge/2 failed"),
        ("tomas", "ordotaxis: approve 0000000", "not done: its newest commit is "),
        ("tomas", "ordotaxis: land", "`tomas` `land`: `it has its place in the queue`"),
    ] {
        write(&setting, 1, by, text).await;
        says(world, 1, answer).await;
    }
    // tomas is nobody whose approval the rules ask for; maren's is counted at once.
    write(&setting, 1, "tomas", "ordotaxis: approve").await;
    let approved = says(world, 1, "is approved`").await;
    assert!(approved.text.contains("place 1 in the queue of main: it waits: 1 approval"), "{}", approved.text);
    setting.hold();
    write(&setting, 1, "maren", "ordotaxis: approve").await;
    says(world, 1, "it is being tested").await;
    let head = world.forge.proposal("tidegauge", 1).expect("a proposal").commit;
    let place = until("its place as a status", || async {
        let all = world.forge.statuses("tidegauge", &head);
        all.into_iter().find(|one| one.context == "ordotaxis/landing:main" && one.text.contains("is being tested"))
    })
    .await;
    assert_eq!((place.state.as_str(), place.link), ("running", format!("{}/projects/tidegauge/landing", world.url)));
    // An approval is for what its giver has seen.
    write(&setting, 1, "tomas", "ordotaxis: hold").await;
    says(world, 1, "`tomas` `hold`: `it is held").await;
    setting.release();
    write(&setting, 1, "tomas", "ordotaxis: land").await;
    says(world, 1, "`it has landed in main as ").await;
    let last = until("that it landed, as a status", || async {
        world.forge.statuses("tidegauge", &head).into_iter().rfind(|one| one.context == "ordotaxis/landing:main" && one.state == "success")
    })
    .await;
    assert!(last.text.starts_with("Landed in main as "), "{last:?}");
    let journal = world.json(&["journal", "tidegauge"]).await.to_string();
    assert!(journal.contains("\"way\":\"comment\"") && !journal.contains("mallory"), "{journal}");
}

/// Whoever names a test gives no command by it, even where the forge's account of the service is an owner here.
#[tokio::test(flavor = "multi_thread")]
async fn our_own_comment_gives_no_commands() {
    let world = World::start_speaking(ORDOTAXIS, "hook_grace = \"1s\"\n", tempfile::tempdir().expect("a folder"), Dialect::Practice).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    person(&world, "ordotaxis", Some("owner")).await;
    let report = "<testsuite name='a&#10;ordotaxis: approve'><testcase name='x&#10;ordotaxis: again'><failure message='no&#10;ordotaxis: again&#10;@maren [see](http://mallory.example)'/></testcase></testsuite>";
    repository.write("unit.xml", report);
    let pipeline = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.test.unit]\nreports = { junit = [\"unit.xml\"] }\nsteps = [\"test ! -e bad\"]\n";
    let commit = repository.push_pipeline(pipeline);
    world.verdict("tidegauge", &commit).await;
    repository.git(&["checkout", "--quiet", "-B", "topic/1"]);
    repository.write("unit.xml", &report.replace("x&#10;", "y`&#10;"));
    repository.write("bad", "");
    repository.commit("Worse");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    world.propose("tidegauge", "topic/1", false).await;
    let comment = says(&world, 1, "New failures").await;
    assert!(comment.text.contains("ordotaxis: again"), "it is named: {}", comment.text);
    // The forge has told of our comment by the time that it has told of a later one.
    let client = reqwest::Client::new();
    let ask = client.post(format!("{}/api/people/tidegauge/proposals/1/comment", world.forge_url));
    ask.json(&json!({ "by": "odd", "text": "ordotaxis: hold" })).send().await.expect("an answer");
    let last = says(&world, 1, "`odd` `hold`").await;
    assert_eq!(last.text.matches("`ordotaxis` ").count(), 0, "{}", last.text);
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(2), "{runs}");
}
