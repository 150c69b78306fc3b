//! Runs in depth: tried again, started by hand, asked for again, overtaken, in turn; what is told of each while it waits.

use super::world;
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::Value;
use std::path::Path;

fn state<'r>(run: &'r Value, job: &str) -> &'r str {
    World::job(run, job)["state"].as_str().unwrap_or_default()
}

fn attempts(run: &Value, job: &str) -> Vec<Value> {
    World::job(run, job)["attempts"].as_array().cloned().unwrap_or_default()
}

/// A step that goes on until a file is there.
fn until_file(path: &Path) -> String {
    format!("while ! [ -e {} ]; do sleep 0.02; done", path.display())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_failed_is_tried_again_with_logs_kept_apart() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let counter = world.folder.path().join("counter");
    let script = format!("echo x >> {0}; n=$(wc -l < {0}); echo try $n; [ $n -ge 3 ] || exit 75", counter.display());
    let commit = repository.push_pipeline(&format!(
        "language = 1\n[job.a.flaky]\ncheckout = false\nsteps = [\"\"\"{script}\"\"\"]\nretry = {{ times = 2, on = [\"exit:75\"] }}\n\
         [job.a.slow]\ncheckout = false\nsteps = [\"sleep 60\"]\ntimeout = \"200ms\"\nretry = {{ times = 1, on = [\"timeout\"] }}\n"
    ));
    let paused = |run: &Value| World::job(run, "a.flaky")["why"].as_str().is_some_and(|why| why.starts_with("it is tried again at"));
    world.run_of("tidegauge", &commit, "a pause", paused).await;
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!((state(&run, "a.flaky"), state(&run, "a.slow")), ("passed", "failed"));
    let states: Vec<Value> = attempts(&run, "a.flaky").iter().map(|attempt| attempt["state"].clone()).collect();
    assert_eq!(states, ["failed", "failed", "passed"]);
    assert_eq!(attempts(&run, "a.slow").len(), 2);
    let name = run["run"].as_str().expect("a name");
    for number in 1..=3 {
        let log = world.run(&["logs", name, "a.flaky", "--attempt", &number.to_string()]).await;
        assert!(log.out.starts_with(&format!("try {number}\n")), "{log:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn afterwards_runs_whatever_came_of_the_steps() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
    let after = "afterwards = { passed = [\"echo it passed\"], failed = [\"echo it failed\"], always = [\"echo always\"] }";
    let commit = repository.push_pipeline(&format!(
        "language = 1\n[defaults]\ncheckout = false\n[job.a.good]\nsteps = [\"true\"]\n{after}\n[job.a.bad]\nsteps = [\"exit 3\"]\n{after}\n\
         [job.a.slow]\nsteps = [\"sleep 60\"]\ntimeout = \"200ms\"\n{after}\n[job.a.stopped]\nsteps = [\"echo begun; sleep 60\"]\n{after}\n\
         [job.b.broken]\nsteps = [\"true\"]\nafterwards = {{ passed = [\"exit 4\"], always = [\"echo still\"] }}\n"
    ));
    let begun = |run: &Value| state(run, "a.stopped") == "running";
    let run = world.run_of("tidegauge", &commit, "a running job", begun).await;
    let name = run["run"].as_str().expect("a name").to_owned();
    until("its output", || async { world.log(&run, "a.stopped").await.contains("begun").then_some(()) }).await;
    assert_eq!(world.run(&["stop", &name, "a.stopped"]).await.code, 0);
    let run = world.verdict("tidegauge", &commit).await;
    for (job, wanted, said) in [
        ("a.good", "passed", "it passed\nalways\n"),
        ("a.bad", "failed", "it failed\nalways\nordotaxis: step `exit 3` exited with 3\n"),
        ("a.slow", "failed", "it failed\nalways\nordotaxis: step `sleep 60` went past the job's time limit of 200 ms\n"),
        ("a.stopped", "stopped", "begun\nalways\n"),
        ("b.broken", "failed", "still\nordotaxis: afterwards, step `exit 4` exited with 4\n"),
    ] {
        assert_eq!((state(&run, job), world.log(&run, job).await.as_str()), (wanted, said), "{job}");
    }
    let phases = &attempts(&run, "a.bad")[0]["phases"];
    assert_eq!((phases[0]["kind"].as_str(), phases[1]["kind"].as_str()), (Some("step"), Some("after")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_done_again_whole_or_in_part() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let fixed = world.folder.path().join("fixed");
    let commit = repository.push_pipeline(&format!(
        "language = 1\n[defaults]\ncheckout = false\n[job.a.good]\nsteps = [\"true\"]\n[job.a.bad]\nsteps = [\"test -e {}\"]\n[job.b.next]\nafter = [\"a.bad\"]\nsteps = [\"true\"]\n",
        fixed.display()
    ));
    let run = world.verdict("tidegauge", &commit).await;
    let name = run["run"].as_str().expect("a name").to_owned();
    assert_eq!(state(&run, "b.next"), "skipped");
    world.statuses_until("tidegauge", &commit, "failure").await;
    std::fs::write(&fixed, "").expect("a file");
    let again = world.run(&["again", &name, "--failed", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let run = world.json(&["show", &name]).await;
    assert_eq!((state(&run, "a.good"), state(&run, "a.bad"), state(&run, "b.next")), ("passed", "passed", "passed"));
    assert_eq!((attempts(&run, "a.good").len(), attempts(&run, "a.bad").len()), (1, 2));
    assert_eq!(World::job(&run, "a.bad")["started_by"], "owner");
    world.statuses_until("tidegauge", &commit, "success").await;
    let nothing = world.run(&["again", &name, "--failed"]).await;
    assert!(nothing.code == 0 && nothing.err.contains("tidegauge/1 ended well: nothing to do again"), "{nothing:?}");
    let one = world.run(&["again", &name, "--job", "a.good", "--watch"]).await;
    assert_eq!(one.code, 0, "{one:?}");
    let whole = world.json(&["again", &name, "--fresh"]).await;
    assert_eq!((whole["run"].as_str(), whole["again_of"].as_i64()), (Some("tidegauge/2"), Some(1)));
    assert_eq!(world.run(&["watch", "tidegauge/2"]).await.code, 0);
    let unknown = world.run(&["again", &name, "--job", "a.goood"]).await;
    assert!(unknown.code == 2 && unknown.err.contains("did you mean a.good?"), "{unknown:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_waits_for_a_person_and_keeps_who_it_was() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(
        "language = 1\norder = \"a > ship > after\"\n[starts]\npush = [\"main\"]\n[starts.inputs.station]\nchoices = [\"pier\", \"lock-gate\"]\ndefault = \"pier\"\n\
         [defaults]\ncheckout = false\n[job.a.b]\nsteps = [\"true\"]\n[job.ship.it]\nby_hand = true\nsteps = [\"echo to $ORDOTAXIS_INPUT_STATION\"]\n[job.after.note]\nsteps = [\"true\"]\n",
    );
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!((run["state"].as_str(), state(&run, "ship.it"), state(&run, "after.note")), (Some("passed"), "gated", "waiting"));
    let name = run["run"].as_str().expect("a name").to_owned();
    // Also after the service was away.
    world.kill_service();
    world.start_service();
    for (arguments, words) in [
        (vec!["start", &name, "--job", "a.b"], "cannot be started by hand"),
        (vec!["start", &name, "--job", "ship.it", "--input", "station=buoy"], "choices are: pier, lock-gate"),
        (vec!["start", &name, "--job", "ship.it", "--input", "staton=pier"], "did you mean `station`?"),
        (vec!["start", &name], "no job is named"),
        (vec!["start", &name, "--job", "ship.it", "--ref", "main"], "a run has its commit and pipeline already"),
    ] {
        let refused = world.run(&arguments).await;
        assert!(refused.code != 0 && refused.err.contains(words), "{arguments:?}: {refused:?}");
    }
    let started = world.run(&["start", &name, "--job", "ship.it", "--input", "station=lock-gate", "--watch"]).await;
    assert_eq!(started.code, 0, "{started:?}");
    let run = world.json(&["show", &name]).await;
    assert_eq!((state(&run, "ship.it"), state(&run, "after.note")), ("passed", "passed"));
    let job = World::job(&run, "ship.it");
    assert_eq!((job["started_by"].as_str(), job["inputs"]["station"].as_str()), (Some("owner"), Some("lock-gate")));
    assert_eq!(world.log(&run, "ship.it").await, "to lock-gate\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_newer_commit_overtakes_and_what_deploys_goes_on() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { slots: 3, ..RunnerOptions::default() }).await;
    let go = world.folder.path().join("go");
    let pipeline = |text: &str| {
        format!(
            "language = 1\n# {text}\n[defaults]\ncheckout = false\n[job.a.plain]\nsteps = [\"{0}\"]\n[job.a.ship]\ndeploys = \"pier\"\nsteps = [\"{0}\"]\n[job.b.later]\nafter = [\"a.plain\"]\nsteps = [\"true\"]\n",
            until_file(&go)
        )
    };
    let first = repository.push_pipeline(&pipeline("one"));
    world.run_of("tidegauge", &first, "both to run", |run| state(run, "a.plain") == "running" && state(run, "a.ship") == "running").await;
    let second = repository.push_pipeline(&pipeline("two"));
    let cut = world.run_of("tidegauge", &first, "the cut", |run| state(run, "a.plain") == "overtaken").await;
    assert_eq!((state(&cut, "a.ship"), state(&cut, "b.later")), ("running", "overtaken"));
    assert_eq!(World::job(&cut, "a.plain")["why"], "overtaken by tidegauge/2, a newer commit");
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &second).await["state"], "passed");
    let run = world.verdict("tidegauge", &first).await;
    assert_eq!((run["state"].as_str(), state(&run, "a.ship")), (Some("overtaken"), "passed"));
    assert!(run["sentence"].as_str().is_some_and(|words| words.starts_with("Overtaken")), "{}", run["sentence"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_turn_is_held_by_one_and_freed_when_its_runner_is_gone() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let first = world.runner(RunnerOptions { slots: 2, ..RunnerOptions::default() }).await;
    let (go, log) = (world.folder.path().join("go"), world.folder.path().join("turns"));
    let text = |number: u32| {
        format!(
            "language = 1\n# {number}\n[starts]\npush = [\"main\"]\novertake = false\n[job.a.ship]\ncheckout = false\nturn = \"ship-{{project}}\"\nretry = {{ times = 1, on = [\"lost\"] }}\nsteps = [\"echo in >> {0}; {1}; echo out >> {0}\"]\n",
            log.display(),
            until_file(&go)
        )
    };
    let commits = [repository.push_pipeline(&text(1)), repository.push_pipeline(&text(2))];
    world.run_of("tidegauge", &commits[0], "the first to run", |run| state(run, "a.ship") == "running").await;
    let held = |run: &Value| {
        World::job(run, "a.ship")["why"]
            .as_str()
            .is_some_and(|why| why.starts_with("its turn ship-tidegauge is held by tidegauge/1 a.ship since"))
    };
    let second = world.run_of("tidegauge", &commits[1], "the second to wait", held).await;
    let why = world.run(&["why", second["run"].as_str().expect("a name"), "a.ship"]).await;
    assert!(why.out.contains("its turn ship-tidegauge is held by tidegauge/1"), "{why:?}");
    let _other = world.runner(RunnerOptions::default()).await;
    first.kill();
    world.run_of("tidegauge", &commits[1], "the second's turn", |run| state(run, "a.ship") == "running").await;
    std::fs::write(&go, "").expect("a file");
    for commit in &commits {
        assert_eq!(world.verdict("tidegauge", commit).await["state"], "passed");
    }
    let turns = std::fs::read_to_string(&log).expect("the log");
    // The killed one never came out; from then on one after the other.
    let rest: Vec<&str> = turns.lines().skip(1).collect();
    assert_eq!(rest, ["in", "out", "in", "out"], "{turns}");
}

#[tokio::test(flavor = "multi_thread")]
async fn helpers_are_waited_for_watched_and_stopped_in_reverse() {
    let world = world().await;
    let repository = world.project("almanac").await;
    let _runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
    let order = world.folder.path().join("order");
    let helper = |name: &str, ready: &str, more: &str| {
        format!(
            "{{ name = \"{name}\", run = \"trap 'echo {name} >> {}; exit 0' TERM; {more} touch {name}.ready; echo {name} serves; while :; do sleep 0.02; done\", ready = \"{ready}\", within = \"20s\" }}",
            order.display()
        )
    };
    let commit = repository.push_pipeline(&format!(
        "language = 1\n[defaults]\ncheckout = false\n\
         [job.a.good]\nbeside = [{}, {}]\nsteps = [\"ls one.ready two.ready; echo probed\"]\n\
         [job.a.never]\nbeside = [{{ name = \"gauge\", run = \"echo warming up; sleep 60\", ready = \"tcp:1\", within = \"300ms\" }}]\nsteps = [\"true\"]\n\
         [job.a.dies]\nbeside = [{{ name = \"gauge\", run = \"echo serving; sleep 0.3; echo out of salt; exit 5\" }}]\nsteps = [\"sleep 60\"]\n\
         [job.a.unborn]\nbeside = [{{ name = \"gauge\", run = \"echo no port; exit 6\", ready = \"tcp:1\" }}]\nsteps = [\"true\"]\n",
        helper("one", "test -e one.ready", "sleep 0.2;"),
        helper("two", "test -e two.ready", "")
    ));
    let run = world.verdict("almanac", &commit).await;
    assert_eq!(state(&run, "a.good"), "passed", "{run}");
    assert_eq!(std::fs::read_to_string(&order).expect("the order"), "two\none\n");
    let name = run["run"].as_str().expect("a name");
    let own = world.run(&["logs", name, "a.good", "--beside", "one"]).await;
    assert!(own.out.starts_with("one serves\n"), "{own:?}");
    assert_eq!(world.log(&run, "a.good").await, "one.ready\ntwo.ready\nprobed\n");
    for (job, why) in [
        ("a.never", "helper gauge was not ready within 300 ms (tcp:1); its last words: warming up"),
        ("a.dies", "helper gauge exited with 5; its last words: serving / out of salt, while step `sleep 60` ran"),
        ("a.unborn", "helper gauge exited with 6; its last words: no port; it was not ready"),
    ] {
        assert_eq!(World::job(&run, job)["why"], why);
    }
    let kinds: Vec<Value> =
        attempts(&run, "a.good")[0]["phases"].as_array().into_iter().flatten().map(|phase| phase["kind"].clone()).collect();
    assert_eq!(kinds, ["beside", "beside", "step"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn copies_share_the_tests_by_past_durations() {
    let world = world().await;
    let repository = world.project("almanac").await;
    let _runner = world.runner(RunnerOptions { slots: 3, ..RunnerOptions::default() }).await;
    // Durations as a test runner would report them: the last file takes as long as the others together.
    let script = "files=$(ordotaxis share t/a t/b t/c t/d); echo $files; echo '<testsuites>' > out.xml; \
        for file in $files; do case $file in t/d) time=3;; *) time=1;; esac; echo \"<testsuite name='$file'><testcase time='$time'/></testsuite>\" >> out.xml; done; echo '</testsuites>' >> out.xml";
    let pipeline = |number: u32| {
        format!(
            "language = 1\n# {number}\n[job.t.unit]\ncheckout = false\nsplit = {{ into = 2 }}\nreports = {{ junit = [\"*.xml\"] }}\nsteps = [\"\"\"{script}\"\"\"]\n"
        )
    };
    let shares = |run: Value| {
        let world = &world;
        async move { [world.log(&run, "t.unit[1-of-2]").await, world.log(&run, "t.unit[2-of-2]").await] }
    };
    let first = repository.push_pipeline(&pipeline(1));
    assert_eq!(
        shares(world.verdict("almanac", &first).await).await,
        ["t/a t/c\n", "t/b t/d\n"].map(|line| line.to_owned() + "ordotaxis: 2 tests: 2 passed\n"),
        "nothing is known yet"
    );
    let second = repository.push_pipeline(&pipeline(2));
    assert_eq!(
        shares(world.verdict("almanac", &second).await).await,
        ["t/d\nordotaxis: 1 tests: 1 passed\n", "t/a t/b t/c\nordotaxis: 3 tests: 3 passed\n"]
    );
    let plain = world.run(&["share", "x", "y"]).await;
    assert_eq!(plain.out, "x\ny\n", "outside of a job all is shared with nobody");
}

#[tokio::test(flavor = "multi_thread")]
async fn runners_offer_tools_drain_and_leave_after_one() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(
        "language = 1\n[defaults]\ncheckout = false\n[job.a.made]\ntools = { make = \">=3\", tideflash = \"2\" }\nsteps = [\"tideflash\"]\n[job.a.odd]\ntools = { make = \">=99\" }\nsteps = [\"true\"]\n",
    );
    let tool = world.folder.path().join("tools");
    std::fs::create_dir_all(&tool).expect("a folder");
    std::fs::write(tool.join("tideflash"), "#!/bin/sh\necho tideflash 2.7\n").expect("a tool");
    std::fs::set_permissions(tool.join("tideflash"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("it can be run");
    let config = format!("labels = [\"quay\"]\n[[tool]]\nname = \"tideflash\"\nfolder = \"{}\"\n", tool.display());
    let runner = world.runner(RunnerOptions { config: Some(&config), labels: &["quay", "pier"], ..RunnerOptions::default() }).await;
    let done = |run: &Value| {
        state(run, "a.made") == "passed"
            && World::job(run, "a.odd")["why"]
                .as_str()
                .is_some_and(|why| why.starts_with("no connected runner offers make >=99; there is make "))
    };
    let run = world.run_of("tidegauge", &commit, "the job with its tool", done).await;
    assert_eq!(world.log(&run, "a.made").await, "tideflash 2.7\n");
    let listed = world.json(&["runner", "list"]).await;
    let tools: Vec<&str> = listed[0]["tools"].as_array().into_iter().flatten().filter_map(|tool| tool["name"].as_str()).collect();
    assert!(tools.contains(&"make") && tools.contains(&"tideflash"), "{listed}");
    assert!(
        listed[0]["cores"].as_u64() > Some(0)
            && listed[0]["labels"].as_array().is_some_and(|labels| labels.contains(&"quay".into()) && !labels.contains(&"pier".into())),
        "{listed}"
    );
    assert_eq!(world.run(&["stop", run["run"].as_str().expect("a name")]).await.code, 0);

    assert_eq!(world.run(&["runner", "drain", "runner-1"]).await.code, 0);
    let unknown = world.run(&["runner", "drain", "runer-1"]).await;
    assert!(unknown.code == 2 && unknown.err.contains("did you mean runner-1?"), "{unknown:?}");
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"true\"]\n");
    let drained = |run: &Value| {
        World::job(run, "a.b")["why"].as_str().is_some_and(|why| why.starts_with("runner-1, the only runner that fits, is draining"))
    };
    world.run_of("tidegauge", &commit, "the drained runner to be told", drained).await;
    let table = world.run(&["runner", "list"]).await;
    assert!(table.out.contains("draining"), "{table:?}");
    assert_eq!(world.run(&["runner", "drain", "runner-1", "--undo"]).await.code, 0);
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    drop(runner);

    let mut once = world.runner(RunnerOptions { once: true, ..RunnerOptions::default() }).await;
    let commit = repository.push_pipeline(
        "language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"echo one\"]\n[job.a.c]\ncheckout = false\nsteps = [\"echo two\"]\n",
    );
    let one_done = |run: &Value| ["a.b", "a.c"].iter().filter(|job| state(run, job) == "passed").count() == 1;
    world.run_of("tidegauge", &commit, "one job to be done", one_done).await;
    assert!(once.ended(ordotaxis_testbed::PATIENCE).is_some_and(|status| status.success()), "{}", once.said());
    let _more = world.runner(RunnerOptions::default()).await;
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_projects_share_one_runner_in_turns() {
    let world = world().await;
    let (big, small) = (world.project("tidegauge").await, world.project("almanac").await);
    let jobs = |count: usize| (0..count).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"true\"]\n")).collect::<String>();
    let big = big.push_pipeline(&format!("language = 1\n{}", jobs(40)));
    world.run_of("tidegauge", &big, "the queue", |run| state(run, "a.j39") == "queued").await;
    let small = small.push_pipeline(&format!("language = 1\n{}", jobs(3)));
    world.run_of("almanac", &small, "the queue", |run| state(run, "a.j2") == "queued").await;
    let _runner = world.runner(RunnerOptions { slots: 1, ..RunnerOptions::default() }).await;
    let small = world.verdict("almanac", &small).await;
    let big = world.verdict("tidegauge", &big).await;
    let ended = |run: &Value, n: usize| World::job(run, &format!("a.j{n}"))["since"].as_str().map(str::to_owned);
    let last_small = (0..3).filter_map(|n| ended(&small, n)).max();
    let before = (0..40).filter(|n| ended(&big, *n) < last_small).count();
    assert!(before <= 6, "{before} of the large run went before the small one's third");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_is_read_by_step_by_time_and_by_what_stands_in_it() {
    let world = ordotaxis_testbed::World::start_with(super::ORDOTAXIS, "lease = \"2s\"\nbeat = \"300ms\"\nlog_limit_mib = 1\n").await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline(
        "language = 1\n[defaults]\ncheckout = false\n\
         [job.a.b]\nsteps = [{ name = \"rise\", run = \"echo low; echo high water\" }, { name = \"wait\", run = \"sleep 1.5; echo late\" }, { name = \"fall\", run = \"echo low water; printf open\" }]\n\
         [job.a.much]\nsteps = [\"seq 1000000\"]\n",
    );
    let run = world.verdict("tidegauge", &commit).await;
    let name = run["run"].as_str().expect("a name");
    let logs = |more: &'static [&'static str]| {
        let world = &world;
        async move { world.run(&[&["logs", name, "a.b"], more].concat()).await }
    };
    for (more, said) in [
        (&["--step", "rise"][..], "low\nhigh water\n"),
        (&["--step", "fall"], "low water\nopen"),
        (&["--grep", "w.t?er$"], "high water\nlow water\n"),
        (&["--step", "rise", "--grep", "^low"], "low\n"),
        (&["--follow"], "low\nhigh water\nlate\nlow water\nopen"),
        (&["--follow", "--grep", "e"], "high water\nlate\nlow water\nopen"),
        (&["--since", "2000-01-01T00:00:00Z"], "low\nhigh water\nlate\nlow water\nopen"),
        (&["--since", "0s"], ""),
    ] {
        assert_eq!(logs(more).await.out, said, "{more:?}");
    }
    // Between the two outputs lies the pause: each line has the time it was printed at.
    let phases = attempts(&run, "a.b")[0]["phases"].clone();
    let begun: jiff::Timestamp = phases[1]["started_at"].as_str().and_then(|text| text.parse().ok()).expect("a time");
    // A step can end in the millisecond in which the next begins.
    let late = (begun + std::time::Duration::from_millis(500)).to_string();
    let since = world.run(&["logs", name, "a.b", "--since", &late]).await;
    assert_eq!(since.out, "late\nlow water\nopen");
    let times = logs(&["--times"]).await;
    let clock = times.out.lines().next().and_then(|line| line.split(' ').next()).unwrap_or_default().to_owned();
    assert!(clock.len() == 12 && clock.matches(':').count() == 2, "{times:?}");
    for (more, words) in [
        (&["--step", "flood"][..], "a.b has no step flood"),
        (&["--grep", "("], "--grep is not a regular expression"),
        (&["--since", "soon"], "--since says no time: soon"),
    ] {
        let refused = logs(more).await;
        assert!(refused.code == 2 && refused.err.contains(words), "{refused:?}");
    }
    let much = world.log(&run, "a.much").await;
    assert!(
        much.len() < (1 << 20) + 200 && much.ends_with("ordotaxis: the log has reached its limit of 1.0 MiB; what follows is left out\n"),
        "{}",
        &much[much.len() - 200..]
    );
    assert_eq!(World::job(&run, "a.much")["state"], "passed");
}
