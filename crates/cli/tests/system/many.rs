//! The console with a lot to show: a board that is filtered, grouped and pinned; a run of a thousand jobs as lanes and as
//! a graph, narrowed, looked at closely, compared and taken along.

use super::console::{accessible, signed_in};
use super::world;
use ordotaxis_testbed::{RunnerOptions, until};
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn the_board_is_narrowed_grouped_and_pinned() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    for name in ["almanac", "patterns", "stations"] {
        world.project(name).await;
    }
    world.verdict("tidegauge", &repository.push_pipeline("language = 1\n[job.test.unit]\nstpes = 1\n")).await;
    let browser = signed_in(&world).await;
    browser.see("1 of 4 main branches is broken").await;
    let lines = "[...document.querySelectorAll('table.board .name')].map((name) => name.innerText).join(' ')";
    browser.holds("the broken one first", &format!("{lines} === 'tidegauge almanac patterns stations'")).await;
    // As one types; by what is said of it, too; and by the address.
    browser.keys("s").await;
    browser.keys("alm").await;
    browser.holds("one line", &format!("{lines} === 'almanac'")).await;
    browser.see("1 of 4 projects").await;
    browser.holds("the address", "location.search === '?find=alm'").await;
    browser.client.goto(&format!("{}/?only=broken", world.url)).await.expect("the page");
    browser.holds("the broken one", &format!("{lines} === 'tidegauge'")).await;
    browser.press("running").await;
    browser.see("Nothing runs now.").await;
    browser.press("all").await;
    // Pinned ones stand above all, also after the page was loaded anew.
    browser.script("document.querySelector('[aria-label=\"Pin stations\"]').click()").await;
    browser.holds("the pinned one first", &format!("{lines} === 'stations tidegauge almanac patterns'")).await;
    browser.press("by verdict").await;
    browser.see("Broken").await;
    accessible(&browser).await;
    browser.client.refresh().await.expect("the page");
    browser.holds("groups", "document.querySelectorAll('tr.group').length === 2").await;
    browser.script("document.querySelector('tr.group button').click()").await;
    browser.holds("a folded group", &format!("{lines} === 'stations almanac patterns'")).await;
    browser.press("no groups").await;
    browser.press("dense").await;
    browser.text("table.board.dense").await;
    accessible(&browser).await;
    browser.press("wall").await;
    browser.text(".wall li.broken").await;
    browser.holds("no head line", "getComputedStyle(document.querySelector('.head')).display === 'none'").await;
    accessible(&browser).await;
    browser.press("back to lines").await;
    // A bar tells its run, and opens it.
    let over = "const bar = document.querySelector('.strip a'); const { left, top } = bar.getBoundingClientRect();
        bar.querySelector('.catch').dispatchEvent(new MouseEvent('mousemove', { bubbles: true, clientX: left, clientY: top }));
        return document.querySelector('.tip:not([hidden])')?.innerText ?? ''";
    until("what the bar tells", || async {
        let told = browser.script(over).await;
        told.as_str().is_some_and(|told| told.starts_with("tidegauge/1 failed")).then_some(())
    })
    .await;
    browser
        .script("document.querySelector('.strip a .catch').dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true }))")
        .await;
    browser.holds("the run", "location.pathname === '/runs/tidegauge/1'").await;
    browser.end().await;
}

