//! The console in headless Chromium: sign in, watch a run turn without reload, read a log, in both themes.

use super::setting::with;
use super::world;
use ordotaxis_testbed::{Browser, RunnerOptions, World, until};
use serde_json::Value;

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_seen_live_from_sign_in_to_verdict() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let step = format!("echo waters rise; while ! [ -e {} ]; do sleep 0.05; done; echo error: too high; exit 3", go.display());
    let pipeline = format!(
        "language = 1\norder = \"a > b\"\n[job.a.wait]\nsteps = [{{ name = \"measure\", run = \"{step}\" }}]\n[job.b.after]\nsteps = [\"true\"]\n"
    );
    let commit = repository.push_pipeline(&pipeline);
    world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.wait")["state"] == "running").await;

    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&world.url).await.expect("the page");
    browser.see("Sign in to Ordotaxis").await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("The main branch is well").await;
    browser.see("tidegauge").await;
    accessible(&browser).await;

    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    browser.see("Running: 0 of 2 jobs ended").await;
    browser.see("waters rise").await;
    browser.script("window.same = 'page'").await;
    std::fs::write(&go, "").expect("a file");
    browser.see("Failed: 1 of 2 jobs; first a.wait: step `measure` exited with 3").await;
    browser.see("error: too high").await;
    browser.see("skipped because a.wait failed").await;
    assert_eq!(browser.script("return window.same").await, Value::String("page".into()), "it was not loaded anew");
    accessible(&browser).await;

    browser.click("[role=tab]:nth-of-type(2)").await;
    browser.text(".graph .node [role=button]").await;
    assert_eq!(browser.script("return location.search").await, Value::String("?view=graph".into()));
    browser.script("localStorage.setItem('theme', 'dark')").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1/b.after", world.url)).await.expect("the page");
    browser.see("b.after").await;
    accessible(&browser).await;
    browser.end().await;
}

