//! Proposals land one after another, each tested on top of those ahead of it, and what was tested is exactly what lands.

use super::ORDOTAXIS;
use ordotaxis_practice::Dialect;
use ordotaxis_testbed::{Process, Repository, RunnerOptions, World, until};
use serde_json::{Value, json};

const RULES: &str = "rules = 1\n[branch.main]\nland = \"queue\"\n";
/// Two files, `a` and `b`, must not be there together; a trial waits while the file that `hold` names is there.
const PIPELINE: &str = "language = 1\norder = \"test > wait\"\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.test.together]\n\
    steps = [\"test ! -e bad\", \"! { test -e a && test -e b; }\"]\n[job.wait.here]\nsteps = [\"while test -n \\\"$HOLD\\\" && test -e \\\"$HOLD\\\"; do sleep 0.05; done\"]\nenv = { HOLD = \"HOLDFILE\" }\n";
const CONFIG: &str = "beat = \"250ms\"\nretry_pause = \"100ms\"\nhook_grace = \"1s\"\n";

/// A project whose main branch has these rules, and a runner.
pub(super) struct Setting {
    pub(super) world: World,
    pub(super) repository: Repository,
    _runner: Process,
}

impl Setting {
    pub(super) async fn new(rules: &str) -> Setting {
        let world = World::start_speaking(ORDOTAXIS, CONFIG, tempfile::tempdir().expect("a folder"), Dialect::Practice).await;
        let repository = world.project("tidegauge").await;
        let runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
        let hold = world.folder.path().join("hold").display().to_string();
        std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
        repository.write("ordotaxis/rules.toml", rules);
        repository.write("readings.txt", "one\ntwo\nthree\n");
        let first = repository.push_pipeline(&PIPELINE.replace("HOLDFILE", &hold));
        world.verdict("tidegauge", &first).await;
        Setting { world, repository, _runner: runner }
    }

    /// Trials of from now on wait, until `release`.
    pub(super) fn hold(&self) {
        std::fs::write(self.world.folder.path().join("hold"), "").expect("written");
    }

    pub(super) fn release(&self) {
        std::fs::remove_file(self.world.folder.path().join("hold")).expect("removed");
    }

    /// Offers a branch with one file; gives the proposal's number once it is known.
    pub(super) async fn offer(&self, number: usize, file: &str, text: &str) -> String {
        let branch = format!("topic/{number}");
        let git = |arguments: &[&str]| self.repository.git(arguments);
        git(&["checkout", "--quiet", "-B", &branch, "main"]);
        self.repository.write(file, text);
        self.repository.commit(&format!("Change {number}"));
        git(&["push", "--quiet", "origin", "HEAD"]);
        git(&["checkout", "--quiet", "main"]);
        self.act(
            "repositories/tidegauge/proposals",
            // A forge takes any text for a title; a commit's message is one that git takes.
            &json!({ "source": branch, "target": "main", "title": format!("Change {number}\u{0}\nmore"), "by": "odd" }),
        )
        .await;
        let name = format!("tidegauge/{number}");
        until(&format!("proposal {number}"), || async {
            let one = self.world.run(&["--json", "proposals", &name]).await;
            (one.code == 0).then_some(())
        })
        .await;
        name
    }

    pub(super) async fn act(&self, path: &str, body: &Value) {
        let call = reqwest::Client::new().post(format!("{}/api/{path}", self.world.forge_url)).json(body);
        call.send().await.expect("an answer").error_for_status().expect("it is done");
    }

    pub(super) async fn land(&self, proposal: &str) -> Value {
        self.world.json(&["land", proposal]).await
    }

    pub(super) async fn queue(&self) -> Value {
        self.world.json(&["landing", "tidegauge"]).await[0]["landing"].clone()
    }

    /// What became of a proposal, once it has landed or left.
    pub(super) async fn end(&self, number: usize) -> Value {
        let name = number.to_string();
        until(&format!("the end of proposal {number}"), || async {
            let queue = self.queue().await;
            queue["ended"].as_array()?.iter().find(|end| end["proposal"] == name).cloned()
        })
        .await
    }

    /// What the queue says of a proposal, once it fits.
    pub(super) async fn entry(&self, number: usize, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
        let name = number.to_string();
        until(&format!("proposal {number}: {what}"), || async {
            let queue = self.queue().await;
            let entries = queue["branches"][0]["entries"].as_array()?.clone();
            entries.into_iter().find(|entry| entry["proposal"] == name && fits(entry))
        })
        .await
    }

