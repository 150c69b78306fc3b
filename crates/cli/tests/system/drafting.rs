//! The draft desk as a picture: a pipeline built with the mouse, then with the keyboard, and the text says the same all the
//! time; one undo goes over both; what is kept is seen before it is.

use super::console::{accessible, signed_in};
use super::{world, world_with};
use fantoccini::actions::{InputSource, MOUSE_BUTTON_LEFT, MouseActions, PointerAction};
use ordotaxis_testbed::{Browser, Repository, World, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::time::Duration;

const FILE: &str = "# The tide gauge\nlanguage = 1\norder = \"build > test\" # in this order\n\n[starts]\npush = [\"main\"]\n\n# Builds it.\n[job.build.gauge]\nsteps = [\n  \"make\", # all\n]\ngives = { firmware = [\"out/*\"] }\n\n[job.test.unit]\nsteps = [\"./unit\"]\n";

async fn desk(world: &World, path: &str) -> Browser {
    let browser = signed_in(world).await;
    browser.client.goto(&format!("{}/projects/tidegauge/draft{path}", world.url)).await.expect("the page");
    browser.see("Draft of tidegauge").await;
    browser.see("Nothing is wrong with this file.").await;
    browser
}

async fn text(browser: &Browser) -> String {
    let find = "document.querySelector('.cm-content')";
    let script = format!("return ({find}.cmTile?.view ?? {find}.cmView.view).state.doc.toString()");
    browser.script(&script).await.as_str().map(str::to_owned).unwrap_or_default()
}

/// Waits until the text holds all of these.
async fn says(browser: &Browser, wanted: &[&str]) {
    until(&format!("{wanted:?} in the text"), || async {
        let now = text(browser).await;
        wanted.iter().all(|one| now.contains(one)).then_some(())
    })
    .await;
    // The next change is made of the picture of this text.
    browser.holds("the picture of it", "document.querySelector('.picture-half')?.getAttribute('aria-busy') === 'false'").await;
}

/// The middle of an element, in the window.
async fn middle(browser: &Browser, css: &str) -> (f64, f64) {
    let script = format!(
        "const box = document.querySelector(`{css}`)?.getBoundingClientRect(); return box && [box.x + box.width / 2, box.y + box.height / 2]"
    );
    let found = until(css, || async { browser.script(&script).await.as_array().cloned() }).await;
    (found[0].as_f64().expect("a number"), found[1].as_f64().expect("a number"))
}

/// Presses on one element, moves to another, and lets go there, `aside` to the right of its middle.
async fn drag(browser: &Browser, from: &str, to: &str, aside: f64) {
    let (start, end) = (middle(browser, from).await, middle(browser, to).await);
    let mut mouse = MouseActions::new("mouse".into());
    let at = |(x, y): (f64, f64), way: f64| PointerAction::MoveTo { duration: Some(Duration::from_millis(20)), x: x + way, y };
    mouse = mouse.then(at(start, 0.0)).then(PointerAction::Down { button: MOUSE_BUTTON_LEFT });
    let half = ((start.0 + end.0) / 2.0, (start.1 + end.1) / 2.0);
    mouse = mouse.then(at(half, 0.0)).then(at(end, aside)).then(PointerAction::Up { button: MOUSE_BUTTON_LEFT });
    browser.client.perform_actions(mouse).await.expect("a drag");
}

async fn choose(browser: &Browser, css: &str, label: &str) {
    let list = browser.client.wait().for_element(fantoccini::Locator::Css(css)).await.expect("a list");
    list.select_by_label(label).await.expect("chosen");
}

async fn project(world: &World) -> Repository {
    let repository = world.project("tidegauge").await;
    repository.push_pipeline(FILE);
    repository
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pipeline_is_built_by_dragging_and_the_text_says_the_same() {
    let world = world().await;
    project(&world).await;
    let browser = desk(&world, "").await;
    browser.holds("the boxes", "document.querySelectorAll('.picture .job').length === 2").await;
    accessible(&browser).await;
    // A stage more with a job, a line to it, a job moved, a stage put elsewhere.
    browser.press("Add a stage").await;
    browser.fill("#add-stage", "ship").await;
    browser.fill("#add-job", "pier").await;
    accessible(&browser).await;
    browser.click("dialog.ask button[type=submit]").await;
    says(&browser, &["order = \"build > test > ship\" # in this order", "[job.ship.pier]"]).await;
    drag(&browser, "[data-from='test.unit']", "[data-name='ship.pier']", 0.0).await;
    says(&browser, &["after = [\"test.unit\"]"]).await;
    browser.holds("a line", "document.querySelectorAll('.picture .link.after').length === 1").await;
    drag(&browser, "[data-name='ship.pier'] text", "[data-name='build']", 0.0).await;
    says(&browser, &["[job.build.pier]", "order = \"build > test\" # in this order"]).await;
    browser
        .holds(
            "it stands there",
            "!document.querySelector(`[data-name='ship.pier']`) && document.querySelector(`[data-name='build.pier']`) !== null",
        )
        .await;
    drag(&browser, ".picture .stage:nth-of-type(2) .head text", "[data-name='build']", -60.0).await;
    says(&browser, &["order = \"test > build\" # in this order"]).await;
    // Comments and layout stay as they were.
    says(&browser, &["# The tide gauge\n", "# Builds it.\n[job.build.gauge]\nsteps = [\n  \"make\", # all\n]"]).await;
    // One undo goes over text and picture.
    for _ in 0..4 {
        browser.press("Undo").await;
    }
    until("the text of before", || async { (text(&browser).await == FILE).then_some(()) }).await;
    browser.holds("the picture of before", "document.querySelectorAll('.picture .job').length === 2").await;
    browser.press("Redo").await;
    says(&browser, &["[job.ship.pier]"]).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_written_as_a_form_from_the_keyboard() {
    let world = world().await;
    project(&world).await;
    let browser = desk(&world, "").await;
    browser.script("document.querySelector(`[data-name='build.gauge']`).focus()").await;
    // Right, to the next stage's job; Enter opens it.
    browser.keys("\u{e014}\u{e007}").await;
    browser.text("section[aria-label='Job test.unit']").await;
    accessible(&browser).await;
    browser.fill("#job-name", "soak").await;
    browser.keys("\u{e007}").await;
    says(&browser, &["[job.test.soak]\nsteps = [\"./unit\"]"]).await;
    choose(&browser, "[aria-label='take']", "build.gauge/firmware").await;
    says(&browser, &["takes = [\"build.gauge/firmware\"]"]).await;
    browser.fill("#key-timeout", "20m").await;
    browser.keys("\u{e004}").await;
    says(&browser, &["timeout = \"20m\""]).await;
    browser.fill("#key-steps", "./unit\n./soak --long").await;
    browser.keys("\u{e004}").await;
    says(&browser, &["steps = [\"./unit\", \"./soak --long\"]"]).await;
    choose(&browser, "#key-by_hand", "true").await;
    says(&browser, &["by_hand = true"]).await;
    browser.fill("#key-env", "UNITS").await;
    browser.keys("\u{e004}").await;
    browser.see("“UNITS” is not NAME = VALUE").await;
    choose(&browser, "#job-stage", "build").await;
    says(&browser, &["[job.build.soak]"]).await;
    browser.press("Not build.gauge/firmware").await;
    until("nothing taken", || async { (!text(&browser).await.contains("takes")).then_some(()) }).await;
    browser.press("Remove build.soak").await;
    until("the job to go", || async { (!text(&browser).await.contains("soak")).then_some(()) }).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_offered_where_there_is_no_forge_and_seen_before() {
    let world = world_with("[git]\nnear = true\n").await;
    let (repository, address) = world.private_repository("tidegauge", "high-water").await;
    repository.push_pipeline(FILE);
    let added = world.run_with(&["project", "add", "tidegauge", "--git", &address, "--user", "practice"], "high-water\n").await;
    assert_eq!(added.code, 0, "{added:?}");
    let browser = desk(&world, "").await;
    browser.click("[aria-label='Add a job to test']").await;
    browser.fill("#add-job", "soak").await;
    browser.click("dialog.ask button[type=submit]").await;
    says(&browser, &["[job.test.soak]"]).await;
    browser.press("Keep").await;
    browser.see("3 lines come, 0 lines go").await;
    browser.see("+[job.test.soak]").await;
    browser.fill("#draft-message", "Soak it, too").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("It is offered: proposal 1.").await;
    let proposals = world.json(&["proposals", "tidegauge"]).await;
    assert_eq!(
        (proposals[0]["title"].as_str(), proposals[0]["source"].as_str()),
        (Some("Soak it, too"), Some("draft/main")),
        "{proposals}"
    );
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_that_cannot_be_made_are_told() {
    let world = world().await;
    let call = async |body: Value| {
        let answer = world.http(Method::POST, "/api/v1/edited-file").json(&body).send().await.expect("an answer");
        (answer.status(), answer.json::<Value>().await.unwrap_or_default())
    };
    let (status, edited) = call(json!({ "text": FILE, "edit": { "what": "rename_job", "job": "test.unit", "to": "test.soak" } })).await;
    assert_eq!((status, edited["text"].as_str()), (StatusCode::OK, Some(FILE.replace("test.unit", "test.soak").as_str())));
    for (edit, says) in [
        (json!({ "what": "remove_job", "job": "test.never" }), "there is no job test.never"),
        (json!({ "what": "add_job", "job": "test.unit", "steps": [] }), "there is a job test.unit already"),
        (json!({ "what": "add_job", "job": "x]\n[job.y", "steps": [] }), "a name is lower-case letters"),
        (json!({ "what": "come_after", "job": "test.unit", "of": "test.unit" }), "cannot come after itself"),
        (json!({ "what": "explode" }), "explode"),
        (json!({ "what": "remove_job", "job": "test.unit", "more": 1 }), "more"),
    ] {
        let (status, told) = call(json!({ "text": FILE, "edit": edit })).await;
        assert!(status.is_client_error() && told["detail"].as_str().is_some_and(|detail| detail.contains(says)), "{edit}: {told}");
    }
    // The guide's own example.
    let guide = include_str!("../../../../docs/console.md");
    let example = guide.split("```json\n").nth(1).and_then(|rest| rest.split("```").next()).expect("an example");
    let (status, edited) = call(serde_json::from_str(example).expect("JSON")).await;
    assert_eq!((status, edited["text"].as_str()), (StatusCode::OK, Some("[job.test.quick]\nsteps = [\"make test\"]\n")));
    let (status, _) = call(json!({ "text": "x".repeat(20 * 1024 * 1024), "edit": { "what": "remove_job", "job": "a.b" } })).await;
    assert_eq!(status, StatusCode::PAYLOAD_TOO_LARGE);
}
