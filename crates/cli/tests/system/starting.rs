//! Starting a run by hand in the console: of what, with which inputs, which jobs; the plan of exactly that before anything
//! begins; and what a call of the same is told.

use super::console::{accessible, signed_in};
use super::delivery::Delivery;
use super::world;
use ordotaxis_testbed::{RunnerOptions, World};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const PIPELINE: &str = "language = 1\norder = \"build > test > ship\"\n[starts]\npush = [\"main\"]\n[starts.inputs.rounds]\nchoices = [\"2\", \"20\"]\ndefault = \"2\"\nsays = \"how long the soak test takes\"\n\
    [starts.inputs.station]\nsays = \"where it goes\"\n[defaults]\ncheckout = false\n[job.build.gauge]\nsteps = [\"true\"]\n[job.test.soak]\nsteps = [\"echo $ORDOTAXIS_INPUT_ROUNDS rounds\"]\n\
    [job.ship.it]\nif = 'input.station == \"north-pier\"'\nsteps = [\"echo to $ORDOTAXIS_INPUT_STATION\"]\n";

async fn call(world: &World, path: &str, body: &Value) -> (StatusCode, Value) {
    let answer = world.http(Method::POST, &format!("/api/v1/projects/tidegauge/{path}")).json(body).send().await.expect("an answer");
    (answer.status(), answer.json().await.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_started_by_hand_with_its_plan_in_sight() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("ordotaxis.toml", PIPELINE);
    repository.commit("A gauge");
    repository.push();
    repository.git(&["checkout", "--quiet", "-b", "topic/neap"]);
    repository.write("note", "neap tides\n");
    let topic = repository.commit("Neap tides, too");
    repository.git(&["push", "--quiet", "origin", "topic/neap"]);
    repository.git(&["tag", "-a", "v1.0", "-m", "The first", "main"]);
    repository.git(&["push", "--quiet", "origin", "v1.0"]);

    let browser = signed_in(&world).await;
    browser.client.goto(&format!("{}/projects/tidegauge", world.url)).await.expect("the page");
    browser.press("Start").await;
    browser.see("how long the soak test takes").await;
    browser.see("Still needs station.").await;
    accessible(&browser).await;
    // Branches, tags and commits stand there to be chosen.
    let offered = "[...document.querySelectorAll('#start-refs option')].map((one) => `${one.value} ${one.innerText}`).join('; ')";
    browser
        .holds(
            "what there is",
            &format!("{offered}.includes('topic/neap branch: Neap tides, too') && {offered}.includes('v1.0 tag: A gauge')"),
        )
        .await;
    browser.fill("#input-station", "outer-buoy").await;
    browser.see("(main): 2 jobs, 1 will be skipped.").await;
    browser.fill("#start-ref", "topic/neap").await;
    browser.see("Neap tides, too").await;
    browser.see(&format!("Starts a run of {} (topic/neap): 2 jobs, 1 will be skipped.", &topic[..8])).await;
    browser.fill("#input-station", "north-pier").await;
    browser.see("(topic/neap): 3 jobs.").await;
    browser.client.find(fantoccini::Locator::Css("#input-rounds")).await.expect("a choice").select_by_label("20").await.expect("chosen");
    // Only some of its jobs, and what they take from.
    browser.press("All jobs").await;
    browser.script("[...document.querySelectorAll('.start-jobs label')].find((one) => one.innerText.trim() === 'test.soak').click()").await;
    browser.see("(topic/neap): 1 job, 2 will be skipped.").await;
    browser.holds("two skipped", "document.querySelectorAll('.graph [data-node] .s-skipped').length === 2").await;
    browser.holds("the address", "location.search.includes('ref=topic%2Fneap') && location.search.includes('job=test.soak')").await;
    browser
        .holds("the inputs in it", "new URLSearchParams(location.search).getAll('input').join() === 'station=north-pier,rounds=20'")
        .await;
    accessible(&browser).await;
    let before = world.json(&["runs", "tidegauge"]).await.as_array().map(Vec::len);
    browser.click(".start-confirm button").await;
    browser.see("started by owner").await;
    let runs = world.json(&["runs", "tidegauge"]).await;
    let page = format!("{}/runs/{}/test.soak?tab=log", world.url, runs[0]["run"].as_str().expect("a run"));
    browser.client.goto(&page).await.expect("the page");
    browser.see("20 rounds").await;
    assert_eq!(runs.as_array().map(Vec::len), before.map(|before| before + 1), "one run, and none for all the plans before");
    assert_eq!(runs[0]["commit"], topic.as_str());
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_started_is_told_before_it_is() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    repository.write("ordotaxis.toml", PIPELINE);
    repository.commit("A gauge");
    repository.push();
    let given = json!({ "rounds": "2", "station": "north-pier" });
    for (body, says) in [
        (json!({ "ref": "never", "inputs": given }), "no branch, tag or commit never"),
        (json!({ "pipeline": "nightly", "inputs": given }), "has no pipeline nightly"),
        (json!({ "inputs": { "rounds": "3", "station": "x" } }), "rounds"),
        (json!({ "inputs": { "rounds": "2" } }), "station"),
        (json!({ "inputs": { "rounds": "2", "station": "x", "moon": "full" } }), "moon"),
        (json!({ "inputs": given, "jobs": ["test.never"] }), "test.never"),
    ] {
        let (status, problem) = call(&world, "planned-run", &body).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
        assert!(problem["detail"].as_str().is_some_and(|detail| detail.contains(says)), "{problem}");
        let (same, other) = call(&world, "runs", &body).await;
        assert_eq!((same, &other["detail"]), (status, &problem["detail"]), "a start says the same");
    }
    // A file with mistakes has no plan; what is wrong with it is told.
    repository.git(&["checkout", "--quiet", "-b", "topic/broken"]);
    repository.write("ordotaxis.toml", "language = 1\n[job.test.unit]\nstpes = [\"true\"]\n");
    repository.commit("Broken");
    repository.git(&["push", "--quiet", "origin", "topic/broken"]);
    let (status, planned) = call(&world, "planned-run", &json!({ "ref": "topic/broken" })).await;
    assert_eq!((status, &planned["plan"]), (StatusCode::OK, &Value::Null));
    assert_eq!(planned["diagnostics"][0]["line"], 3, "{planned}");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert!(runs.as_array().is_some_and(|runs| runs.iter().all(|run| run["occasion"]["event"] != "by_hand")), "nothing was begun");
    let answer = world.http(Method::GET, "/api/v1/projects/tidegauge/refs?of=never").send().await.expect("an answer");
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_started_by_hand_may_go_past_the_rules_where_they_let_someone() {
    let rules = |who: &str| {
        format!(
            "rules = 1\n[environment.trial]\nemergency = [\"mara\"]\n\
             [environment.pier-north]\napprove = {{ of = 1, by = [\"@keepers\"] }}\nemergency = [\"{who}\"]\n"
        )
    };
    let delivery = Delivery::new(&rules("mara")).await;
    let world = &delivery.world;
    world.project("tidegauge").await;
    let first = delivery.push("1");
    delivery.waits("pier-north", "1 approval").await;
    let browser = signed_in(world).await;
    let page = format!("{}/projects/stations/start", world.url);
    let choose = async |what: &[&str]| {
        browser.client.goto(&page).await.expect("the page");
        browser.see("(main): 4 jobs.").await;
        browser.press("By the rules of each environment").await;
        browser.see("someone else has to confirm it").await;
        for label in what {
            let past = format!("[...document.querySelectorAll('.start-past')].find((one) => one.innerText.trim() === '{label}').click()");
            browser.script(&past).await;
        }
    };
    // Not without a reason.
    choose(&["ship.pier[north] into pier-north"]).await;
    browser.holds("it is not begun without a reason", "document.querySelector('.start-confirm button').disabled").await;
    browser.fill("#start-why", "the light is out").await;
    accessible(&browser).await;
    // Whom the rules do not let past has begun a run that goes by them, and is told so.
    browser.click(".start-confirm button").await;
    browser
        .see("stations/2 has begun. By the rules: ship.pier[north], since the rules of pier-north let mara go past them, not owner.")
        .await;
    delivery.waits("pier-north", "1 approval").await;
    // Whom they do let is past the approval, and it is told that someone has to confirm it; also where another job is refused.
    delivery.repository.write("ordotaxis/rules.toml", &rules("owner"));
    let second = delivery.push("2");
    delivery.environment("pier-north", "the newest waits", |one| one["waiting"][0]["commit"] == second.as_str()).await;
    choose(&["trial.put into trial", "ship.pier[north] into pier-north"]).await;
    browser.fill("#start-why", "the light is out").await;
    browser.click(".start-confirm button").await;
    browser.see("stations/4 has begun. Past the rules: ship.pier[north]. By the rules: trial.put, since the rules of trial let mara").await;
    let north = delivery.holds("pier-north", &second).await;
    assert_ne!(first, second);
    assert_eq!(
        (north["present"]["way"].as_str(), north["unconfirmed"][0]["reason"].as_str()),
        (Some("emergency"), Some("the light is out"))
    );
    let south = delivery.holds("pier-south", &second).await;
    assert_ne!(south["present"]["way"], "emergency", "no rule is for it, and none was passed by: {south}");
    browser.end().await;
}
