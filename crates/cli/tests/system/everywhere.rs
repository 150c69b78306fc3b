//! Every page of the console in both looks: judged by axe, at twice the size, with the reader's own few colours; and the
//! dialogs that open over all of them.

use super::console::accessible;
use super::delivery::Delivery;
use ordotaxis_testbed::Browser;
use serde_json::json;

const FILE: &str = "language = 1\norder = \"build > test\"\n[starts]\npush = [\"main\", \"topic/*\"]\n[starts.inputs.rounds]\ndefault = \"2\"\n[job.build.gauge]\nsteps = [\"echo made > made\"]\n\
    gives = { made = [\"made\"] }\n[job.test.unit]\ntakes = [\"build.gauge/made\"]\nreports = { junit = [\"unit.xml\"] }\n\
    steps = [\"\"\"echo \"<testsuite><testcase classname='gauge' name='datum'><failure message='expected: 0 actual: 10'/></testcase></testsuite>\" > unit.xml\"\"\", \"echo error: drift; exit 1\"]\n";

/// Each with words that are there once it is; of what a project may have none of, anything.
const PAGES: &[(&str, &str)] = &[
    ("/", "main branches"),
    ("/needs", "Needs you"),
    ("/runners", ""),
    ("/pools", ""),
    ("/insight", ""),
    ("/trace", ""),
    ("/people", ""),
    ("/people?view=groups", ""),
    ("/people?view=roles", "Each role holds"),
    ("/people?view=yours", ""),
    ("/people?view=everybody", "Sessions"),
    ("/notices", "Your notices"),
    ("/journal", ""),
    ("/add", "Is it reached?"),
    ("/projects/tidegauge", "what happened"),
    ("/projects/tidegauge/start", "Branch, tag or commit"),
    ("/projects/tidegauge/draft", "Draft of tidegauge"),
    ("/projects/tidegauge/draft?view=plan", "Draft of tidegauge"),
    ("/projects/tidegauge/proposals", ""),
    ("/projects/tidegauge/landing", "Nothing waits to land"),
    ("/projects/stations/environments", "pier-north"),
    ("/projects/stations/environments/pier-north", "All that was put there"),
    ("/projects/tidegauge/draft/main", "Draft of tidegauge"),
    ("/projects/tidegauge/test?suite=gauge&name=datum", "what it said"),
    ("/projects/tidegauge/deliveries/1", "what came of it"),
    ("/projects/tidegauge/releases", ""),
    ("/projects/tidegauge/insight", ""),
    ("/projects/tidegauge/numbers", ""),
    ("/projects/tidegauge/flaky", ""),
    ("/projects/tidegauge/caches", ""),
    ("/projects/tidegauge/deliveries", ""),
    ("/projects/tidegauge/journal", ""),
    ("/projects/tidegauge/settings", "Main branch"),
    ("/projects/tidegauge/settings?view=hooks", "Webhook address"),
    ("/projects/tidegauge/settings?view=people", "Roles on this project"),
    ("/projects/tidegauge/settings?view=secrets", ""),
    ("/projects/tidegauge/settings?view=connections", ""),
    ("/projects/tidegauge/settings?view=notices", "Nothing was told yet"),
    ("/projects/tidegauge/settings?view=end", ""),
    ("/projects/tidegauge/settings?view=badge", "It looks like this"),
    ("/projects/tidegauge/settings?view=files", "Pipelines kept by the service"),
    ("/runs/tidegauge/1", "drift"),
    ("/runs/tidegauge/1?view=graph", "test.unit"),
    ("/runs/tidegauge/1?view=tests", ""),
    ("/runs/tidegauge/1?view=artifacts", "made"),
    ("/runs/tidegauge/1/test.unit?tab=log", "error: drift"),
    ("/runs/tidegauge/1/test.unit?tab=steps", ""),
    ("/runs/tidegauge/1/test.unit?tab=taken", ""),
    ("/runs/tidegauge/1/build.gauge?tab=given", ""),
    ("/runs/tidegauge/1/test.unit?tab=why", ""),
    ("/runs/tidegauge/2", "reprots"),
    ("/projects/tidegauge/proposals/1", "A change"),
    ("/trace?thing=stations/1", "stations/1"),
    ("/sign-in?to=/runs/tidegauge/1", "Then it goes on to"),
    ("/never", "There is no such page"),
];

