//! What is set of a project, and done to what runs, where one reads about it in the console: with one sentence before, and
//! the way back where there is one. Who may not, is not offered it.

use super::console::{accessible, signed_in};
use super::delivery::Delivery;
use super::world;
use ordotaxis_testbed::{Browser, RunnerOptions, World, until};
use serde_json::Value;

async fn open(browser: &Browser, world: &World, path: &str) {
    browser.client.goto(&format!("{}{path}", world.url)).await.expect("the page");
}

/// Presses what asks, fills its fields in order, and confirms.
pub(super) async fn with(browser: &Browser, words: &str, fields: &[&str]) {
    browser.press(words).await;
    browser.text("dialog.ask[open] h2").await;
    for (at, value) in fields.iter().enumerate() {
        if !value.is_empty() {
            browser.fill(&format!("dialog.ask .ask-field:nth-of-type({}) .field", at + 1), value).await;
        }
    }
    accessible(browser).await;
    browser.click("dialog.ask button[type=submit]").await;
}

async fn project(world: &World, of: &str) -> Value {
    let answer = world.http(reqwest::Method::GET, &format!("/api/v1/projects/tidegauge{of}")).send().await.expect("an answer");
    answer.json().await.expect("JSON")
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_commands_set_is_set_in_the_console() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    repository.git(&["push", "--quiet", "origin", "HEAD:refs/heads/trunk"]);
    let browser = signed_in(&world).await;
    open(&browser, &world, "/projects/tidegauge").await;
    browser.press("Settings").await;
    browser.see("Main branch").await;
    accessible(&browser).await;
    with(&browser, "Change the main branch", &["trunk"]).await;
    browser.see("The main branch is trunk.").await;
    assert_eq!(project(&world, "/repository").await["main_branch"], "trunk");
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    assert_eq!(project(&world, "/repository").await["main_branch"], "main");
    with(&browser, "Set a password", &["", "reader", "salt-and-mud"]).await;
    browser.see("as reader").await;
    let shown = project(&world, "/repository").await;
    let origin = shown["logins"][0]["origin"].as_str().expect("a login").to_owned();
    assert!(!shown.to_string().contains("salt-and-mud"));
    browser.act(&format!("Remove the password for {origin}")).await;
    browser.see("None: by HTTP it is read as everybody may.").await;
    browser.press("Make a key").await;
    browser.see("A key is made").await;
    assert!(project(&world, "/repository").await["key"].as_str().is_some_and(|key| key.starts_with("ssh-ed25519 ")));

    browser.press("Pushes").await;
    browser.see("Webhook address").await;
    accessible(&browser).await;
    browser.act("Make a new one: the webhook secret").await;
    browser
        .holds("the new secret", "document.querySelector(`[aria-label='Webhook secret, shown this once']`)?.value.startsWith('whsec_')")
        .await;
    browser.press("Change how often it is looked at").await;
    let list = browser.client.wait().for_element(fantoccini::Locator::Css("dialog.ask select")).await.expect("a list");
    list.select_by_label("every minute").await.expect("chosen");
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("tidegauge is looked at every minute.").await;
    assert_eq!(project(&world, "").await["poll_ms"], 60_000);

    browser.press("Secrets").await;
    browser.see("Here are values that jobs get by name").await;
    with(&browser, "Set a secret", &["STATION_KEY", "salt-and-mud", "", "main"]).await;
    browser.see("branches main").await;
    with(&browser, "Set a secret", &["ORDOTAXIS_X", "salt-and-mud"]).await;
    browser.see("are kept for what every step finds").await;
    browser.press("Not now").await;
    accessible(&browser).await;
    browser.act("Remove STATION_KEY").await;
    browser.see("The secret STATION_KEY is removed.").await;
    assert_eq!(project(&world, "/secrets").await, serde_json::json!([]));

    browser.press("Connections").await;
    browser.see("Here are users and passwords").await;
    with(&browser, "Set a connection", &["registry", "https://registry.example", "reader", "salt-and-mud"]).await;
    browser.see("https://registry.example").await;
    browser.act("Remove registry").await;
    browser.see("The connection registry is removed.").await;

    browser.click(".settings-words a[href$='view=people']").await;
    browser.see("all who are signed in").await;
    accessible(&browser).await;
    browser.press("Change who sees it").await;
    let list = browser.client.wait().for_element(fantoccini::Locator::Css("dialog.ask select")).await.expect("a list");
    list.select_by_label("those who hold a role on it").await.expect("chosen");
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("tidegauge is seen by those who hold a role on it.").await;
    assert_eq!(project(&world, "").await["seen"], "granted");
    assert_eq!(world.run(&["person", "add", "maren"]).await.code, 0);
    with(&browser, "Give a role", &["maren"]).await;
    browser.see("maren is operator of tidegauge.").await;
    browser.press("Take away the role of maren on tidegauge").await;
    browser.see("maren is not operator of tidegauge any more.").await;
    browser.press("Undo").await;
    browser.press("Take away the role of maren on tidegauge").await;

    for (words, sees) in
        [("Notices", "Nothing was told yet."), ("Badge", "It looks like this"), ("Rules and kept files", "nothing is asked of changes")]
    {
        browser.press(words).await;
        browser.see(sees).await;
        accessible(&browser).await;
    }
    browser.fill("#kept-rules", "rules = 1\n[branch.main]\nland = \"queue\"\n").await;
    browser.press("Keep them").await;
    browser.see("These rules hold from now on").await;
    assert!(project(&world, "/rules").await["kept"].as_str().is_some_and(|kept| kept.contains("queue")));
    browser.press("Remove").await;
    with(&browser, "Remove tidegauge", &["almanac"]).await;
    browser.see("nothing was removed").await;
    browser.fill("dialog.ask .field", "tidegauge").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("tidegauge is removed.").await;
    assert_eq!(world.json(&["project", "list"]).await, serde_json::json!([]));
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_stopped_and_done_again_and_taken_back() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.push_pipeline("language = 1\n[job.test.soak]\nsteps = [\"until test -e go; do sleep 0.1; done\"]\n");
    let browser = signed_in(&world).await;
    open(&browser, &world, "/runs/tidegauge/1").await;
    browser.press("Stop").await;
    browser.see("Jobs that run are ended").await;
    accessible(&browser).await;
    browser.press("Not now").await;
    browser.holds("the button has the focus again", "document.activeElement.innerText === 'Stop'").await;
    browser.act("Stop").await;
    browser.see("tidegauge/1 is stopping.").await;
    browser.act("All again").await;
    browser.see("tidegauge/2 has begun.").await;
    browser.holds("the new run", "location.pathname.startsWith('/runs/tidegauge/2')").await;
    // What was done last is taken back by its key as well.
    browser.keys("u").await;
    browser.see("Taken back.").await;
    until("the new run to stop", || async {
        let run = world.json(&["show", "tidegauge/2"]).await;
        (run["state"] == "stopped").then_some(())
    })
    .await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_environment_is_frozen_thawed_and_gone_into_past_the_rules() {
    let rules = "rules = 1\n[environment.pier-north]\napprove = { of = 1, by = [\"@keepers\"] }\nemergency = [\"owner\"]\n";
    let delivery = Delivery::new(rules).await;
    let world = &delivery.world;
    world.project("tidegauge").await;
    let first = delivery.push("1");
    delivery.waits("pier-north", "1 approval").await;
    let browser = signed_in(world).await;
    open(&browser, world, "/projects/stations/environments/pier-north").await;
    browser.see("All that was put there").await;
    with(&browser, "Freeze pier-north", &["the gate is being painted", "soon"]).await;
    browser.see("“soon” is no time").await;
    browser.fill("dialog.ask .ask-field:nth-of-type(2) .field", "2h").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("pier-north is frozen.").await;
    browser.see("by owner: the gate is being painted").await;
    browser.press("Thaw pier-north").await;
    browser.see("pier-north is thawed.").await;
    browser.press("Undo").await;
    browser.see("by owner: the gate is being painted").await;
    delivery.environment("pier-north", "frozen again for as long as before", |one| one["frozen"]["until"].is_string()).await;
    // Past all of it, with a reason; someone else has to confirm it.
    open(&browser, world, "/runs/stations/1/ship.pier[north]?tab=why").await;
    with(&browser, "Emergency: ship.pier[north]", &["the light is out"]).await;
    browser.see("someone else has to confirm it").await;
    delivery.holds("pier-north", &first).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cache_is_dropped_and_a_runner_drained_and_let_again() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(
        "language = 1\n[job.build.gauge]\ncheckout = false\nsteps = [\"mkdir -p kept && echo 1 > kept/level\"]\n[[job.build.gauge.cache]]\npaths = [\"kept\"]\nkey = \"levels\"\n",
    );
    world.verdict("tidegauge", &commit).await;
    let browser = signed_in(&world).await;
    open(&browser, &world, "/projects/tidegauge/caches").await;
    browser.see("1 entry;").await;
    browser.act("Drop levels").await;
    browser.see("levels is dropped.").await;
    browser.see("This project has no caches yet").await;
    // A runner takes no further jobs, and does again once that is taken back.
    let name = world.json(&["runner", "list"]).await[0]["name"].as_str().unwrap_or_default().to_owned();
    let drained = async |by: Value| {
        let found = || async { (world.json(&["runner", "list"]).await[0]["draining_by"] == by).then_some(()) };
        until(&format!("the runner to be drained by {by}"), found).await;
    };
    open(&browser, &world, "/runners").await;
    browser.see("1 runner: 0 of 2 slots busy, nothing queues").await;
    browser.press(&format!("Drain {name}")).await;
    browser.see(&format!("{name} takes no further jobs.")).await;
    drained(Value::from("owner")).await;
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    drained(Value::Null).await;
    browser.see("free").await;
    browser.end().await;
}