    fn main(&self) -> String {
        let there = self.repository.git(&["ls-remote", "origin", "refs/heads/main"]);
        there.split_whitespace().next().unwrap_or_default().to_owned()
    }
}

pub(super) fn says(entry: &Value, words: &str) -> bool {
    entry["sentence"].as_str().is_some_and(|sentence| sentence.contains(words))
}

#[tokio::test(flavor = "multi_thread")]
async fn one_lands_one_fails_together_with_it_and_one_conflicts() {
    let setting = Setting::new(RULES).await;
    let before = setting.main();
    let [a, b, c, d] = [
        setting.offer(1, "a", "1\n").await,
        setting.offer(2, "b", "1\n").await,
        setting.offer(3, "a", "another\n").await,
        setting.offer(4, "d", "1\n").await,
    ];
    setting.hold();
    for proposal in [&a, &b, &c, &d] {
        setting.land(proposal).await;
    }
    // The second fails on top of the first at once; the third does not fit on it; the fourth is tried on the first alone.
    setting.entry(1, "tested", |entry| says(entry, "is being tested")).await;
    setting.entry(2, "doubtful", |entry| says(entry, "fails after 1")).await;
    setting.entry(3, "in conflict", |entry| says(entry, "does not fit after 1, 2: a")).await;
    let fourth = setting.entry(4, "tested", |entry| says(entry, "is being tested") && entry["runs"][0]["state"] == "running").await;
    assert_eq!((&fourth["place"], &fourth["ahead"]), (&json!(4), &json!(["1", "2", "3"])), "{fourth}");
    assert_eq!(setting.main(), before, "nothing has landed yet");
    let tested = setting.entry(1, "its commit", |entry| entry["commit"].is_string()).await["commit"].clone();
    setting.release();
    let (first, second, third, last) = (setting.end(1).await, setting.end(2).await, setting.end(3).await, setting.end(4).await);
    assert_eq!(first["commit"], tested, "exactly what was tested has landed");
    assert!(second["commit"].is_null() && second["why"].as_str().is_some_and(|why| why.contains("failed")), "{second}");
    assert!(third["why"].as_str().is_some_and(|why| why.contains("it does not merge: 1 file changed on both sides: a")), "{third}");
    assert_eq!(last["commit"], fourth["commit"]);
    assert_eq!(setting.main(), last["commit"].as_str().unwrap_or_default());
    setting.repository.git(&["fetch", "--quiet", "origin"]);
    let log = setting.repository.git(&["log", "--first-parent", "--format=%s", &format!("{before}..origin/main")]);
    assert_eq!(log, "Change 4 (proposal 4)\nChange 1 (proposal 1)");
    // The forge and the list know it; the push's own run reports on the commit.
    until("that both have landed", || async {
        let all = setting.world.json(&["proposals", "tidegauge", "--all"]).await;
        let landed = |number: &str| all.as_array().into_iter().flatten().any(|one| one["number"] == number && one["state"] == "landed");
        (landed("1") && landed("4") && !landed("2")).then_some(())
    })
    .await;
    setting.world.statuses_until("tidegauge", &setting.main(), "success").await;
    // What every run of a trial was is known.
    let runs = setting.world.json(&["runs", "tidegauge"]).await;
    let trials = runs.as_array().into_iter().flatten().filter(|run| run["occasion"]["event"] == "landing");
    assert!(trials.clone().all(|run| run["occasion"]["target"] == "main" && run["branch"].is_null()), "{runs}");
    assert!(trials.count() >= 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn approvals_are_asked_of_persons_for_the_newest_commit() {
    let setting =
        Setting::new("rules = 1\n[branch.main]\nland = \"queue\"\nhow = \"squash\"\napprovals = { of = 1, by = [\"@keepers\"] }\n").await;
    let world = &setting.world;
    for name in ["maren", "odd", "tomas"] {
        assert_eq!(world.run(&["person", "add", name]).await.code, 0);
        let known = ["person", "known", name, "--issuer", &world.forge_url, "--subject", name];
        assert_eq!(world.run(&known).await.code, 0);
    }
    assert_eq!(world.run(&["group", "set", "keepers", "maren", "odd"]).await.code, 0);
    let proposal = setting.offer(1, "a", "1\n").await;
    setting.land(&proposal).await;
    setting.entry(1, "lacking", |entry| says(entry, "1 approval of its newest commit is missing, by @keepers")).await;
    let review = async |by: &str, approves: bool| {
        setting.act("people/tidegauge/proposals/1/review", &json!({ "by": by, "approves": approves })).await;
    };
    // Who is in no such group, who nobody knows, and the author do not count.
    for by in ["tomas", "stranger", "odd"] {
        review(by, true).await;
    }
    setting.entry(1, "still lacking", |entry| says(entry, "1 approval")).await;
    review("maren", false).await;
    setting.entry(1, "refused", |entry| says(entry, "maren refuses it")).await;
    review("maren", true).await;
    let end = setting.end(1).await;
    setting.repository.git(&["fetch", "--quiet", "origin"]);
    let log = setting.repository.git(&["log", "-1", "--format=%an %s %P", "origin/main"]);
    assert!(log.starts_with("odd Change 1 (proposal 1)") && log.split(' ').count() == 6, "one commit on top of main: {log} {end}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_happens_meanwhile_takes_out_or_makes_anew() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    setting.hold();
    let (one, two, three) = (setting.offer(1, "a", "1\n").await, setting.offer(2, "c", "1\n").await, setting.offer(3, "d", "1\n").await);
    for proposal in [&one, &two, &three] {
        setting.land(proposal).await;
    }
    setting.entry(3, "tested", |entry| says(entry, "is being tested after 1, 2")).await;
    // It is closed while its trial runs; another is offered with another commit.
    setting.act("people/tidegauge/proposals/1/close", &json!({ "by": "odd" })).await;
    assert_eq!(setting.end(1).await["why"], "it was closed by odd");
    setting.repository.git(&["checkout", "--quiet", "topic/2"]);
    setting.repository.write("c", "2\n");
    setting.repository.commit("More");
    setting.repository.git(&["push", "--quiet", "--force", "origin", "HEAD"]);
    assert_eq!(setting.end(2).await["why"], "it offers another commit now: ask again");
    let before = setting.entry(3, "tested alone", |entry| says(entry, "is being tested") && entry["ahead"] == json!([])).await;
    // Someone pushes past the queue: the trial is made anew on that.
    setting.repository.git(&["checkout", "--quiet", "main"]);
    setting.repository.write("past.txt", "1\n");
    let past = setting.repository.commit("Past the queue");
    setting.repository.git(&["push", "--quiet", "origin", "HEAD"]);
    let anew = setting.entry(3, "tried anew", |entry| entry["commit"].is_string() && entry["commit"] != before["commit"]).await;
    setting.release();
    let end = setting.end(3).await;
    assert_eq!(end["commit"], anew["commit"]);
    setting.repository.git(&["fetch", "--quiet", "origin"]);
    assert_eq!(setting.repository.git(&["rev-parse", "origin/main^1"]), past);
    // Held, released, first, taken out.
    let four = setting.offer(4, "e", "1\n").await;
    setting.hold();
    setting.land(&four).await;
    assert_eq!(world.run(&["landing", "hold", &four, "--why", "not before the ebb"]).await.code, 0);
    setting.entry(4, "held", |entry| says(entry, "is held: owner: not before the ebb")).await;
    let out = world.run(&["landing", "release", &four]).await.out;
    assert!(out.contains("tidegauge/4 stands at place 1"), "{out}");
    let left = world.run(&["landing", "leave", &four, "--why", "superseded"]).await.out;
    assert!(left.contains("tidegauge/4 left the queue: owner: superseded"), "{left}");
    let again = world.run(&["landing", "leave", &four]).await;
    assert!(again.code == 3 && again.err.contains("is not in the landing queue"), "{again:?}");
    let listed = world.run(&["landing"]).await;
    assert!(listed.out.contains("tidegauge/3 landed as") && listed.out.contains("tidegauge/4 left: owner: superseded"), "{listed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_land_says_why() {
    let setting = Setting::new("rules = 1\n[branch.main]\nland = \"free\"\n").await;
    let world = &setting.world;
    let one = setting.offer(1, "a", "1\n").await;
    let free = world.run(&["land", &one]).await;
    assert!(free.code == 3 && free.err.contains("the branch main has no landing queue"), "{free:?}");
    let change = async |rules: &str| {
        setting.repository.git(&["checkout", "--quiet", "main"]);
        setting.repository.write("ordotaxis/rules.toml", rules);
        let commit = setting.repository.commit("Rules");
        setting.repository.git(&["push", "--quiet", "origin", "HEAD"]);
        world.verdict("tidegauge", &commit).await;
    };
    change("rules = 1\n[branch.main]\nland = \"quue\"\n").await;
    let wrong = world.run(&["land", &one]).await;
    assert!(wrong.code == 3 && wrong.err.contains("ordotaxis/rules.toml:3: `land` cannot be `quue`"), "{wrong:?}");
    change("rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"soak\"]\n").await;
    setting.land(&one).await;
    let end = setting.end(1).await;
    assert!(end["why"].as_str().is_some_and(|why| why.contains("no pipeline `soak`, which [branch.main] wants")), "{end}");
    for (proposal, wanted) in
        [("tidegauge/9", "there is no"), ("tidegauge", "is no proposal"), ("nothing/1", "there is no project nothing")]
    {
        let ran = world.run(&["land", proposal]).await;
        assert!(ran.code == 2 && (ran.err.contains(wanted) || ran.err.contains("has no proposal 9")), "{ran:?}");
    }
    // What a proposal changes of the rules does not count for itself.
    change(RULES).await;
    let two = setting.offer(2, "ordotaxis/rules.toml", "rules = 1\n[branch.main]\nland = \"free\"\n").await;
    setting.hold();
    setting.land(&two).await;
    setting.entry(2, "tested", |entry| says(entry, "is being tested")).await;
    world
        .http(reqwest::Method::GET, "/api/v1/projects/tidegauge/landing")
        .send()
        .await
        .expect("an answer")
        .error_for_status()
        .expect("a view");
    setting.release();
    assert!(setting.end(2).await["commit"].is_string());
}

/// A service that dies at any moment of it goes on where it was.
#[tokio::test(flavor = "multi_thread")]
async fn landing_goes_on_after_a_crash() {
    let mut setting = Setting::new(RULES).await;
    setting.hold();
    let (one, two) = (setting.offer(1, "c", "1\n").await, setting.offer(2, "d", "1\n").await);
    setting.land(&one).await;
    setting.land(&two).await;
    setting.entry(2, "tested", |entry| says(entry, "is being tested after 1")).await;
    setting.world.kill_service();
    setting.world.start_service();
    setting.release();
    let (first, second) = (setting.end(1).await, setting.end(2).await);
    assert!(first["commit"].is_string() && second["commit"].is_string(), "{first} {second}");
    assert_eq!(setting.main(), second["commit"].as_str().unwrap_or_default());
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_checked_with_the_pipelines() {
    let world = super::world().await;
    let folder = world.folder.path().join("here");
    std::fs::create_dir_all(folder.join("ordotaxis")).expect("a folder");
    std::fs::write(folder.join("ordotaxis.toml"), "language = 1\n[job.a.b]\nsteps = [\"true\"]\n").expect("written");
    let rules = |text: &str| std::fs::write(folder.join("ordotaxis/rules.toml"), text).expect("written");
    rules(RULES);
    assert_eq!(world.run_in(&folder, &["check"]).await.code, 0);
    rules("rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"main\", \"soak\"]\n");
    let warned = world.run_in(&folder, &["check"]).await;
    assert!(warned.code == 0 && warned.out.contains("wants the pipeline `soak`, which is not here"), "{warned:?}");
    rules("rules = 1\n[branch.main]\nland = \"queue\"\nclosed = [\"on Fridays\"]\n");
    let wrong = world.run_in(&folder, &["check"]).await;
    assert!(wrong.code == 1 && wrong.out.contains("is no time of the week"), "{wrong:?}");
    let schema: Value = serde_json::from_str(&world.run_in(&folder, &["schema", "--rules"]).await.out).expect("JSON");
    assert_eq!(schema["title"], "Ordotaxis rules, version 1");
}

/// The run of a wanted pipeline of a branch's newest commit.
async fn run_of_push(setting: &Setting, commit: &str) -> Value {
    until("the run of the push", || async {
        let runs = setting.world.json(&["runs", "tidegauge"]).await;
        let ours = |run: &&Value| run["commit"] == commit && run["occasion"]["event"] == "push" && !run["ended_at"].is_null();
        let found = runs.as_array()?.iter().find(ours)?["run"].as_str()?.to_owned();
        Some(setting.world.json(&["show", &found]).await)
    })
    .await
}

/// What landed has passed as exactly that commit: its push does nothing twice but what a trial may not do.
#[tokio::test(flavor = "multi_thread")]
async fn a_commit_is_not_built_twice() {
    let setting = Setting::new(RULES).await;
    let text = std::fs::read_to_string(setting.repository.folder.join("ordotaxis.toml")).expect("a pipeline");
    setting.repository.write(
        "ordotaxis.toml",
        &format!("{}[job.ship.it]\nif = 'ref.branch == \"main\"'\nsteps = [\"true\"]\n", text.replace("test > wait", "test > wait > ship")),
    );
    let commit = setting.repository.commit("Ship it");
    setting.repository.git(&["push", "--quiet", "origin", "HEAD"]);
    setting.world.verdict("tidegauge", &commit).await;
    let one = setting.offer(1, "a", "1\n").await;
    setting.hold();
    setting.land(&one).await;
    let fits = |entry: &Value| says(entry, "is being tested") && entry["expected_at"].is_string() && entry["runs"][0]["run"].is_string();
    let entry = setting.entry(1, "tested in a run", fits).await;
    assert!(setting.world.run(&["landing", "tidegauge"]).await.out.contains("likely"));
    setting.release();
    let end = setting.end(1).await;
    let run = run_of_push(&setting, end["commit"].as_str().expect("a commit")).await;
    let (tested, shipped) = (World::job(&run, "test.together"), World::job(&run, "ship.it"));
    assert_eq!((&tested["state"], &shipped["state"]), (&json!("reused"), &json!("passed")), "{run}");
    let trial = entry["runs"][0]["run"].as_str().expect("a run");
    assert!(tested["why"].as_str().is_some_and(|why| why.contains(trial)), "{tested}");
    assert_eq!(tested["not_reused"], Value::Null, "{tested}");
}

/// A test that is known to turn by itself is given one more try, and that is said; when it fails again, it leaves.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_known_to_turn_by_itself_is_tried_once_more() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    let luck = world.folder.path().join("luck");
    let report = |fails: bool| {
        let inner = if fails { "<failure message='no luck'/>" } else { "" };
        format!("<testsuite name='t'><testcase name='turns'>{inner}</testcase></testsuite>")
    };
    std::fs::write(world.folder.path().join("good.xml"), report(false)).expect("written");
    std::fs::write(world.folder.path().join("bad.xml"), report(true)).expect("written");
    // While `luck` holds a line, the test fails and takes the line away.
    let script = format!(
        "if test -s {luck}; then sed -i 1d {luck}; cp {dir}/bad.xml t.xml; exit 1; fi; cp {dir}/good.xml t.xml",
        luck = luck.display(),
        dir = world.folder.path().display()
    );
    let pipeline = format!(
        "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.test.luck]\nreports = {{ junit = [\"t.xml\"] }}\nsteps = [\"\"\"{script}\"\"\"]\n"
    );
    std::fs::write(&luck, "").expect("written");
    let commit = setting.repository.push_pipeline(&pipeline);
    let run = world.verdict("tidegauge", &commit).await;
    // On one commit it both passes and fails: that is known from now on.
    std::fs::write(&luck, "x\n").expect("written");
    world.run(&["again", run["run"].as_str().expect("a run")]).await;
    until("that it is known to turn", || async {
        let flaky = world.json(&["tests", "tidegauge", "--flaky"]).await;
        (!flaky.as_array()?.is_empty()).then_some(())
    })
    .await;
    let one = setting.offer(1, "a", "1\n").await;
    let passes = |one: &Value| one["verdicts"][0]["state"] == "passed";
    world.proposal(&one, "its own run", passes).await;
    std::fs::write(&luck, "x\n").expect("written");
    setting.land(&one).await;
    assert!(setting.end(1).await["commit"].is_string(), "the second try passes");
    let two = setting.offer(2, "b", "1\n").await;
    world.proposal(&two, "its own run", passes).await;
    std::fs::write(&luck, "x\nx\nx\n").expect("written");
    setting.land(&two).await;
    let why = setting.end(2).await["why"].as_str().expect("a reason").to_owned();
    assert!(why.contains("every test that failed is known to turn by itself"), "{why}");
    assert_eq!(std::fs::read_to_string(&luck).expect("text").lines().count(), 1, "one more try, and no third");
}

/// What a keeper adds in the service holds besides what the main branch says, and never makes anything easier.
#[tokio::test(flavor = "multi_thread")]
async fn rules_that_the_service_keeps_only_make_it_stricter() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    let file = world.folder.path().join("more.toml");
    let keep = async |text: &str| {
        std::fs::write(&file, text).expect("written");
        world.run(&["rules", "keep", "tidegauge", "more.toml"]).await
    };
    let bad = keep("rules = 1\n[branch.main]\nland = \"quue\"\n").await;
    assert!(bad.code == 2 && bad.err.contains("line 3") && bad.err.contains("did you mean \"queue\"?"), "{bad:?}");
    let good = keep("rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"main\"]\napprovals = { of = 1, by = [\"owner\"] }\n").await;
    assert!(good.code == 0 && good.out.contains("# kept by the service, besides"), "{good:?}");
    let one = setting.offer(1, "a", "1\n").await;
    setting.land(&one).await;
    setting.entry(1, "an approval is missing", |entry| says(entry, "1 approval of its newest commit is missing, by owner")).await;
    // `land = "free"` there takes nothing away.
    assert_eq!(keep("rules = 1\n[branch.main]\nland = \"free\"\n").await.code, 0);
    assert!(setting.end(1).await["commit"].is_string());
    assert_eq!(world.run(&["rules", "drop", "tidegauge"]).await.code, 0);
    let journal = world.json(&["journal", "tidegauge"]).await.to_string();
    assert!(journal.matches("project.rules").count() >= 3, "{journal}");
}

/// Proposal 1, with its verdict: it brings a test that fails, a job, and a number twice as large.
pub(super) async fn brings(setting: &Setting) -> Value {
    let world = &setting.world;
    let base = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.test.unit]\nreports = { junit = [\"t.xml\"] }\n\
        facts = [{ name = \"size\", number = true }]\nsteps = [\"wc -c < flash > \\\"$ORDOTAXIS_FACTS/size\\\"\", \"! grep -q failure t.xml\"]\n";
    setting.repository.write("t.xml", "<testsuite name='t'><testcase name='a'/></testsuite>");
    setting.repository.write("flash", "1234");
    let commit = setting.repository.push_pipeline(base);
    world.verdict("tidegauge", &commit).await;
    setting.repository.git(&["checkout", "--quiet", "-B", "topic/1", "main"]);
    setting
        .repository
        .write("t.xml", "<testsuite name='t'><testcase name='a'/><testcase name='b'><failure message='4100'/></testcase></testsuite>");
    setting.repository.write("flash", "12345678");
    setting.repository.write("ordotaxis.toml", &format!("{base}[job.test.more]\nsteps = [\"true\"]\n"));
    setting.repository.commit("More");
    setting.repository.git(&["push", "--quiet", "origin", "HEAD"]);
    world.propose("tidegauge", "topic/1", false).await;
    world.proposal("tidegauge/1", "its verdict", |one| one["verdicts"][0]["state"] == "failed").await
}

/// A proposal's page says what is new in it: failures, numbers, and what it changes in the plan.
#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_says_what_it_brings() {
    let setting = Setting::new(RULES).await;
    let world = &setting.world;
    let one = brings(&setting).await;
    assert_eq!(
        (&one["new_failures"], &one["failures"][0]["test"], &one["failures"][0]["message"]),
        (&json!(1), &json!("t > b"), &json!("4100")),
        "{one}"
    );
    assert_eq!(one["plan"], json!(["main: test.more is new"]), "{one}");
    let size = one["numbers"].as_array().into_iter().flatten().find(|one| one["name"] == "fact.test.unit.size").expect("its size").clone();
    assert_eq!((&size["now"], &size["before"]), (&json!("8"), &json!("4")));
    let shown = world.run(&["proposals", "tidegauge/1"]).await.out;
    assert!(shown.contains("fails anew   test.unit t > b: 4100") && shown.contains("fact.test.unit.size 8, was 4"), "{shown}");
    assert!(world.run(&["proposals", "tidegauge"]).await.out.contains("1 new failure"));
}