async fn setting() -> (Delivery, Browser) {
    let delivery = Delivery::new("rules = 1\n[environment.pier-north]\napprove = { of = 1, by = [\"owner\"] }\n").await;
    let world = &delivery.world;
    delivery.push("1");
    delivery.waits("pier-north", "1 approval by owner is missing").await;
    let tidegauge = world.project("tidegauge").await;
    let broken = tidegauge.push_pipeline(FILE);
    world.verdict("tidegauge", &broken).await;
    tidegauge.git(&["checkout", "--quiet", "-b", "topic/high"]);
    tidegauge.write("ordotaxis.toml", &FILE.replace("reports = ", "reprots = "));
    let mistaken = tidegauge.commit("Higher water");
    tidegauge.git(&["push", "--quiet", "origin", "topic/high"]);
    world.verdict("tidegauge", &mistaken).await;
    world.propose("tidegauge", "topic/high", false).await;
    world.proposal("tidegauge/1", "it is known", |_| true).await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    (delivery, browser)
}

async fn open(browser: &Browser, address: &str, words: &str) {
    browser.client.goto(address).await.expect("the page");
    browser.holds(&format!("{address} to be there"), "document.querySelector('main')?.innerText.trim().length > 3").await;
    browser.see(words).await;
}

/// Whatever on the page asks before it does something, asked one by one; of those that are alike the first.
async fn questions(browser: &Browser) {
    let asks =
        "[...new Map([...document.querySelectorAll('main button[aria-haspopup=dialog]')].map((one) => [one.innerText, one])).values()]";
    let count = browser.script(&format!("return {asks}.length")).await.as_u64().unwrap_or_default();
    for number in 0..count {
        browser.script(&format!("{asks}[{number}]?.click()")).await;
        browser.text("dialog.ask[open] p").await;
        accessible(browser).await;
        browser.press("Not now").await;
        browser.holds("it to close", "!document.querySelector('dialog[open]')").await;
    }
}

async fn in_look(look: &str) {
    let (delivery, browser) = setting().await;
    let url = &delivery.world.url;
    browser.script(&format!("localStorage.setItem('theme', '{look}')")).await;
    for (path, words) in PAGES {
        open(&browser, &format!("{url}{path}"), words).await;
        accessible(&browser).await;
        questions(&browser).await;
    }
    // What opens over a page.
    browser.client.goto(&format!("{url}/runs/tidegauge/1")).await.expect("the page");
    browser.see("All again").await;
    for open in ["/", "?"] {
        browser.keys(open).await;
        browser.text("dialog[open]").await;
        accessible(&browser).await;
        browser.keys("\u{e00c}").await;
        browser.holds("it to close", "!document.querySelector('dialog[open]')").await;
    }
    browser.press("All again").await;
    browser.text("dialog.ask[open] p").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_accessible_in_light() {
    in_look("light").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_accessible_in_dark() {
    in_look("dark").await;
}

/// Twice the size in a window of 1280 by 800 leaves 640 by 400; and nothing but tables may go to the side.
#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_read_at_twice_the_size_and_in_few_colours() {
    let (delivery, browser) = setting().await;
    let url = &delivery.world.url;
    browser
        .cdp("Emulation.setDeviceMetricsOverride", json!({ "width": 640, "height": 400, "deviceScaleFactor": 2, "mobile": false }))
        .await;
    browser.cdp("Emulation.setEmulatedMedia", json!({ "features": [{ "name": "forced-colors", "value": "active" }] })).await;
    for (path, words) in PAGES {
        open(&browser, &format!("{url}{path}"), words).await;
        let out = "document.documentElement.scrollWidth <= 640 ? null : [...document.querySelectorAll('body *')].filter((one) => one.getBoundingClientRect().right > 641).map((one) => one.outerHTML.slice(0, 120)).slice(0, 3)";
        let told = browser.script(&format!("return {out}")).await;
        assert!(told.is_null(), "{path} goes to the side: {told}");
        // The heading, the main thing, is reached without going to the side.
        let seen = "[...document.querySelectorAll('main h1')].every((one) => one.getBoundingClientRect().right <= 640)";
        browser.holds(&format!("the heading of {path}"), seen).await;
        let told = "matchMedia('(forced-colors: active)').matches && getComputedStyle(document.documentElement).getPropertyValue('--ink') === 'CanvasText'";
        browser.holds("the reader's colours", told).await;
    }
    browser.end().await;
}
