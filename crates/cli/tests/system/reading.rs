//! Reading why something failed, in the console: from the board to the cause in one view; the log at full width, its lines
//! chosen, copied and linked; and a mistake in the pipeline file, shown in the file and mended from there.

use super::console::{accessible, signed_in};
use super::failures::measured;
use super::world;
use ordotaxis_testbed::{Browser, RunnerOptions, until};
use serde_json::Value;

const FAILURE: &str = "<failure message='levels differ'>levels differ\nexpected: 412 mm\nactual:   415 mm\n</failure>";

/// What a script gives, once it gives something else than nothing.
async fn told(browser: &Browser, what: &str, script: &str) -> Value {
    until(what, || async {
        let value = browser.script(script).await;
        (!value.is_null() && value != Value::Bool(false)).then_some(value)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn why_it_failed_is_read_in_one_view() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let calm: String = (1..=40).map(|number| format!("reading {number}\n")).collect();
    measured(&world, &repository, "All is well", &calm, None).await;
    let broken = format!("{calm}\u{1b}[31merror\u{1b}[0m: levels differ\n{calm}");
    measured(&world, &repository, "Subtract the drift", &broken, Some(FAILURE)).await;

    let browser = signed_in(&world).await;
    browser.see("The main branch is broken").await;
    browser.press("test.unit").await;
    // One press from the board, all of it is there.
    for words in [
        "exited with 1",
        "cat log; cp unit.xml out.xml; [ ! -e broken ]",
        "New since",
        "“Subtract the drift”",
        "it passed in tidegauge/1",
        "1 test failed, new",
        "drift is subtracted once",
        "expected",
        "412 mm",
        "actual",
        "415 mm",
        "error: levels differ",
        "reading 33",
    ] {
        browser.see(words).await;
    }
    let differs = "return [...document.querySelectorAll('.difference mark')].map((mark) => mark.innerText).join(' ')";
    assert_eq!(browser.script(differs).await, "412 415");
    accessible(&browser).await;

    // Alone at full width, by one key; the next page opens so, too.
    browser.keys("w").await;
    browser.text(".split.only-right").await;
    browser.client.refresh().await.expect("the page");
    browser.text(".split.only-right").await;
    browser.keys("w").await;
    told(&browser, "both halves", "return !document.querySelector('.only-right')").await;
    // The bar between them is moved by the keyboard, and stays there.
    browser.script("document.querySelector('.splitter').focus()").await;
    browser.keys("\u{e012}\u{e012}\u{e012}").await;
    told(&browser, "the bar's place", "return document.querySelector('.splitter').ariaValueNow === '39' || document.querySelector('.splitter').getAttribute('aria-valuenow') === '39'").await;
    browser.client.refresh().await.expect("the page");
    told(&browser, "the bar's place", "return document.querySelector('.splitter')?.getAttribute('aria-valuenow') === '39'").await;

    // From the excerpt to the same line in the whole log.
    browser.press("open it there").await;
    browser.see("reading 12").await;
    assert_eq!(browser.script("return location.hash").await, "#L42");
    browser.text(".log .line.named").await;
    let marked = browser.text(".log .line.marked .x").await;
    assert_eq!(marked, "error: levels differ", "colours leave nothing else behind");
    assert_eq!(browser.script("return document.querySelector('.log .ansi-red').innerText").await, "error");
    accessible(&browser).await;
    browser.end().await;
}

/// Chooses text from one line of the log up to another, as a mouse would that is dragged there.
async fn choose(browser: &Browser, from: u32, to: u32) {
    let script = format!(
        "const text = (line) => document.querySelector(`[data-line=\"${{line}}\"] .x`)?.firstChild;
         if (!text({from}) || !text({to})) return null;
         getSelection().setBaseAndExtent(text({from}), 0, text({to}), text({to}).length);
         return true;"
    );
    told(browser, "the lines", &script).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn lines_of_a_log_are_found_wrapped_chosen_copied_and_linked() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let long = "a very long reading ".repeat(40);
    let log: String = (1..=6000).map(|number| format!("reading {number}{}\n", if number == 7 { &long } else { "" })).collect();
    let failure = Some("<failure message='levels differ'/>");
    measured(&world, &repository, "Readings", &format!("{log}error: one\nfine\nerror: two\n"), failure).await;
    let browser = signed_in(&world).await;
    browser.client.goto(&format!("{}/runs/tidegauge/1/test.unit?tab=log#L5", world.url)).await.expect("the page");
    browser.see("reading 5").await;

    // Errors by key, and what was found by number.
    browser.keys("e").await;
    browser.see("1 of 4 errors").await;
    browser.keys("e").await;
    browser.see("2 of 4 errors").await;
    browser.keys("E").await;
    browser.see("1 of 4 errors").await;
    browser.keys("s").await;
    told(&browser, "the field", "return document.activeElement.getAttribute('aria-label') === 'Find in the log'").await;
    browser.keys("READING 42\u{e007}").await;
    browser.see("no such lines").await;
    browser.fill(".finder input", "reading 42\u{e007}").await;
    browser.see("1 of 111").await;
    told(&browser, "the mark", "return document.querySelector('.log mark')?.innerText === 'reading 42'").await;

    // Wrapped lines are whole, and nothing is out of its place.
    browser.client.goto(&format!("{}/runs/tidegauge/1/test.unit?tab=log#L7", world.url)).await.expect("the page");
    browser.see("reading 9").await;
    browser.script("document.querySelector('.log').focus()").await;
    browser.keys("l").await;
    let whole = "const log = document.querySelector('.log.wraps'); const row = log?.querySelector('[data-line=\"7\"]');
        return row && row.getBoundingClientRect().height > 40 && log.scrollWidth <= log.clientWidth";
    told(&browser, "the whole line", whole).await;
    let places = "const rows = [...document.querySelectorAll('.log [data-line]')].map((row) => row.getBoundingClientRect());
        return rows.every((row, at) => at === 0 || Math.abs(row.top - rows[at - 1].bottom) < 1)";
    told(&browser, "one below the other", places).await;
    accessible(&browser).await;
    browser.keys("l").await;
    told(&browser, "not wrapped", "return !document.querySelector('.log.wraps')").await;

    // A few lines, copied as the browser copies.
    choose(&browser, 8, 12).await;
    browser.see("5 lines").await;
    let copied = "let text; const note = (event) => { text = event.clipboardData.getData('text/plain') };
        document.addEventListener('copy', note); document.execCommand('copy'); document.removeEventListener('copy', note); return text";
    assert_eq!(browser.script(copied).await, "reading 8\nreading 9\nreading 10\nreading 11\nreading 12");

    // Thousands: the line where it began stays on the page while one goes on to the end, and all of them are copied.
    browser.script("window.clip = ''; navigator.clipboard.writeText = async (text) => { window.clip = text }").await;
    browser.script("document.querySelector('.log').scrollTo({ top: 1e9 })").await;
    browser.see("reading 5999").await;
    // The browser has drawn once more: what was marked and is out of sight now ends somewhere else.
    let drawn = "const done = arguments[arguments.length - 1]; requestAnimationFrame(() => requestAnimationFrame(() => done(true)))";
    browser.client.execute_async(drawn, Vec::new()).await.expect("it is drawn");
    told(&browser, "the beginning", "return getSelection().anchorNode?.data === 'reading 8' && getSelection().focusNode?.isConnected")
        .await;
    let extend = "const text = document.querySelector('[data-line=\"6000\"] .x')?.firstChild;
        if (!text || !document.querySelector('[data-line=\"8\"]')) return null; getSelection().extend(text, text.length); return true";
    told(&browser, "the end", extend).await;
    browser.see("5,993 lines").await;
    browser.press("Copy").await;
    browser.see("copied 5,993 lines").await;
    let clip = browser.script("return window.clip").await;
    let lines: Vec<&str> = clip.as_str().expect("text").lines().collect();
    assert_eq!((lines.len(), lines[0], lines[5992]), (5993, "reading 8", "reading 6000"));
    browser.press("Copy with times").await;
    let timed = told(&browser, "times", "return /^ *[0-9.]+  reading 8\\n/.test(window.clip) && window.clip.split('\\n').length").await;
    assert_eq!(timed, 5993);
    browser.press("Link").await;
    told(&browser, "the link", "return window.clip.endsWith('#L9-L6001')").await;

    // The link opens them; a number takes two clicks, the second with Shift.
    browser.client.goto(&format!("{}/runs/tidegauge/1/test.unit?tab=log#L3-L4", world.url)).await.expect("the page");
    browser.client.refresh().await.expect("the page");
    browser.see("2 lines").await;
    assert_eq!(browser.script("return document.querySelectorAll('.line.named').length").await, 2);
    browser.script("document.querySelector('[data-line=\"7\"] .n').dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true, shiftKey: true }))").await;
    told(&browser, "the address", "return location.hash === '#L3-L8'").await;

    // Raw: what was printed and nothing that a page could be made of.
    let raw = browser.script("return document.querySelector('.finder a[target=_blank]').getAttribute('href')").await;
    let answer = world.http(reqwest::Method::GET, raw.as_str().expect("an address")).send().await.expect("an answer");
    assert_eq!(answer.headers()["content-type"], "text/plain; charset=utf-8");
    assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
    assert!(
        answer.text().await.expect("text").starts_with("ready\nreading 1\n") || raw.as_str().expect("an address").contains("attempt=1")
    );
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mistake_is_shown_in_the_file_and_mended_from_there() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let wrong = "language = 1\n\n# The gauge's own tests.\n[job.test.unit]\nstpes = [\"true\"]\n\n[job.test.replay]\nsteps = [\"true\"]\n";
    world.verdict("tidegauge", &repository.push_pipeline(wrong)).await;
    let browser = signed_in(&world).await;
    browser.press("tidegauge/1").await;
    browser.see("job test.unit has no key `stpes`").await;
    browser.see("did you mean `steps`?").await;
    assert_eq!(browser.text(".source-lines mark").await, "stpes");
    browser.see("# The gauge's own tests.").await;
    accessible(&browser).await;
    browser.press("Mend in Draft").await;
    browser.see("Draft of tidegauge").await;
    let at = "const view = (document.querySelector('.cm-content')?.cmTile?.view ?? document.querySelector('.cm-content')?.cmView?.view);
        if (!view?.hasFocus) return null; const line = view.state.doc.lineAt(view.state.selection.main.head); return `${line.number}:${line.text}`";
    assert_eq!(told(&browser, "the cursor", at).await, "5:stpes = [\"true\"]");
    // The cursor is before the mistake: it is typed over.
    browser.keys(&format!("{}steps", "\u{e017}".repeat(5))).await;
    browser.see("Nothing is wrong with this file.").await;
    browser.press("Keep").await;
    browser.fill("#draft-message", "Spell it right").await;
    accessible(&browser).await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("Kept as").await;
    repository.git(&["fetch", "--quiet", "origin", "draft/main"]);
    assert_eq!(repository.git(&["show", "FETCH_HEAD:ordotaxis.toml"]), wrong.replace("stpes", "steps").trim_end());
    browser.press("Close").await;
    browser.holds("the dialog to go", "!document.querySelector('dialog[open]')").await;
    browser.end().await;
}
