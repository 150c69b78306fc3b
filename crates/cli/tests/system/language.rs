//! The language where it runs: matrices, conditions, patterns, and every way a run can begin.

use super::world;
use ordotaxis_testbed::{RunnerOptions, World};
use serde_json::Value;

fn states(run: &Value) -> Vec<(String, String)> {
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    run["jobs"].as_array().into_iter().flatten().map(|job| (text(&job["id"]), text(&job["state"]))).collect()
}

fn state<'r>(run: &'r Value, job: &str) -> &'r str {
    World::job(run, job)["state"].as_str().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn cells_run_apart_and_hand_over_to_the_same_or_to_all() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(
        r#"language = 1
[job.build.gauge]
each   = { cc = ["gcc", "clang"], opt = ["O0", "O2"] }
except = [{ cc = "clang", opt = "O0" }]
also   = [{ cc = "tcc", opt = "O1" }]
steps  = ["mkdir out; echo $EACH_CC $EACH_OPT > out/gauge"]
gives  = { firmware = ["out/gauge"] }
[job.test.one]
each   = { cc = ["gcc", "tcc"], opt = ["O0", "O1"] }
except = [{ cc = "gcc", opt = "O1" }, { cc = "tcc", opt = "O0" }]
takes  = [{ from = "build.gauge/firmware", cells = "same" }]
steps  = ["test \"$(cat out/gauge)\" = \"$EACH_CC $EACH_OPT\""]
[job.test.all]
takes = [{ from = "build.gauge/firmware", to = "in" }]
steps = ["find in -type f | sort"]
[job.test.chosen]
takes = [{ from = "build.gauge/firmware", cells = { cc = "clang" } }]
steps = ["cat out/gauge"]
"#,
    );
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(state(&run, "test.one[tcc,O1]"), "passed");
    assert_eq!(world.log(&run, "test.chosen").await, "clang O2\n");
    let all = world.log(&run, "test.all").await;
    assert_eq!(all, "in/clang,O2/out/gauge\nin/gcc,O0/out/gauge\nin/gcc,O2/out/gauge\nin/tcc,O1/out/gauge\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_at_a_time_stops_at_the_first_that_fails_and_a_clean_up_still_runs() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(
        r#"language = 1
order = "ship > report, tidy"
[job.ship.stations]
each    = { station = ["north-pier", "lock-gate", "outer-buoy"] }
at_once = 1
steps   = ["test $EACH_STATION != lock-gate"]
[job.report.passed]
steps = ["true"]
[job.tidy.up]
upon  = ["passed", "failed", "skipped"]
steps = ["echo tidy"]
"#,
    );
    let run = world.verdict("tidegauge", &commit).await;
    let wanted = [
        ("ship.stations[north-pier]", "passed"),
        ("ship.stations[lock-gate]", "failed"),
        ("ship.stations[outer-buoy]", "skipped"),
        ("report.passed", "skipped"),
        ("tidy.up", "passed"),
    ];
    assert_eq!(states(&run), wanted.map(|(id, state)| (id.to_owned(), state.to_owned())));
    assert_eq!(run["state"], "failed");
    assert_eq!(
        World::job(&run, "ship.stations[outer-buoy]")["why"],
        "skipped because ship.stations[lock-gate] failed, and its other cells do not go on"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_skip_with_the_values_and_what_changed_comes_from_git() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let pipeline = r#"language = 1
order = "build > test > ship"
[stage.ship]
if = 'ref.branch == "main"'
[job.build.gauge]
if    = 'touches("src/**")'
steps = ["true"]
gives = { log = { paths = ["*.log"], none = "ignore" } }
[job.build.docs]
if    = 'touches("docs/**")'
steps = ["true"]
[job.test.unit]
steps = [{ run = "echo on main", if = 'ref.branch == "main"' }, "echo always"]
[job.test.taker]
takes = ["build.gauge/log"]
steps = ["true"]
[job.ship.it]
steps = ["true"]
"#;
    repository.write("src/a.c", "int a;\n");
    let first = repository.push_pipeline(pipeline);
    let run = world.verdict("tidegauge", &first).await;
    assert_eq!(run["state"], "passed", "a first commit may have changed anything: {run}");
    repository.write("docs/x.md", "x\n");
    let second = repository.commit("Docs");
    repository.push();
    let run = world.verdict("tidegauge", &second).await;
    assert_eq!(run["state"], "passed", "{run}");
    let gauge = World::job(&run, "build.gauge");
    assert_eq!(gauge["why"], "its condition `touches(\"src/**\")` is false: no changed file fits src/**");
    assert_eq!(state(&run, "build.docs"), "passed");
    assert_eq!(state(&run, "test.unit"), "passed", "a job skipped by its own condition is not waited for");
    assert_eq!(World::job(&run, "test.taker")["why"], "skipped because build.gauge was skipped, and something is taken from it");
    assert_eq!(world.log(&run, "test.unit").await, "on main\nalways\n");
    repository.git(&["checkout", "--quiet", "-b", "topic/drift"]);
    let third = repository.commit("On a branch");
    repository.push();
    let run = world.verdict("tidegauge", &third).await;
    let why = World::job(&run, "ship.it")["why"].as_str().unwrap_or_default().to_owned();
    assert_eq!(why, "stage ship's condition `ref.branch == \"main\"` is false: ref.branch is \"topic/drift\"");
    assert_eq!(world.log(&run, "test.unit").await, "always\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn keep_going_false_ends_what_has_not_started() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { slots: 1, ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(
        "language = 1\nkeep_going = false\n[job.a.first]\nsteps = [\"exit 1\"]\n[job.b.beside]\nsteps = [\"true\"]\n[job.c.after]\nafter = [\"b.beside\"]\nsteps = [\"true\"]\n\
         [job.d.x]\nafter = [\"a.first\"]\nsteps = [\"true\"]\n[job.d.y]\nafter = [\"d.x\"]\nsteps = [\"true\"]\n",
    );
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(World::job(&run, "b.beside")["why"], "skipped because a.first failed, and the file says keep_going = false");
    assert_eq!(state(&run, "c.after"), "skipped");
}