/// A browser opens few connections to one place: many tabs, and many pages one after another, must not use them up.
#[tokio::test(flavor = "multi_thread")]
async fn many_tabs_and_pages_all_show_what_happens() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let wait = format!("while ! [ -e {} ]; do sleep 0.05; done", go.display());
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.wait]\nsteps = [\"{wait}\"]\n"));
    world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.wait")["state"] == "running").await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    let page = format!("{}/projects/tidegauge", world.url);
    for _ in 0..8 {
        browser.client.goto(&page).await.expect("the page");
        browser.see("Running: 0 of 1 job").await;
    }
    let first = browser.client.window().await.expect("a window");
    for _ in 0..8 {
        let tab = browser.client.new_window(true).await.expect("a tab").handle;
        browser.client.switch_to_window(tab).await.expect("a tab");
        browser.client.goto(&page).await.expect("the page");
        browser.see("Running: 0 of 1 job").await;
    }
    std::fs::write(&go, "").expect("a file");
    browser.see("Passed: 1 job").await;
    // Where the stream was is closed: another tab takes it over and misses nothing.
    browser.client.switch_to_window(first).await.expect("the first tab");
    browser.see("Passed: 1 job").await;
    browser.client.close_window().await.expect("it closes");
    let rest = browser.client.windows().await.expect("tabs");
    browser.client.switch_to_window(rest[0].clone()).await.expect("another tab");
    let again = world.run(&["again", "tidegauge/1", "--job", "a.wait", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let attempts = "return document.body.innerText.includes('Passed: 1 job')";
    ordotaxis_testbed::until("the page to follow", || async { (browser.script(attempts).await == true).then_some(()) }).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_from_outside_is_allowed_by_whoever_looks_at_it() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { outside: "yes", ..RunnerOptions::default() }).await;
    let text = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.a.b]\nsteps = [\"cat note || true\"]\n";
    world.verdict("tidegauge", &repository.push_pipeline(text)).await;
    repository.git(&["checkout", "--quiet", "-B", "topic/outer", "main"]);
    repository.write("note", "from outside\n");
    repository.commit("A note");
    repository.git(&["push", "--quiet", "origin", "HEAD:refs/heads/topic/outer"]);
    world.propose("tidegauge", "topic/outer", true).await;

    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("The main branch is well").await;
    ordotaxis_testbed::until("the proposal's run", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        runs.as_array()?.iter().any(|run| run["held"] == true).then_some(())
    })
    .await;
    browser.see("waits for someone to allow it").await;
    browser.client.goto(&format!("{}/runners", world.url)).await.expect("the page");
    browser.see("takes proposals from outside, too; fence: none").await;
    accessible(&browser).await;
    browser.client.goto(&format!("{}/runs/tidegauge/2", world.url)).await.expect("the page");
    browser.see("Allow").await;
    accessible(&browser).await;
    browser.act("Allow tidegauge/2").await;
    browser.see("allowed by owner").await;
    browser.see("Passed: 1 job").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_with_mistakes_shows_them() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline("language = 1\n[job.test.unit]\nstpes = [\"make\"]\n");
    world.verdict("tidegauge", &commit).await;
    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&world.url).await.expect("the page");
    let token = browser.client.wait().for_element(fantoccini::Locator::Css("#token")).await.expect("the field");
    token.send_keys("oxu_wrong\n").await.expect("typing");
    browser.see("this token is not known").await;
    let all = fantoccini::key::Key::Control + "a";
    token.send_keys(&all).await.expect("all is chosen");
    token.send_keys(&format!("{}{}\n", char::from(fantoccini::key::Key::Null), world.token)).await.expect("typing");
    browser.see("The main branch is broken").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    browser.see("ordotaxis.toml:3:1").await;
    browser.see("did you mean `steps`?").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_tells_mistakes_as_one_types_and_is_kept_as_a_branch() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository
        .push_pipeline("language = 1\n[starts]\npush = [\"main\"]\ntag = [\"v*\"]\n[job.build.gauge]\nsteps = [\"true\"]\n[job.ship.it]\nif = 'ref.tag != \"\"'\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("The main branch is well").await;
    browser.client.goto(&format!("{}/projects/tidegauge/draft", world.url)).await.expect("the page");
    browser.see("Draft of tidegauge").await;
    browser.see("Nothing is wrong with this file.").await;
    browser.press("Plan").await;
    browser.holds("the job that is not planned", "document.querySelectorAll('.graph .s-skipped').length === 1").await;
    accessible(&browser).await;

    let editor = browser.client.wait().for_element(fantoccini::Locator::Css(".cm-content")).await.expect("the editor");
    editor.click().await.expect("a click");
    let end = fantoccini::key::Key::Control + "\u{e010}";
    editor.send_keys(&end).await.expect("the end");
    editor.send_keys(&format!("{}\n[job.test.unit]\nstpes = 1\n", char::from(fantoccini::key::Key::Null))).await.expect("typing");
    browser.see("job test.unit has no key `stpes`").await;
    browser.see("did you mean `steps`?").await;
    browser.text(".cm-lintRange-error").await;
    accessible(&browser).await;

    // As if typed: the completion would put keys of its own between.
    let right = "language = 1\n[job.build.gauge]\nsteps = [\"echo høyvann\"]\n";
    let script = format!(
        "const view = document.querySelector('.cm-content').cmTile?.view ?? document.querySelector('.cm-content').cmView.view; view.dispatch({{ changes: {{ from: 0, to: view.state.doc.length, insert: {right:?} }} }})"
    );
    browser.script(&script).await;
    browser.see("Nothing is wrong with this file.").await;
    browser.holds("one job", "document.querySelectorAll('.graph [data-node]').length === 1").await;
    browser.press("Keep").await;
    browser.see("What the change is for").await;
    let message = browser.client.wait().for_element(fantoccini::Locator::Css("#draft-message")).await.expect("the field");
    message.send_keys("Shorter").await.expect("typing");
    browser.see("1 line come").await;
    accessible(&browser).await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("Kept as").await;
    browser.see("It is not offered:").await;
    repository.git(&["fetch", "--quiet", "origin", "draft/main"]);
    assert_eq!(repository.git(&["show", "FETCH_HEAD:ordotaxis.toml"]), right.trim_end());
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn runners_cells_and_a_long_log_are_looked_through() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(
        "language = 1\norder = \"a > log > ship\"\n[defaults]\ncheckout = false\n[job.a.many]\neach = { n = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12] }\nsteps = [\"true\"]\n\
         [job.log.long]\nmay_fail = true\nsteps = [{ name = \"count\", run = \"seq 1000000 | sed 's/^/reading /'\" }, { name = \"break\", run = \"echo error: the float is stuck; exit 3\" }]\n\
         [job.ship.it]\nby_hand = true\nsteps = [\"echo shipped\"]\n[job.ship.never]\nwhere = [\"moon\"]\nsteps = [\"true\"]\n",
    );
    world.run_of("tidegauge", &commit, "the log", |run| World::job(run, "log.long")["state"] == "failed").await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;

    browser.client.goto(&format!("{}/runners", world.url)).await.expect("the page");
    browser.see("1 runner: 0 of 2 slots busy, 1 job queues").await;
    browser.see("no connected runner has the label moon").await;
    accessible(&browser).await;
    browser.click(".machine button").await;
    browser.see("Take jobs again").await;
    browser.see("draining").await;
    browser.click(".machine button").await;
    browser.see("Drain").await;

    browser.client.goto(&format!("{}/runs/tidegauge/1/log.long?tab=log", world.url)).await.expect("the page");
    browser.see("12/12").await;
    browser.see("1,000,002 lines").await;
    browser.see("error: the float is stuck").await;
    accessible(&browser).await;
    let shown = |what: &'static str| format!("return document.querySelectorAll('{what}').length");
    assert!(browser.script(&shown(".log .line")).await.as_u64() < Some(200), "only what is in sight is on the page");
    assert_eq!(browser.script(&shown("button.lane.cell")).await, Value::from(0), "twelve cells begin folded");
    browser.click("button.lane.group").await;
    browser.see("a.many").await;
    browser.text("button.lane.cell").await;

    // Something in the middle, found by the service; then a line by its address.
    let field = browser.client.wait().for_element(fantoccini::Locator::Css(".finder input")).await.expect("the field");
    field.send_keys("reading 54321\n").await.expect("typing");
    browser.see("1 of 11").await;
    browser.see("reading 54325").await;
    let all = fantoccini::key::Key::Control + "a";
    field.send_keys(&all).await.expect("all is chosen");
    field.send_keys(&format!("{}:99999\n", char::from(fantoccini::key::Key::Null))).await.expect("typing");
    browser.see("reading 99999").await;
    assert_eq!(browser.script("return location.hash").await, Value::from("#L99999"));
    browser.client.goto(&format!("{}/runs/tidegauge/1/log.long#L777777", world.url)).await.expect("the page");
    browser.client.refresh().await.expect("the page");
    browser.see("reading 777777").await;

    browser.client.goto(&format!("{}/runs/tidegauge/1/ship.it", world.url)).await.expect("the page");
    browser.see("starts by hand only").await;
    browser.act("Start ship.it").await;
    browser.see("started by hand by owner").await;
    browser.see("shipped").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1?view=graph", world.url)).await.expect("the page");
    browser.see("12 cells").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tests_artifacts_caches_and_numbers_are_looked_through() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.test.unit]\nsteps = [\"mkdir -p out keep; echo x > keep/x; echo 4096 > $ORDOTAXIS_FACTS/size; cp unit.xml out/; echo '<style>h1 {color: teal}</style><h1>Tides of today</h1><script>document.title = document.domain || String(document.domain.length)</script>' > out/page.html; test ! -e fails\"]\n\
        reports = { junit = [\"unit.xml\"] }\nfacts = [{ name = \"size\", number = true }]\ngives = { site = { paths = [\"out\"], upon = [\"passed\", \"failed\"] } }\n\
        [[job.test.unit.cache]]\npaths = [\"keep\"]\nkey = \"keep-1\"\nsave = \"always\"\n";
    let unit = |fails: &str| {
        format!(
            "<testsuite><testcase classname='gauge' name='datum' time='0.5'/><testcase classname='gauge' name='drift'>{fails}</testcase></testsuite>"
        )
    };
    repository.write("unit.xml", &unit(""));
    world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    repository.write("unit.xml", &unit("<failure message='3 mm off'/>"));
    repository.write("fails", "");
    let commit = repository.commit("Drift");
    repository.push();
    world.verdict("tidegauge", &commit).await;

    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    browser.client.goto(&format!("{}/runs/tidegauge/2?view=tests", world.url)).await.expect("the page");
    browser.see("New failures").await;
    browser.see("compared with tidegauge/1").await;
    accessible(&browser).await;
    browser.click(".tests li button").await;
    browser.see("3 mm off").await;
    browser.see("In other runs").await;
    browser.see("in its log").await;
    accessible(&browser).await;

    browser.client.goto(&format!("{}/runs/tidegauge/2?view=artifacts", world.url)).await.expect("the page");
    browser.see("test.unit/site").await;
    browser.click(".tests ul button").await;
    browser.see("page.html").await;
    accessible(&browser).await;
    browser.click(".tests ul li:nth-of-type(2) button").await;
    // The page is drawn, and cut off from the console's origin.
    let frame = browser.client.wait().for_element(fantoccini::Locator::Css("iframe")).await.expect("the frame");
    frame.enter_frame().await.expect("the frame");
    browser.see("Tides of today").await;
    assert_eq!(browser.script("return window.origin").await, Value::from("null"));
    browser.client.enter_parent_frame().await.expect("the page");

    browser.client.goto(&format!("{}/runs/tidegauge/2/test.unit", world.url)).await.expect("the page");
    browser.see("1 of 1 caches restored").await;
    browser.press("Taken").await;
    browser.see("restored from").await;
    browser.press("Given").await;
    browser.see("4096").await;
    accessible(&browser).await;
    for (page, wanted) in [("caches", "keep-1"), ("numbers", "fact.test.unit.size"), ("flaky", "no test both passed and failed")] {
        browser.client.goto(&format!("{}/projects/tidegauge/{page}", world.url)).await.expect("the page");
        browser.see(wanted).await;
        accessible(&browser).await;
    }
    browser.end().await;
}