/// Only the lines that were asked for, and of a run only the jobs.
#[tokio::test(flavor = "multi_thread")]
async fn what_changed_is_asked_for_and_nothing_else() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    world.project("almanac").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let text = "language = 1\n[job.a.one]\nsteps = [\"true\"]\n[job.a.two]\neach = { n = [\"x\", \"z\"] }\nsteps = [\"true\"]\n";
    world.verdict("tidegauge", &repository.push_pipeline(text)).await;
    let get = async |path: &str| {
        let answer = world.http(reqwest::Method::GET, path).send().await.expect("an answer");
        answer.json::<Value>().await.expect("JSON")
    };
    let names = |board: &Value| -> Vec<String> {
        let all = board["projects"].as_array().expect("lines").iter();
        all.map(|line| line["project"].as_str().unwrap_or_default().to_owned()).collect()
    };
    assert_eq!(names(&get("/api/v1/board").await), ["almanac", "tidegauge"]);
    assert_eq!(names(&get("/api/v1/board?projects=tidegauge,never").await), ["tidegauge"]);
    assert_eq!(names(&get("/api/v1/board?projects=").await), Vec::<String>::new());
    let line = get("/api/v1/board?projects=tidegauge").await["projects"][0].clone();
    assert_eq!(line["mine"], json!(false), "the owner has no role on just this project, and began nothing of it");
    assert!(line["home"].as_str().is_some_and(|home| !home.is_empty()), "{line}");
    world.run(&["start", "tidegauge", "--watch"]).await;
    assert_eq!(get("/api/v1/board?projects=tidegauge").await["projects"][0]["mine"], json!(true));
    let jobs = async |query: &str| {
        let run = get(&format!("/api/v1/runs/tidegauge/1{query}")).await;
        let all = run["jobs"].as_array().expect("jobs").iter();
        all.map(|job| job["id"].as_str().unwrap_or_default().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(jobs("").await.len(), 3);
    assert_eq!(jobs("?jobs=a.two%5Bx%5D%0Aa.never").await, ["a.two[x]"]);
    assert_eq!(jobs("?jobs=").await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_of_a_thousand_jobs_is_read() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let cells: Vec<String> = (0..500).map(|number| number.to_string()).collect();
    let text = |broken: &str| {
        format!(
            "language = 1\norder = \"check > test > ship\"\n[defaults]\ncheckout = false\n[job.check.part]\neach = {{ n = [{0}] }}\nsteps = [\"true\"]\n\
             [job.test.shard]\neach = {{ n = [{0}] }}\nsteps = [\"true\"]\n[job.test.odd]\nsteps = [\"{broken}\"]\n[job.ship.it]\nsteps = [\"true\"]\n",
            cells.join(", ")
        )
    };
    world.verdict("tidegauge", &repository.push_pipeline(&text("true"))).await;
    world.verdict("tidegauge", &repository.push_pipeline(&text("sleep 0.6; exit 3"))).await;
    let browser = signed_in(&world).await;
    browser.client.goto(&format!("{}/runs/tidegauge/2", world.url)).await.expect("the page");
    browser.see("first test.odd").await;
    // What is well is folded; what failed is a lane, and is chosen.
    let lanes = "[...document.querySelectorAll('button.lane[data-row]')].map((lane) => lane.dataset.row).join(' ')";
    browser.holds("the failed one alone", &format!("{lanes} === 'test.odd'")).await;
    browser.see("and 500 more jobs that need no look").await;
    accessible(&browser).await;
    // By name and by state; the address says it.
    browser.keys("g").await;
    browser.keys("part 499").await;
    browser.holds("one lane", &format!("{lanes} === 'check.part[499]'")).await;
    browser.see("1 of 1,002 jobs").await;
    browser.client.goto(&format!("{}/runs/tidegauge/2?states=failed,skipped", world.url)).await.expect("the page");
    browser.holds("two lanes", &format!("{lanes} === 'test.odd ship.it'")).await;
    browser.press("slowest first").await;
    browser.holds("the slowest first", &format!("{lanes}.startsWith('test.odd')")).await;

    // Closer at a part of the time, and back; by key and by dragging.
    browser.client.goto(&format!("{}/runs/tidegauge/2", world.url)).await.expect("the page");
    browser.see("and 500 more").await;
    browser.keys("++").await;
    browser.see("whole time").await;
    browser.keys("0").await;
    browser.holds("all of it", "!document.body.innerText.includes('whole time')").await;
    let drag = "const axis = document.querySelector('.axis'); axis.setPointerCapture = () => {}; const { left, width, top } = axis.getBoundingClientRect();
        const at = (share) => ({ bubbles: true, clientX: left + share * width, clientY: top + 5, pointerId: 1 });
        axis.dispatchEvent(new PointerEvent('pointerdown', at(0.5))); axis.dispatchEvent(new PointerEvent('pointermove', at(0.7)));
        axis.dispatchEvent(new PointerEvent('pointerup', at(0.7)))";
    browser.script(drag).await;
    browser.press("whole time").await;

    // Beside the run before: what got slower.
    browser.client.goto(&format!("{}/runs/tidegauge/2?with=1&jobs=odd", world.url)).await.expect("the page");
    browser.see("got slower").await;
    browser.holds("the bar of then", "document.querySelectorAll('.ghost').length === 1").await;
    browser.script("[...document.querySelectorAll('.lanes-bar button')].find((one) => one.innerText.endsWith('got slower')).click()").await;
    browser.see("Slower than in tidegauge/1").await;
    browser.holds("the slow one", "document.querySelector('dialog.slower td').innerText === 'test.odd'").await;
    accessible(&browser).await;
    browser.keys("\u{e00c}").await;

    // The lanes as a file, with every row that is shown.
    let caught = "window.kept = undefined; const make = URL.createObjectURL; URL.createObjectURL = (blob) => { blob.text().then((text) => { window.kept = text }); return make(blob) };
        HTMLAnchorElement.prototype.click = () => {}";
    browser.script(caught).await;
    browser.press("SVG").await;
    browser
        .holds("the drawing", "window.kept?.startsWith('<svg') && window.kept.includes('test.odd') && !/class=|var\\(/.test(window.kept)")
        .await;

    // The graph: stages folded into boxes, and the way from one to another in words.
    browser.client.goto(&format!("{}/runs/tidegauge/2/ship.it?view=graph&to=check.part", world.url)).await.expect("the page");
    browser.see("waits for check.part").await;
    browser.press("fold stages").await;
    browser.holds("three boxes", "document.querySelectorAll('.graph [data-node]').length === 3").await;
    browser.see("waits for stage check").await;
    accessible(&browser).await;
    browser.press("open stages").await;
    browser.fill("[aria-label='Find a job']", "shard 7").await;
    browser.see("1 box").await;
    browser.keys("\u{e007}").await;
    browser.holds("its box", "document.activeElement.dataset.node === 'test.shard'").await;
    browser.keys("\u{e013}").await;
    browser.holds("the box before", "document.activeElement.dataset.node === 'check.part'").await;
    browser.script(caught).await;
    browser.press("SVG").await;
    browser.holds("the drawing", "window.kept?.includes('test.shard') && !/class=/.test(window.kept)").await;
    browser.end().await;
}

/// Found by use: of a run of three seconds, half as wide as the page, the first two times stood in each other.
#[tokio::test(flavor = "multi_thread")]
async fn times_above_the_lanes_have_room() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    world.verdict("tidegauge", &repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"sleep 3\"]\n")).await;
    let browser = signed_in(&world).await;
    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    browser.see("Passed: 1 job").await;
    let apart = "(() => { const places = [...document.querySelectorAll('.axis .tick')].map((tick) => tick.getBoundingClientRect());
        return places.length > 1 && places.every((place, at) => at === 0 || places[at - 1].right + 4 <= place.left); })()";
    for width in [1280, 900, 640, 1600] {
        browser.client.set_window_size(width, 800).await.expect("a window");
        browser.holds(&format!("{width}: no two times touch"), apart).await;
    }
    browser.end().await;
}
