//! Pages of the console about what is offered and told, in headless Chromium: rules in Draft, a proposal, your notices.

use super::console::{accessible, signed_in};
use super::delivery::Delivery;
use super::landing::{Setting, brings};
use super::notices::setting;
use ordotaxis_testbed::until;
use serde_json::json;

const RULES: &str = "rules = 1\n[branch.main]\nland = \"queue\"\n";

#[tokio::test(flavor = "multi_thread")]
async fn one_chooses_what_one_is_told_and_has_a_sample_sent() {
    let setting = setting("", "", &[]).await;
    let world = &setting.world;
    let browser = signed_in(world).await;
    browser.client.goto(&format!("{}/notices", world.url)).await.expect("the page");
    browser.see("You have no mail address here").await;
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "owner@saltmarsh.example"]).await.code, 0);
    browser.see("Mail goes to owner@saltmarsh.example.").await;
    accessible(&browser).await;
    browser.click(".bar button").await;
    browser.see("A sample is on its way.").await;
    assert!(setting.mails(1).await[0].subject.contains("this is what a notice looks like"));
    browser.click("input[aria-label='runner of all projects']").await;
    browser.see("Kept.").await;
    let chosen = async || world.json(&["notice", "show"]).await["choices"].clone();
    let on = until("the choice", || async { chosen().await.get(0).map(|one| one["on"].clone()) }).await;
    assert!(on.as_array().is_some_and(|on| on.contains(&json!("runner")) && on.contains(&json!("broke"))), "{on}");
    browser.click("button[aria-label='As usual: all projects']").await;
    browser.see("The usual holds again.").await;
    until("the usual", || async { (chosen().await == json!([])).then_some(()) }).await;
    // What one was told stands below, with what became of it.
    assert_eq!(world.run(&["notice", "set", "--on", "broke", "--whose", "all"]).await.code, 0);
    setting.push("Maren", super::notices::worse).await;
    setting.mails(2).await;
    browser.see("What you were told").await;
    browser.see("main is broken").await;
    browser.see("sent").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_drafted_with_what_they_say_beside_them() {
    let setting = Setting::new(RULES).await;
    let (world, repository) = (&setting.world, &setting.repository);
    let browser = signed_in(world).await;
    browser.client.goto(&format!("{}/projects/tidegauge/draft/rules", world.url)).await.expect("the page");
    browser.see("Once they are on the main branch:").await;
    browser.see("Nothing is wrong with this file.").await;
    accessible(&browser).await;
    let write = async |text: &str| {
        let find = "document.querySelector('.cm-content')";
        let script = format!(
            "const view = {find}.cmTile?.view ?? {find}.cmView.view; view.dispatch({{ changes: {{ from: 0, to: view.state.doc.length, insert: {text:?} }} }})"
        );
        browser.script(&script).await;
    };
    write("rules = 1\n[branch.main]\nland = \"quue\"\n").await;
    browser.see("did you mean \"queue\"?").await;
    browser.see("They say nothing yet, or something is wrong with them.").await;
    let right = "rules = 1\n[branch.main]\nland = \"queue\"\napprovals = { of = 2 }\n";
    write(right).await;
    browser.see("2 approvals").await;
    browser.press("Keep").await;
    browser.fill("#draft-message", "Two pairs of eyes").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("Kept as").await;
    repository.git(&["fetch", "--quiet", "origin", "draft/rules"]);
    assert_eq!(repository.git(&["show", "FETCH_HEAD:ordotaxis/rules.toml"]), right.trim_end());
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_is_looked_at_and_asked_to_land() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    brings(&setting).await;
    let browser = signed_in(world).await;
    browser.client.goto(&format!("{}/projects/tidegauge/proposals", world.url)).await.expect("the page");
    browser.see("1 new failure").await;
    accessible(&browser).await;
    browser.click("table.sheet a[href='/projects/tidegauge/proposals/1']").await;
    for words in ["New failures", "test.unit t > b – 4100", "What it changes in the plan", "main: test.more is new", "was 4", "Runs"] {
        browser.see(words).await;
    }
    accessible(&browser).await;
    setting.hold();
    browser.act("Land 1").await;
    browser.see("1 stands at place 1 and").await;
    browser.client.goto(&format!("{}/projects/tidegauge/landing", world.url)).await.expect("the page");
    browser.see("Landed or left").await;
    browser.see("failed in tidegauge/").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_before_an_environment_is_approved_on_its_page_and_rolled_back_there() {
    let delivery = Delivery::new("rules = 1\n[environment.pier-north]\napprove = { of = 1, by = [\"owner\"] }\n").await;
    let (world, first) = (&delivery.world, delivery.push("1"));
    delivery.waits("pier-north", "1 approval by owner is missing").await;
    world.project("tidegauge").await;
    let browser = signed_in(world).await;
    browser.see("Needs you").await;
    accessible(&browser).await;
    let page = |path: &str| format!("{}/projects/stations/environments{path}", world.url);
    browser.client.goto(&page("")).await.expect("the page");
    browser.see("waits to go into pier-north: 1 approval by owner is missing").await;
    accessible(&browser).await;
    browser.act("Approve stations/1 ship.pier[north]").await;
    browser.see("You approved stations/1 ship.pier[north].").await;
    delivery.holds("pier-north", &first).await;
    let second = delivery.push("2");
    delivery.holds("trial", &second).await;
    browser.client.goto(&page("/trial")).await.expect("the page");
    browser.see("well, and there").await;
    accessible(&browser).await;
    // Back to the first by its row; what is there then, and that the other was rolled back.
    browser.act("Go back to 1").await;
    browser.see("rolled back to stations/1").await;
    delivery.holds("trial", &first).await;
    browser.client.goto(&page("/trial")).await.expect("the page");
    browser.see("it was rolled back").await;
    // The commits with one, and between two.
    browser.click("button[aria-label='Commits with 2']").await;
    browser.see("From 1 to 2").await;
    browser.see("came").await;
    browser.click("button[aria-label='Commits with 3']").await;
    browser.see("From 2 to 3").await;
    browser.see("went").await;
    accessible(&browser).await;
    // What all of it comes to, drawn.
    browser.client.goto(&page("")).await.expect("the page");
    browser.see("1 of 2, 50 %").await;
    let drawn = "return document.querySelector('[aria-label^=\"Deployments to trial:\"]:has(svg)')?.ariaLabel";
    let label = ordotaxis_testbed::until("the plot", || async { browser.script(drawn).await.as_str().map(str::to_owned) }).await;
    assert!(label.contains("1 well, 1 wrong"), "{label}");
    browser.click("[aria-label='Insight'] button:first-child").await;
    browser.see("1 of 2, 50 %").await;
    accessible(&browser).await;
    browser.client.goto(&format!("{}/needs", world.url)).await.expect("the page");
    browser.see("stations/2 ship.pier[north]").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_release_is_read_edited_and_followed_to_where_it_comes_from() {
    let delivery = super::releases::project().await;
    let world = &delivery.world;
    let commit = delivery.repository.push_pipeline(super::releases::PIPELINE);
    delivery.holds("trial", &commit).await;
    super::releases::tag(&delivery, "v1.0.0");
    super::releases::release(world, "1.0.0", "it is there", |_| true).await;
    world.project("tidegauge").await;
    let browser = signed_in(world).await;
    let page = |path: &str| format!("{}{path}", world.url);
    browser.client.goto(&page("/projects/stations/releases")).await.expect("the page");
    browser.see("Stations 1.0.0").await;
    accessible(&browser).await;
    browser.client.goto(&page("/projects/stations/releases/1.0.0")).await.expect("the page");
    browser.see("the first gauge").await;
    browser.see("tests.passed 2").await;
    accessible(&browser).await;
    // Notes are Markdown, and what a script would do in them is not done.
    let notes =
        "**tight** <script>document.title = 'owned'</script> <img src=x onerror=\"document.title='owned'\"> [go](javascript:alert(1))";
    assert_eq!(world.run_with(&["release", "edit", "stations/1.0.0", "--notes", "-"], notes).await.code, 0);
    browser.client.refresh().await.expect("the page");
    browser.see("tight").await;
    let marked = browser.client.execute("return [document.querySelectorAll('.notes strong').length, document.querySelectorAll('.notes img, .notes script').length, document.title, document.querySelector('.notes a').getAttribute('href')]", Vec::new()).await;
    assert_eq!(marked.expect("an answer"), serde_json::json!([1, 0, "stations: Releases 1.0.0 · Ordotaxis", ""]));
    browser.see("Earlier words").await;
    accessible(&browser).await;
    // Withdrawn with a reason that everybody reads, and taken back.
    browser.press("Withdraw").await;
    browser.see("Everybody reads that nobody should use it any more").await;
    browser.fill("dialog.ask .field", "it drifts").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("Stations 1.0.0 is withdrawn.").await;
    super::releases::release(world, "1.0.0", "it is withdrawn", |one| one["state"] == "withdrawn").await;
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    super::releases::release(world, "1.0.0", "it is published again", |one| one["state"] == "published").await;
    // From its digest to the environment that holds it.
    browser.click("td.code a").await;
    browser.see("it is in trial now").await;
    accessible(&browser).await;
    browser.client.goto(&page("/trace?thing=stations/nowhere")).await.expect("the page");
    browser.see("stations has no run, environment or release nowhere").await;
    browser.end().await;
}