/// A browser in which the owner is signed in.
pub(super) async fn signed_in(world: &World) -> Browser {
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    browser
}

/// Gives `rest()`: over when nothing on the page is on its way to another look. What turns for ever is not waited for.
const REST: &str = "
    const moving = () => document.getAnimations().filter((one) => one.playState === 'running' && one.effect.getComputedTiming().endTime !== Infinity);
    const drawn = () => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
    const rest = async () => {
        await drawn();
        while (moving().length > 0) {
            await Promise.allSettled(moving().map((one) => one.finished));
            await drawn();
        }
    };";

/// Runs axe (WCAG 2.2 AA) on the page at rest.
pub(super) async fn accessible(browser: &Browser) {
    let axe = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js")).expect("axe");
    browser.script(&axe).await;
    let rules = "{ runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] }";
    let script = format!(
        "{REST} const done = arguments[arguments.length - 1]; rest().then(() => axe.run({rules})).then((found) => done(found.violations));"
    );
    let found = browser.client.execute_async(&script, Vec::new()).await.expect("axe runs");
    let told: Vec<String> =
        found.as_array().into_iter().flatten().map(|one| format!("{}: {}", one["id"], one["nodes"][0]["html"])).collect();
    assert!(told.is_empty(), "{told:?}");
}