#[tokio::test(flavor = "multi_thread")]
async fn placeholders_are_filled_when_planned_and_on_the_runner() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    repository.write("src/a.c", "int a;\n");
    let pipeline = r#"language = 1
[env]
LABEL = "{project}-{branch}-{os}"
PLAIN = "{{braces}}"
[job.build.gauge]
each  = { opt = ["O2"] }
env   = { KEY = "obj-{each.opt}-{hash:src/**}" }
steps = [{ run = "echo $LABEL $PLAIN $KEY; pwd", dir = "src" }, "mkdir out; touch out/O2.bin"]
gives = { bin = ["out/{each.opt}.bin"] }
"#;
    let commit = repository.push_pipeline(pipeline);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    let log = world.log(&run, "build.gauge[O2]").await;
    let words: Vec<&str> = log.split_whitespace().collect();
    assert_eq!(&words[..2], ["tidegauge-main-linux", "{braces}}"]);
    let digest = words[2].strip_prefix("obj-O2-").expect("a key");
    assert!(digest.len() == 16 && digest.bytes().all(|b| b.is_ascii_hexdigit()), "{log}");
    repository.write("src/a.c", "int b;\n");
    let commit = repository.commit("Another source");
    repository.push();
    let run = world.verdict("tidegauge", &commit).await;
    assert!(!world.log(&run, "build.gauge[O2]").await.contains(digest), "other contents, another digest");
}

#[tokio::test(flavor = "multi_thread")]
async fn patterns_are_borrowed_at_a_tag_and_a_moved_tag_is_told() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let patterns = world.project("patterns").await;
    let lend = |words: &str| {
        patterns.write(
            "patterns.toml",
            &format!(
                "language = 1\n[pattern.greet]\ninputs.who = {{ choices = [\"tide\", \"moon\"] }}\nsteps = [\"echo {words} $GIVEN_WHO\"]\n"
            ),
        );
        let commit = patterns.commit(words);
        patterns.git(&["tag", "-f", "v1"]);
        patterns.git(&["push", "--quiet", "-f", "origin", "HEAD", "v1"]);
        commit
    };
    let first = lend("hello");
    let repository = world.project("tidegauge").await;
    let pipeline = |at: &str| {
        let git = format!("{}/git/patterns.git", world.forge_url);
        format!(
            "language = 1\n[borrow.shared]\ngit = \"{git}\"\nat = \"{at}\"\nfile = \"patterns.toml\"\n[job.a.greet]\nfollows = \"shared:greet\"\ngiven = {{ who = \"tide\" }}\n"
        )
    };
    let commit = repository.push_pipeline(&pipeline("v1"));
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(world.log(&run, "a.greet").await, "hello tide\n");
    let plan: Value =
        world.http(reqwest::Method::GET, "/api/v1/runs/tidegauge/1/plan").send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!(plan["borrowed"][0]["commit"], first, "a run records what it resolved to: {plan}");

    lend("good evening");
    let again = repository.commit("Once more");
    repository.push();
    let run = world.verdict("tidegauge", &again).await;
    assert_eq!(world.log(&run, "a.greet").await, "good evening tide\n");
    assert_eq!(run["diagnostics"][0]["code"], "moved-tag", "{run}");
    assert_eq!(run["state"], "passed", "told, not refused");

    let fixed = repository.push_pipeline(&pipeline(&first));
    let run = world.verdict("tidegauge", &fixed).await;
    assert_eq!(world.log(&run, "a.greet").await, "hello tide\n");
    for (at, words) in [("main", "is a branch, and branches move"), ("v9", "has no tag and no commit `v9`")] {
        let commit = repository.push_pipeline(&pipeline(at));
        let run = world.verdict("tidegauge", &commit).await;
        assert_eq!(run["state"], "failed");
        assert!(run["diagnostics"][0]["message"].as_str().is_some_and(|told| told.contains(words)), "{run}");
    }
    // The client finds the same without the service.
    repository.write("ordotaxis.toml", &pipeline("v1").replace("who = \"tide\"", "who = \"tied\""));
    let mut check = world.client();
    check.arg("check").current_dir(&repository.folder).env("XDG_CACHE_HOME", world.folder.path().join("cache"));
    let output = tokio::task::spawn_blocking(move || check.output()).await.expect("a task").expect("the client starts");
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(told.contains("`who` cannot be `tied`") && told.contains("did you mean `tide`?"), "{told}");
}
