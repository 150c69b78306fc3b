//! What is kept from run to run: artifacts, caches, results that are taken over; through the client, HTTP and real files.

use super::{world, world_with};
use ordotaxis_testbed::{ObjectStorage, RunnerOptions, World, until};
use reqwest::Method;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;

fn run_name(run: &Value) -> &str {
    run["run"].as_str().expect("a run")
}

const CACHED: &str = "language = 1\n[job.build.gauge]\nsteps = [\"test -d obj && cat obj/* || true\", \
    \"mkdir -p obj && echo $ORDOTAXIS_COMMIT > obj/made && ln -sf made obj/latest\"]\n\
    [[job.build.gauge.cache]]\npaths = [\"obj\"]\nkey = \"obj-{hash:src/**}\"\nelse = [\"obj-\"]\n";

#[tokio::test(flavor = "multi_thread")]
async fn a_cache_is_saved_once_restored_exactly_or_nearly_listed_and_dropped() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    repository.write("src/a.c", "int a;\n");
    let first = world.verdict("tidegauge", &repository.push_pipeline(CACHED)).await;
    assert_eq!(first["state"], "passed", "{first}");
    let used = |run: &Value| World::job(run, "build.gauge")["attempts"][0]["caches"][0].clone();
    let cache = used(&first);
    assert_eq!((&cache["restored"], &cache["saved"], &cache["saved_files"]), (&Value::Null, &Value::from(true), &Value::from(2)));
    // The same key: restored, and not saved again.
    repository.write("README", "more\n");
    let commit = repository.commit("Words");
    repository.push();
    let second = world.verdict("tidegauge", &commit).await;
    let cache = used(&second);
    assert_eq!((&cache["restored"], &cache["from"], &cache["saved"]), (&cache["key"], &Value::from("tidegauge/1"), &Value::from(false)));
    assert!(world.log(&second, "build.gauge").await.contains(first["commit"].as_str().expect("an id")), "the file came back");
    // Another key: the newest of the beginning; on a runner that has nothing yet.
    drop(runner);
    let _other = world.runner(RunnerOptions::default()).await;
    repository.write("src/a.c", "int b;\n");
    let commit = repository.commit("Code");
    repository.push();
    let third = world.verdict("tidegauge", &commit).await;
    let cache = used(&third);
    assert_eq!((&cache["from"], &cache["saved"]), (&Value::from("tidegauge/1"), &Value::from(true)), "{cache}");
    assert!(cache["restored"] != cache["key"] && cache["fetched_bytes"].as_u64() > Some(0), "{cache}");
    let listed = world.json(&["cache", "list", "tidegauge"]).await;
    assert_eq!(listed.as_array().map(Vec::len), Some(2), "{listed}");
    let key = listed[0]["key"].as_str().expect("a key").to_owned();
    let shown = world.run(&["cache", "show", "tidegauge", &key, "obj"]).await;
    assert!(shown.out.contains("obj/latest -> made") && shown.out.contains("0644"), "{shown:?}");
    // Asked for fresh, nothing is restored.
    let again = world.run(&["again", run_name(&third), "--fresh", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let fresh = world.json(&["show", "tidegauge/4"]).await;
    assert_eq!(used(&fresh)["restored"], Value::Null, "{fresh}");
    let dropped = world.run(&["cache", "drop", "tidegauge", "obj-", "--beginning"]).await;
    assert!(dropped.out.contains("dropped 2 entries"), "{dropped:?}");
    let wrong = world.run(&["cache", "drop", "tidegauge", "obj-x"]).await;
    assert!(wrong.code == 2 && wrong.err.contains("has no cache obj-x"), "{wrong:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_from_outside_reads_caches_and_results_and_leaves_none() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    assert_eq!(world.run(&["project", "outside", "tidegauge", "run"]).await.code, 0);
    let _runner = world.runner(RunnerOptions { outside: "yes", ..RunnerOptions::default() }).await;
    let pipeline = format!("{CACHED}[job.pack.bundle]\nsteps = [\"cat src/a.c\"]\nreuse = {{ inputs = [\"src/**\"] }}\n");
    let pipeline = pipeline.replace("language = 1\n", "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n");
    repository.write("src/a.c", "int a;\n");
    let first = world.verdict("tidegauge", &repository.push_pipeline(&pipeline)).await;
    assert_eq!(first["state"], "passed", "{first}");
    let outside = async |text: &str| {
        repository.git(&["checkout", "--quiet", "-B", "topic/outside", "main"]);
        repository.write("src/a.c", text);
        let commit = repository.commit("From outside");
        repository.git(&["push", "--quiet", "--force", "origin", "HEAD:refs/heads/topic/elsewhere"]);
        let _ = commit;
        world.propose("tidegauge", "topic/elsewhere", true).await;
        until("the proposal's run", || async {
            let runs: Value = world.http(Method::GET, "/api/v1/runs?project=tidegauge").send().await.ok()?.json().await.ok()?;
            let run = runs.as_array()?.iter().find(|run| run["occasion"]["event"] == "proposal" && !run["ended_at"].is_null())?;
            Some(world.json(&["show", run_name(run)]).await)
        })
        .await
    };
    let run = outside("int evil;\n").await;
    let cache = &World::job(&run, "build.gauge")["attempts"][0]["caches"][0];
    assert_eq!((&cache["from"], &cache["saved"]), (&Value::from("tidegauge/1"), &Value::from(false)), "{run}");
    assert!(cache["notices"][0].as_str().is_some_and(|notice| notice.contains("only reads")), "{cache}");
    assert_eq!(World::job(&run, "pack.bundle")["state"], "passed");
    // The same files on main: what the outsider's run made of them is not taken over.
    repository.git(&["checkout", "--quiet", "main"]);
    repository.write("src/a.c", "int evil;\n");
    let commit = repository.commit("The same, ours");
    repository.push();
    let ours = world.verdict("tidegauge", &commit).await;
    let job = World::job(&ours, "pack.bundle");
    assert_eq!(job["state"], "passed", "{ours}");
    assert_eq!(job["not_reused"], "input src/a.c is another since tidegauge/1", "{job}");
}

/// Why a job was not reused is still known when the service was started again while it ran.
#[tokio::test(flavor = "multi_thread")]
async fn a_restart_forgets_nothing_of_what_was_looked_for() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let step = format!("while ! [ -e {} ]; do sleep 0.05; done", go.display());
    let pipeline = format!("language = 1\n[job.a.b]\nsteps = [\"{step}\"]\nreuse = {{ inputs = [\"src/**\"] }}\n");
    repository.write("src/a.c", "int a;\n");
    let commit = repository.push_pipeline(&pipeline);
    world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.b")["state"] == "running").await;
    world.kill_service();
    world.start_service();
    std::fs::write(&go, "").expect("a file");
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(World::job(&run, "a.b")["not_reused"], "no earlier run has passed it", "{run}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_that_save_one_key_both_pass_and_one_wins() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let job = |name: &str| {
        format!(
            "[job.a.{name}]\nsteps = [\"mkdir obj; echo {name} > obj/who; sleep 0.3\"]\n[[job.a.{name}.cache]]\npaths = [\"obj\"]\nkey = \"one\"\n"
        )
    };
    let run = world.verdict("tidegauge", &repository.push_pipeline(&format!("language = 1\n{}{}", job("x"), job("y")))).await;
    assert_eq!(run["state"], "passed", "{run}");
    let saved = ["a.x", "a.y"].map(|id| World::job(&run, id)["attempts"][0]["caches"][0]["saved"] == true);
    assert!(saved[0] != saved[1], "{run}");
    assert_eq!(world.json(&["cache", "list", "tidegauge"]).await.as_array().map(Vec::len), Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn artifacts_keep_modes_and_links_and_come_whole_or_one_by_one() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let make = "mkdir -p out/deep && printf '#!/bin/sh\\necho tide\\n' > out/run && chmod 755 out/run && ln -s run out/link && \
        echo '<h1>Tide table</h1>' > out/deep/index.html && touch -d 2001-02-03T04:05:06Z out/run";
    let pipeline = format!(
        "language = 1\n[job.pack.it]\nsteps = ['''{make}''']\ngives = {{ fw = {{ paths = [\"out\"], keep = \"90d\" }}, none = {{ paths = [\"x\"], none = \"ignore\" }}, \
         why = {{ paths = [\"out/run\"], upon = [\"failed\"] }} }}\n\
         [job.test.it]\ntakes = [\"pack.it/fw\"]\nsteps = [\"./out/link\", \"stat -c %Y out/run\"]\n\
         [job.test.there]\ntakes = [{{ from = \"pack.it/fw\", to = \"in\" }}]\ncheckout = false\nsteps = [\"in/out/run && echo more >> in/out/run\"]\n\
         [job.test.bad]\nsteps = [\"echo reason > log.txt; false\"]\nmay_fail = true\ngives = {{ log = {{ paths = [\"log.txt\"], upon = [\"failed\", \"passed\"] }} }}\n"
    );
    let run = world.verdict("tidegauge", &repository.push_pipeline(&pipeline)).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(world.log(&run, "test.it").await, "tide\n981173106\n");
    let listed = world.json(&["artifacts", "tidegauge"]).await;
    let names: Vec<&str> = listed.as_array().into_iter().flatten().filter_map(|one| one["name"].as_str()).collect();
    assert_eq!(names, ["fw", "log"]);
    let to = world.folder.path().join("got");
    let folder = to.display().to_string();
    let got = world.run(&["artifacts", "tidegauge", "get", "fw", "--to", &folder]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let meta = std::fs::metadata(to.join("out/run")).expect("the file");
    assert_eq!(meta.permissions().mode() & 0o777, 0o755);
    assert_eq!(std::fs::read_link(to.join("out/link")).expect("a link"), std::path::Path::new("run"));
    // The digest is what a standard tool makes of the files.
    let command = "find * \\( -type f -o -type l \\) | LC_ALL=C sort | while read f; do if [ -L $f ]; then echo \"link $(readlink $f)  $f\"; else sha256sum $f; fi; done | sha256sum";
    let sum = std::process::Command::new("sh").args(["-c", command]).current_dir(&to).output().expect("sha256sum");
    let sum = String::from_utf8_lossy(&sum.stdout).split_whitespace().next().unwrap_or_default().to_owned();
    assert_eq!(listed[0]["digest"], format!("sha256:{sum}"));
    for (form, magic) in [("zip", &b"PK"[..]), ("tar.zst", &[0x28, 0xb5, 0x2f, 0xfd])] {
        let ran = world.run(&["artifacts", "tidegauge", "get", "pack.it/fw", "--archive", form, "--to", &folder]).await;
        assert_eq!(ran.code, 0, "{ran:?}");
        let bytes = std::fs::read(to.join(format!("pack.it-fw.{form}"))).expect("the archive");
        assert!(bytes.starts_with(magic), "{form}");
    }
    let one = world.run(&["artifacts", "tidegauge", "get", "fw", "--file", "out/deep/index.html", "--to", &folder]).await;
    assert_eq!((one.code, std::fs::read_to_string(to.join("index.html")).expect("the file").as_str()), (0, "<h1>Tide table</h1>\n"));
    let files = world.run(&["artifacts", "tidegauge", "files", "fw", "out"]).await;
    assert!(files.out.contains("deep/") && files.out.contains("out/link -> run") && files.out.contains("0755"), "{files:?}");
    let wrong = world.run(&["artifacts", "tidegauge", "get", "fw", "--file", "out/rum"]).await;
    assert!(wrong.code == 2 && wrong.err.contains("did you mean out/run?"), "{wrong:?}");
    assert!(world.run(&["artifacts", "tidegauge", "pin", "fw"]).await.out.contains("kept for good"));
    assert!(world.run(&["artifacts", "tidegauge"]).await.out.contains("for good, pinned by owner"));
    // As a page of its own it has no session and no power here.
    let shown: Value = {
        let path = "/api/v1/runs/tidegauge/1/artifacts/pack.it/fw/show";
        world.http(Method::POST, path).send().await.expect("an answer").json().await.expect("JSON")
    };
    let address = format!("{}{}out/deep/index.html", world.url, shown["url"].as_str().expect("an address"));
    let page = reqwest::get(&address).await.expect("an answer");
    let policy = page.headers()["content-security-policy"].to_str().expect("text").to_owned();
    assert!(policy.starts_with("sandbox allow-scripts") && !policy.contains("allow-same-origin"), "{policy}");
    assert_eq!(page.text().await.expect("text"), "<h1>Tide table</h1>\n");
    assert_eq!(reqwest::get(format!("{}/view/oxv_none/x", world.url)).await.expect("an answer").status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn results_are_taken_over_and_what_is_not_says_why() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[env]\nUNITS = \"mm\"\n[job.build.gauge]\nsteps = [\"mkdir out; cat src/a.c > out/fw; echo 7 > $ORDOTAXIS_FACTS/size\"]\n\
        gives = { fw = [\"out/fw\"] }\nfacts = [\"size\"]\nreuse = { inputs = [\"src/**\"] }\n\
        [job.pack.bundle]\ntakes = [\"build.gauge/fw\"]\nsteps = [\"cat out/fw\"]\nreuse = { inputs = [\"NOTICE\"] }\nenv = { SIZE = \"{fact.build.gauge.size}\" }\n\
        [job.ship.it]\nafter = [\"pack.bundle\"]\ntakes = [\"build.gauge/fw\"]\nsteps = [\"cat out/fw; echo size $SIZE\"]\nenv = { SIZE = \"{fact.build.gauge.size}\" }\n\
        if = 'fact.build.gauge.size == \"7\"'\n";
    repository.write("src/a.c", "int a;\n");
    let first = world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    assert_eq!(first["state"], "passed", "{first}");
    assert_eq!(World::job(&first, "build.gauge")["not_reused"], "no earlier run has passed it");
    assert_eq!(World::job(&first, "build.gauge")["facts"]["size"], "7");
    let push = async |path: &str, text: &str| {
        repository.write(path, text);
        let commit = repository.commit(path);
        repository.push();
        world.verdict("tidegauge", &commit).await
    };
    let second = push("README", "words\n").await;
    for id in ["build.gauge", "pack.bundle"] {
        let job = World::job(&second, id);
        assert_eq!((&job["state"], &job["reused_from"]), (&Value::from("reused"), &Value::from("tidegauge/1")), "{second}");
        let log = world.run(&["logs", "tidegauge/2", job["id"].as_str().unwrap_or_default()]).await;
        assert!(log.code == 0 && log.out.is_empty() && log.err.contains("`ordotaxis logs tidegauge/1 '"), "{log:?}");
    }
    assert_eq!(world.log(&second, "ship.it").await, "int a;\nsize 7\n");
    let got = world.run(&["artifacts", "tidegauge/2", "get", "fw", "--to", "second"]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let third = push("src/a.c", "int b;\n").await;
    assert_eq!(World::job(&third, "build.gauge")["not_reused"], "input src/a.c is another since tidegauge/1", "{third}");
    assert_eq!(World::job(&third, "pack.bundle")["not_reused"], "what it takes from build.gauge/fw is another since tidegauge/1");
    // Put back: the first run's result again, though it is not the newest.
    let fourth = push("src/a.c", "int a;\n").await;
    assert_eq!(World::job(&fourth, "build.gauge")["reused_from"], "tidegauge/1", "{fourth}");
    let again = world.run(&["again", run_name(&fourth), "--fresh", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let fresh = world.json(&["show", "tidegauge/5"]).await;
    assert_eq!(World::job(&fresh, "build.gauge")["state"], "passed", "{fresh}");
    let other = push("ordotaxis.toml", &pipeline.replace("\"mm\"", "\"cm\"")).await;
    assert_eq!(World::job(&other, "build.gauge")["not_reused"], "variable UNITS is another since tidegauge/5", "{other}");
}

/// What was pinned when the service read it back, then let go and swept, is not taken over.
#[tokio::test(flavor = "multi_thread")]
async fn a_result_is_not_taken_over_once_what_it_gave_was_let_go() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.build.gauge]\nsteps = [\"cat src/a.c > fw\"]\ngives = { fw = { paths = [\"fw\"], keep = \"1s\" } }\n\
        reuse = { inputs = [\"src/**\"] }\n[job.pack.it]\ntakes = [\"build.gauge/fw\"]\nsteps = [\"cat fw\"]\n";
    repository.write("src/a.c", "int a;\n");
    let first = world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    assert_eq!(first["state"], "passed", "{first}");
    let pin = world.run(&["artifacts", "tidegauge/1", "pin", "fw"]).await;
    assert_eq!(pin.code, 0, "{pin:?}");
    drop(runner);
    world.kill_service();
    world.start_service();
    let _runner = world.runner(RunnerOptions::default()).await;
    let push = async |text: &str| {
        repository.write("README", text);
        let commit = repository.commit(text);
        repository.push();
        world.verdict("tidegauge", &commit).await
    };
    assert_eq!(World::job(&push("pinned").await, "build.gauge")["reused_from"], "tidegauge/1");
    let unpin = world.run(&["artifacts", "tidegauge/1", "pin", "fw", "--undo"]).await;
    assert_eq!(unpin.code, 0, "{unpin:?}");
    until("its time is over", || async {
        let swept = world.run(&["store", "sweep", "--apply"]).await;
        assert_eq!(swept.code, 0, "{swept:?}");
        let listed = world.run(&["artifacts", "tidegauge/1"]).await;
        (!listed.out.contains("fw")).then_some(())
    })
    .await;
    let third = push("let go").await;
    assert_eq!(third["state"], "passed", "{third}");
    assert_eq!(World::job(&third, "build.gauge")["not_reused"], "what it gave in tidegauge/1 is not kept long enough any more", "{third}");
    // Pinned while the service runs, it is taken over again.
    let pin = world.run(&["artifacts", "tidegauge/3", "pin", "fw"]).await;
    assert_eq!(pin.code, 0, "{pin:?}");
    assert_eq!(World::job(&push("pinned anew").await, "build.gauge")["reused_from"], "tidegauge/3");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_store_is_verified_and_swept_and_survives_kills() {
    let mut world = world_with("lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"2s\"\nkeep = \"1s\"\n").await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.a.give]\nsteps = [\"echo a word\", \"echo $ORDOTAXIS_COMMIT > fw\"]\ngives = { fw = [\"fw\"] }\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    assert_eq!(run["state"], "passed", "{run}");
    world.kill_service();
    world.start_service();
    let sound = world.run(&["store", "verify"]).await;
    assert!(sound.code == 0 && sound.out.contains("all of it sound"), "{sound:?}");
    // Logs of jobs that ended have moved into the store, and read as before.
    assert_eq!(std::fs::read_dir(world.folder.path().join("service/logs")).expect("a folder").count(), 0);
    assert_eq!(world.log(&run, "a.give").await.lines().next(), Some("a word"), "{run}");
    // Past its time: shown first, then taken away. Its pack is young, and stays for now.
    let shown = until("its time to be over", || async {
        let shown = world.run(&["store", "sweep"]).await;
        shown.out.contains("tidegauge/1 fw").then_some(shown)
    })
    .await;
    assert!(shown.out.contains("would go"), "{shown:?}");
    assert_eq!(world.json(&["artifacts", "tidegauge"]).await.as_array().map(Vec::len), Some(1));
    let done = world.run(&["store", "sweep", "--apply"]).await;
    assert!(done.out.contains("swept away"), "{done:?}");
    assert_eq!(world.json(&["artifacts", "tidegauge"]).await.as_array().map(Vec::len), Some(0));
    // A damaged pack: found, told, and the next run sends again what was lost.
    let commit = repository.push_pipeline(&format!("{pipeline}# again\n"));
    world.verdict("tidegauge", &commit).await;
    let mut packs = Vec::new();
    let mut open = vec![world.folder.path().join("service/blobs/packs")];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
            if entry.path().is_dir() { open.push(entry.path()) } else { packs.push(entry.path()) }
        }
    }
    for path in &packs {
        let bytes = std::fs::read(path).expect("a pack");
        std::fs::write(path, &bytes[..bytes.len() / 2]).expect("a pack");
    }
    let found = world.run(&["store", "verify"]).await;
    assert!(found.code == 1 && found.out.contains("not all of it sound") && found.out.contains("artifact fw of tidegauge/2"), "{found:?}");
    assert!(found.out.contains("log of job 1 of tidegauge/2"), "{found:?}");
    let again = world.run(&["again", "tidegauge/2", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let got = world.run(&["artifacts", "tidegauge/3", "get", "fw", "--to", "mended"]).await;
    assert_eq!(got.code, 0, "{got:?}");
    assert_eq!(std::fs::read_to_string(world.folder.path().join("mended/fw")).expect("the file").trim(), commit);
}

#[tokio::test(flavor = "multi_thread")]
async fn object_storage_serves_as_well_and_when_it_is_away_jobs_say_so() {
    let folder = tempfile::tempdir().expect("a folder");
    let place = folder.path().join("storage");
    let mut objects = ObjectStorage::start(&place);
    std::fs::write(place.join("key"), [9; 32]).expect("a file");
    let config = format!(
        "lease = \"5s\"\nbeat = \"300ms\"\ndrain = \"2s\"\n[store]\n{}key_file = \"{}/key\"\n",
        objects.settings(),
        place.display()
    );
    let mut world = World::start_in(super::ORDOTAXIS, Box::leak(config.into_boxed_str()), folder).await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let secret = "the drift of the outer buoy";
    let pipeline = format!(
        "language = 1\n[job.a.give]\nsteps = [\"echo {secret} > fw\"]\ngives = {{ fw = [\"fw\"] }}\n[job.b.take]\ntakes = [\"a.give/fw\"]\nsteps = [\"cat fw\"]\n\
         [[job.a.give.cache]]\npaths = [\"fw\"]\nkey = \"fw\"\n"
    );
    let run = world.verdict("tidegauge", &repository.push_pipeline(&pipeline)).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(world.log(&run, "b.take").await.trim(), secret);
    let held = std::process::Command::new("grep").args(["-rl", "outer buoy"]).arg(place.join("objects")).output().expect("grep");
    assert_eq!(String::from_utf8_lossy(&held.stdout), "", "nothing readable lies in the bucket");
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"));
    let logs = world.folder.path().join("service/logs");
    let held = std::process::Command::new("grep").args(["-rl", "outer buoy"]).arg(place.join("objects")).arg(logs).output().expect("grep");
    assert_eq!(String::from_utf8_lossy(&held.stdout), "", "nor in logs that have ended");
    world.kill_service();
    world.start_service();
    assert_eq!(world.run(&["artifacts", "tidegauge", "get", "fw", "--to", "got"]).await.code, 0);
    assert_eq!(world.log(&run, "b.take").await.trim(), secret, "the log comes from the bucket");
    // Away: the cache is done without, the artifact is not.
    objects.go_away();
    let other = pipeline.replace(secret, "another text").replace("key = \"fw\"", "key = \"other\"");
    let run = world.verdict("tidegauge", &repository.push_pipeline(&other)).await;
    let job = World::job(&run, "a.give");
    assert_eq!(job["state"], "failed", "{run}");
    assert!(job["why"].as_str().is_some_and(|why| why.contains("artifact fw: the store cannot be reached or refuses")), "{job}");
    world.kill_service();
    world.start_service();
    let ran = world.run(&["artifacts", "tidegauge/1", "get", "fw", "--to", "away"]).await;
    assert!(ran.code == 3 && ran.err.contains("store cannot be reached"), "{ran:?}");
    let log = world.run(&["logs", "tidegauge/1", "b.take"]).await;
    assert!(log.code == 3 && log.err.contains("store cannot be reached"), "{log:?}");
    objects.come_back();
    let again = world.run(&["again", run_name(&run), "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"));
}

/// A runner gets of the store what the jobs that it holds may read: no other project's, whatever it names.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_fetches_only_what_its_job_may_read() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { slots: 2, ..Default::default() }).await;
    let go = world.folder.path().join("go");
    let gives = |what: &str| format!("[job.a.make]\nsteps = [\"echo {what} > {what}\"]\ngives = {{ {what} = [\"{what}\"] }}\n");
    let other = world.project("almanac").await;
    let theirs = world.verdict("almanac", &other.push_pipeline(&format!("language = 1\n{}", gives("tides")))).await;
    assert_eq!(theirs["state"], "passed", "{theirs}");
    let repository = world.project("tidegauge").await;
    let wait = format!("while test ! -e {}; do sleep 0.02; done", go.display());
    let pipeline = format!("language = 1\n{}[job.b.hold]\nafter = [\"a.make\"]\nsteps = [\"{wait}\"]\n", gives("fw"));
    let commit = repository.push_pipeline(&pipeline);
    world.run_of("tidegauge", &commit, "holding", |run| World::job(run, "b.hold")["state"] == "running").await;
    let records = ordotaxis_store::Records::open(&world.folder.path().join("service")).await.expect("the records");
    let mut trees = Vec::new();
    for run in [1, 2] {
        trees.extend(records.artifacts(run).await.expect("artifacts").into_iter().filter_map(|artifact| artifact.tree));
    }
    let [tides, fw] = trees.as_slice() else { panic!("two trees: {trees:?}") };
    let identity = std::fs::read_to_string(world.folder.path().join("runner-1/runner.toml")).expect("an identity");
    let credential =
        identity.lines().find_map(|line| line.strip_prefix("credential = ")).expect("a credential").trim_matches('"').to_owned();
    let bytes = |id: &str| (0..32).map(|at| u8::from_str_radix(&id[2 * at..2 * at + 2], 16).expect("a digit")).collect::<Vec<u8>>();
    let ask = async |attempt: &str, tree: &str, chunk: &str, credential: &str| {
        let url = format!("{}/runner/v1/attempts/{attempt}/trees/{tree}/chunks", world.url);
        let call = reqwest::Client::new().post(url).bearer_auth(credential).body(bytes(chunk));
        call.send().await.expect("an answer").status().as_u16()
    };
    for (attempt, tree, chunk, credential, status) in [
        ("2-1-1", fw, fw, credential.as_str(), 200),
        ("2-1-1", tides, tides, credential.as_str(), 404),
        ("2-1-1", fw, tides, credential.as_str(), 404),
        ("1-0-1", tides, tides, credential.as_str(), 409),
        ("2-1-2", fw, fw, credential.as_str(), 409),
        ("2-1-1", fw, fw, "oxr_another", 401),
    ] {
        assert_eq!(ask(attempt, tree, chunk, credential).await, status, "{attempt} {tree} {chunk}");
    }
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
}
