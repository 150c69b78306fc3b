//! Getting about in the console: one field for everything, keys for every list, the focus where it was; times as one reads
//! them; and what is said while the service is away.

use super::console::{accessible, signed_in};
use super::{world, world_with};
use ordotaxis_testbed::{RunnerOptions, until};

const PIPELINE: &str = "language = 1\n[job.test.unit]\nsteps = [\"cp unit.xml out.xml\"]\nreports = { junit = [\"out.xml\"] }\n";
const REPORT: &str = "<testsuite><testcase classname='gauge' name='drift is subtracted once'/></testsuite>";

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_reached_from_the_keyboard() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    world.project("almanac").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("unit.xml", REPORT);
    let commit = repository.push_pipeline(PIPELINE);
    world.verdict("tidegauge", &commit).await;
    let browser = signed_in(&world).await;

    // From the board to the project by keys alone, and back to where one was.
    browser.see("passed").await;
    browser.keys("j").await;
    browser.holds("the first row", "document.activeElement.getAttribute('href') === '/projects/almanac'").await;
    browser.keys("j").await;
    browser.holds("the second row", "document.activeElement.getAttribute('href') === '/projects/tidegauge'").await;
    browser.keys("kjo").await;
    browser.see("what happened").await;
    browser.holds("the page has the focus", "document.activeElement.tagName === 'MAIN'").await;
    browser.client.back().await.expect("back");
    browser.holds("the row that was left", "document.activeElement.getAttribute('href') === '/projects/tidegauge'").await;

    // The one field: a path, a project, a job, a test, a commit, a person, a page, something to do.
    for (words, page) in [
        ("tidegauge / 1", "/runs/tidegauge/1"),
        ("alman", "/projects/almanac"),
        ("unit", "/runs/tidegauge/1/test.unit"),
        ("drift once", "/projects/tidegauge/test"),
        (&commit[..9], "/trace"),
        ("owner", "/people"),
        ("runners", "/runners"),
    ] {
        browser.keys("/").await;
        browser.text("dialog.palette[open]").await;
        browser.keys(words).await;
        until("what was sought", || async {
            let first = browser.script("return document.querySelector('.palette [aria-selected=true]')?.innerText ?? ''").await;
            let found = first.as_str().unwrap_or_default().to_lowercase();
            let wanted = words.replace(' ', "").to_lowercase();
            (found.replace(' ', "").contains(&wanted[..wanted.len().min(4)])).then_some(())
        })
        .await;
        browser.keys("\u{e007}").await;
        browser.holds(words, &format!("location.pathname === '{page}' && !document.querySelector('dialog[open]')")).await;
    }
    // A person who was found stands alone in the list; nobody is told as well.
    browser.client.goto(&format!("{}/people?find=owner", world.url)).await.expect("the page");
    browser.holds("one person", "document.querySelectorAll('table.sheet tbody tr').length === 1").await;
    browser.fill("[aria-label='Filter persons']", "never").await;
    browser.see("Nobody has “never” in their line.").await;
    accessible(&browser).await;
    // By Ctrl-K also from within a field; Esc leaves it, and the focus is where it was.
    browser.client.goto(&format!("{}/projects/tidegauge", world.url)).await.expect("the page");
    browser.click("[aria-label='Filter runs']").await;
    browser.script("document.activeElement.dispatchEvent(new KeyboardEvent('keydown', { key: 'k', ctrlKey: true, bubbles: true }))").await;
    browser.text("dialog.palette[open]").await;
    accessible(&browser).await;
    browser.keys("tide").await;
    browser.see("tidegauge: Runs").await;
    accessible(&browser).await;
    browser.keys("\u{e00c}").await;
    browser.holds("the field", "document.activeElement.getAttribute('aria-label') === 'Filter runs'").await;
    browser.script("document.activeElement.blur()").await;
    browser.keys("?").await;
    browser.see("The next row of a list").await;
    accessible(&browser).await;
    browser.press("Close").await;

    // What can be done is in the same field: the look, the times.
    browser.keys("/").await;
    browser.text("dialog.palette[open]").await;
    browser.keys("look dark\u{e007}").await;
    browser.holds("the dark look", "document.documentElement.dataset.theme === 'dark'").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    browser.see("begun").await;
    browser.keys("/").await;
    browser.text("dialog.palette[open]").await;
    browser.keys("utc\u{e007}").await;
    browser.holds("times in UTC", "document.querySelector('.facts time')?.title.endsWith(' UTC') === true").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_says_that_the_service_is_away_and_goes_on_by_itself() {
    let mut world = world_with("").await;
    let repository = world.project("tidegauge").await;
    let browser = signed_in(&world).await;
    browser.see("no verdict yet").await;
    browser.script("window.same = 'page'").await;
    world.stop_service();
    browser.see("The service cannot be reached since").await;
    browser.see("no verdict yet").await;
    accessible(&browser).await;
    world.start_service();
    browser.holds("the service is back", "!document.querySelector('.away')").await;
    // What happened meanwhile and since is there, on the page that was never loaded anew.
    world.verdict("tidegauge", &repository.push_pipeline("language = 1\n[job.test.unit]\nstpes = 1\n")).await;
    browser.see("The main branch is broken").await;
    assert_eq!(browser.script("return window.same").await, "page");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_chosen_while_words_are_on_their_way_to_the_address_stays_chosen() {
    let world = world().await;
    world.project("tidegauge").await;
    let browser = signed_in(&world).await;
    // Typed and chosen within one moment, as a quick hand does: the address follows the words when typing pauses.
    let both = "const field = document.querySelector('.board-bar input');
        Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(field, 'tide');
        field.dispatchEvent(new Event('input', { bubbles: true }));
        const press = (word) => [...document.querySelectorAll('.board-bar button')].find((one) => one.innerText === word).click();
        press('running');
        press('wall');";
    browser.script(both).await;
    browser.holds("the words in the address", "new URLSearchParams(location.search).get('find') === 'tide'").await;
    browser.holds("what was chosen", "location.search.includes('only=running') && location.search.includes('form=wall')").await;
    browser.end().await;
}