/// People and what they did, as their owner sees and changes them; and what others see of it.
#[tokio::test(flavor = "multi_thread")]
async fn people_and_the_journal_are_kept_in_the_console() {
    let world = world().await;
    world.project("tidegauge").await;
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    let open = async |path: &str| browser.client.goto(&format!("{}{path}", world.url)).await.expect("the page");
    open("/people").await;
    with(&browser, "Add a person", &["maren", "maren@saltmarsh.example"]).await;
    browser.see("maren is added.").await;
    accessible(&browser).await;
    with(&browser, "Add a person", &["Not A Name"]).await;
    browser.see("a person's name is lower-case letters").await;
    browser.press("Not now").await;
    changed(&world, &browser).await;
    open("/people?view=groups").await;
    grouped(&world, &browser).await;
    open("/people?view=roles").await;
    with(&browser, "Give a role", &["@keepers", "", "tidegauge"]).await;
    browser.see("@keepers is operator of tidegauge.").await;
    browser.press("Take away the role of @keepers on tidegauge").await;
    browser.see("@keepers is not operator of tidegauge any more.").await;
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    browser.see("operator").await;
    accessible(&browser).await;
    open("/people?view=yours").await;
    with(&browser, "Make a token", &["a screen", "", "", "0"]).await;
    browser.see("the days until it ends are a number above 0").await;
    browser.fill("dialog.ask .ask-field:nth-of-type(4) .field", "30").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("Shown this once").await;
    browser.act("End the token for a screen").await;
    browser.see("The token for a screen is ended.").await;
    // What is judged is the page at rest: a colour that is still on its way is waited for.
    let pale = "const style = document.querySelector('main h1').style; style.color = '#eee'; document.body.offsetHeight;
        style.transition = 'color 3s'; style.color = '#111'";
    browser.script(pale).await;
    accessible(&browser).await;
    open("/journal").await;
    browser.see("token.make").await;
    browser.see("grant.set").await;
    browser.click("header ~ main button").await;
    browser.see("Whole: ").await;
    accessible(&browser).await;
    open("/projects/tidegauge/journal").await;
    browser.see("project.add").await;
    // Maren is no owner: she sees who there is, and neither mail, the journal nor how to change it.
    let hers = world.json(&["person", "link", "maren"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.click("header > .menu summary").await;
    browser.press("Sign out").await;
    browser.see("Sign in to Ordotaxis").await;
    browser.client.goto(&hers).await.expect("the page");
    browser.see("tidegauge").await;
    open("/people").await;
    browser.see("@keepers").await;
    assert_eq!(browser.script("return document.querySelectorAll('main .act').length").await, Value::from(0));
    open("/journal").await;
    browser.see("this needs the role owner of the service; owner can give it").await;
    // Her own browser is signed out by its row.
    open("/people?view=yours").await;
    browser.see("browser").await;
    let sessions: Value = browser.script("return fetch('/api/v1/sessions').then((answer) => answer.json())").await;
    browser.act(&format!("End session {}", sessions[0]["id"])).await;
    browser.see("Sign in to Ordotaxis").await;
    browser.end().await;
}

/// Found by use: a link to a run, opened by someone who was not signed in yet, ended on a refusal, and later on the board.
#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_to_sign_in_comes_back_to_the_page() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    let browser = Browser::start(1280, 800).await;
    let open = async |path: &str| browser.client.goto(&format!("{}{path}", world.url)).await.expect("the page");
    let enter = async || {
        browser.fill("#token", &world.token).await;
        browser.click("button[type=submit]").await;
    };
    let at = async |path: &str| browser.holds(path, &format!("location.pathname + location.search === '{path}'")).await;
    open("/runs/tidegauge/1?view=graph").await;
    browser.see("Then it goes on to /runs/tidegauge/1?view=graph").await;
    accessible(&browser).await;
    enter().await;
    browser.see("Passed: 1 job").await;
    at("/runs/tidegauge/1?view=graph").await;

    // A session that ends while a page is open leads to signing in, and a link then to where one was.
    assert_eq!(world.run(&["session", "end", "1"]).await.code, 0);
    repository.push_pipeline("language = 1\n[job.a.c]\nsteps = [\"true\"]\n");
    open("/projects/tidegauge?find=x").await;
    browser.see("Then it goes on to /projects/tidegauge?find=x").await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    at("/projects/tidegauge?find=x").await;
    // Who signs out has no page to come back to; and no address leads to another place.
    for hostile in ["https://evil.example/", "//evil.example", "/%5Cevil.example", "/.//evil.example"] {
        browser.click("header > .menu summary").await;
        browser.press("Sign out").await;
        browser.see("Sign in to Ordotaxis").await;
        open(&format!("/sign-in?to={hostile}")).await;
        browser.see("Sign in to Ordotaxis").await;
        enter().await;
        browser.see("The main branch is well").await;
        at("/").await;
        browser.holds("it is the same service", &format!("location.origin === '{}'", world.url)).await;
    }
    browser.end().await;
}

/// Found by use: who read a public project without signing in was told that the service is away, and saw no way in.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_public_is_read_without_signing_in() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    assert_eq!(world.run(&["project", "seen", "tidegauge", "public"]).await.code, 0);
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"echo high water\"]\n");
    world.verdict("tidegauge", &commit).await;
    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    browser.see("Passed: 1 job").await;
    browser.see("high water").await;
    let asked = "performance.getEntriesByType('resource').filter(({ name }) => name.endsWith('/api/v1/live')).length > 1";
    browser.holds("the stream was asked for twice", asked).await;
    assert_eq!(browser.script("return document.querySelector('.away') === null").await, Value::Bool(true), "nothing is away");
    assert_eq!(browser.script("return document.querySelectorAll('.acts .act, .bar .act').length").await, Value::from(0));
    accessible(&browser).await;
    browser.press("Sign in").await;
    browser.see("Then it goes on to /runs/tidegauge/1").await;
    browser.fill("#token", &world.token).await;
    browser.click("button[type=submit]").await;
    browser.holds("she may do something", "document.querySelectorAll('main .act').length > 0").await;
    browser.end().await;
}

/// How a person is reached and known is changed, and taken back.
async fn changed(world: &World, browser: &Browser) {
    let maren = async || {
        let persons = world.json(&["person", "list"]).await;
        persons.as_array().and_then(|all| all.iter().find(|one| one["name"] == "maren").cloned()).expect("she is there")
    };
    with(browser, "Mail of maren", &["sea@saltmarsh.example"]).await;
    browser.see("The mail of maren is changed.").await;
    assert_eq!(maren().await["mail"], "sea@saltmarsh.example");
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    assert_eq!(maren().await["mail"], "maren@saltmarsh.example");
    with(browser, "Known elsewhere: maren", &["https://id.saltmarsh.example", "7"]).await;
    browser.see("maren is known as 7 of https://id.saltmarsh.example.").await;
    browser.press("Take away 7 of https://id.saltmarsh.example").await;
    browser.see("maren is not known as 7").await;
    assert_eq!(maren().await["identities"], serde_json::json!([]));
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    assert_eq!(maren().await["identities"][0]["subject"], "7");
    browser.act("Sign-in link for maren").await;
    browser.see("Give this to maren alone").await;
}

/// A group is made, changed, and changed back; one that is made and taken back is not there.
async fn grouped(world: &World, browser: &Browser) {
    let groups = async || world.json(&["group", "list"]).await;
    with(browser, "Set a group", &["keepers", "maren, owner"]).await;
    browser.see("@keepers is set.").await;
    with(browser, "Change @keepers", &["maren"]).await;
    until("one member", || async { (groups().await[0]["members"] == serde_json::json!(["maren"])).then_some(()) }).await;
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    assert_eq!(groups().await[0]["members"], serde_json::json!(["maren", "owner"]));
    with(browser, "Set a group", &["@visitors", "owner"]).await;
    browser.see("@visitors is set.").await;
    browser.press("Undo").await;
    browser.see("Taken back.").await;
    assert_eq!(groups().await.as_array().map(Vec::len), Some(1));
    with(browser, "Set a group", &["visitors", "nobody-here"]).await;
    browser.see("nobody-here").await;
    browser.press("Not now").await;
}
