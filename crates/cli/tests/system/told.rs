//! What jobs tell beside files: tests over runs, coverage of what changed, findings, numbers and their gates; and what is
//! published to a real registry and by HTTP PUT.

use super::world;
use axum::Router;
use axum::body::Bytes;
use axum::http::{HeaderMap, StatusCode};
use axum::routing::put;
use ordotaxis_testbed::{Process, Repository, RunnerOptions, World, free_port};
use serde_json::{Value, json};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const TESTED: &str = "language = 1\norder = \"test > ship\"\n[stage.ship.gate]\ntests.failed = 0\n\
    [job.test.unit]\nsteps = [\"test ! -e fails\"]\nreports = { junit = [\"unit.xml\"] }\n\
    [job.ship.it]\nsteps = [\"true\"]\n";

fn unit(cases: &[(&str, bool)]) -> String {
    let case = |(name, passes): &(&str, bool)| match passes {
        true => format!("<testcase classname='gauge' name='{name}' time='0.01'/>"),
        false => format!(
            "<testcase classname='gauge' name='{name}' time='0.2'><failure message='{name} is 3 mm off'>at gauge.c:9</failure></testcase>"
        ),
    };
    format!("<testsuite name='unit'>{}</testsuite>", cases.iter().map(case).collect::<String>())
}

async fn push(world: &World, repository: &Repository, title: &str) -> Value {
    let commit = repository.commit(title);
    repository.push();
    world.verdict("tidegauge", &commit).await
}

#[tokio::test(flavor = "multi_thread")]
async fn new_failures_known_ones_and_what_was_fixed_are_told_apart() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("ordotaxis.toml", TESTED);
    repository.write("unit.xml", &unit(&[("datum", true), ("drift", true)]));
    let first = push(&world, &repository, "All is well").await;
    assert_eq!(first["state"], "passed", "{first}");
    assert_eq!(first["numbers"]["tests.total"], 2.0);
    repository.write("unit.xml", &unit(&[("datum", true), ("drift", false)]));
    repository.write("fails", "");
    let second = push(&world, &repository, "Drift").await;
    let sentence = second["sentence"].as_str().expect("a sentence");
    assert!(sentence.contains("step `test ! -e fails` exited with 1; 1 of 2 tests failed, first new: gauge > drift"), "{sentence}");
    let view = world.json(&["tests", "tidegauge/2"]).await;
    assert_eq!((&view["new"][0]["name"], &view["new"][0]["since"]), (&Value::from("drift"), &Value::from("tidegauge/2")), "{view}");
    assert_eq!(view["new"][0]["message"], "drift is 3 mm off\nat gauge.c:9");
    repository.write("unit.xml", &unit(&[("datum", false), ("drift", false)]));
    push(&world, &repository, "Worse").await;
    let printed = world.run(&["tests", "tidegauge"]).await.out;
    assert!(printed.contains("compared with tidegauge/2"), "{printed}");
    let at = |text: &str| printed.find(text).unwrap_or_else(|| panic!("{text} in {printed}"));
    assert!(at("new failures") < at("gauge > datum") && at("gauge > datum") < at("failed before, too") && at("since tidegauge/2") > 0);
    repository.git(&["rm", "--quiet", "fails"]);
    repository.write("unit.xml", &unit(&[("datum", true), ("drift", true)]));
    let fourth = push(&world, &repository, "Mended").await;
    assert_eq!(fourth["state"], "passed", "{fourth}");
    assert_eq!(world.json(&["tests", "tidegauge/4"]).await["fixed"].as_array().map(Vec::len), Some(2));
    let history = world.run(&["tests", "tidegauge", "--test", "gauge > drift"]).await.out;
    assert_eq!(history.lines().filter(|line| line.contains("tidegauge/")).count(), 4, "{history}");
    let compared = world.run(&["compare", "tidegauge/3", "tidegauge/4"]).await.out;
    for wanted in ["tests that ended otherwise", "gauge > datum", "failed  passed", "tests.failed", "test.unit"] {
        assert!(compared.contains(wanted), "{wanted}: {compared}");
    }
    let numbers = world.run(&["numbers", "tidegauge"]).await.out;
    assert!(numbers.contains("tests.failed") && numbers.contains("▁▅█▁"), "{numbers}");
    // The same commit once more with another end: it turns by itself.
    let steady = world.run(&["tests", "tidegauge", "--flaky"]).await;
    assert!(steady.err.contains("no test of tidegauge passed and failed"), "{steady:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_that_turns_by_itself_is_found() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let (good, bad) = (unit(&[("port", true), ("datum", true)]), unit(&[("port", false), ("datum", true)]));
    repository.write("good.xml", &good);
    repository.write("bad.xml", &bad);
    let pipeline = "language = 1\n[job.test.unit]\nsteps = [\"test $ORDOTAXIS_ATTEMPT -gt 1 && cp good.xml out.xml || { cp bad.xml out.xml; exit 1; }\"]\n\
        reports = { junit = [\"out.xml\"] }\nretry = { times = 1 }\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(pipeline)).await;
    assert_eq!(run["state"], "passed", "{run}");
    let view = world.json(&["tests", "tidegauge"]).await;
    assert_eq!((&view["failed"], &view["passed"]), (&Value::from(0), &Value::from(2)), "the last attempt counts: {view}");
    let flaky = world.json(&["tests", "tidegauge", "--flaky"]).await;
    assert_eq!(
        (&flaky[0]["name"], &flaky[0]["newest"], flaky.as_array().map(Vec::len)),
        (&Value::from("port"), &Value::from("tidegauge/1"), Some(1))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn coverage_findings_and_numbers_open_and_shut_a_gate() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\norder = \"test > ship\"\n[stage.ship.gate]\ncoverage.changed = \">= 80\"\nfindings.error = 0\nfact.test.unit.size = \"<= 100\"\n\
        [job.test.unit]\nsteps = [\"cp size $ORDOTAXIS_FACTS/size\"]\nreports = { lcov = [\"cover.info\"], sarif = [\"found.sarif\"] }\n\
        facts = [{ name = \"size\", number = true }]\n[job.ship.it]\nsteps = [\"true\"]\n";
    let sarif = |rules: &[&str]| {
        let result = |rule: &&str| format!("{{\"ruleId\":\"{rule}\",\"level\":\"error\",\"message\":{{\"text\":\"it drifts\"}}}}");
        format!("{{\"version\":\"2.1.0\",\"runs\":[{{\"results\":[{}]}}]}}", rules.iter().map(result).collect::<Vec<_>>().join(","))
    };
    repository.write("ordotaxis.toml", pipeline);
    repository.write("src/a.c", "one\ntwo\n");
    repository.write("cover.info", "SF:src/a.c\nDA:1,1\nDA:2,1\nend_of_record\n");
    repository.write("found.sarif", &sarif(&[]));
    repository.write("size", "90\n");
    let first = push(&world, &repository, "Small and covered").await;
    assert_eq!(first["state"], "passed", "{first}");
    assert_eq!((&first["numbers"]["coverage.lines"], &first["numbers"]["fact.test.unit.size"]), (&Value::from(100.0), &Value::from(90.0)));
    repository.write("src/a.c", "one\ntwo\nthree\nfour\n");
    repository.write("cover.info", "SF:src/a.c\nDA:1,1\nDA:2,1\nDA:3,1\nDA:4,0\nend_of_record\n");
    repository.write("found.sarif", &sarif(&["S1"]));
    repository.write("size", "100.5\n");
    let second = push(&world, &repository, "Larger").await;
    assert_eq!(second["state"], "failed", "{second}");
    let why = World::job(&second, "ship.it")["why"].as_str().expect("a sentence");
    for wanted in [
        "the gate of ship is shut: coverage.changed is 50, and must be >= 80, 30 too few",
        "findings.error is 1, and must be 0",
        "fact.test.unit.size is 100.5, and must be <= 100, 0.5 too many",
        "it last held in tidegauge/1",
        "shut since",
    ] {
        assert!(why.contains(wanted), "{wanted}: {why}");
    }
    assert!(second["sentence"].as_str().is_some_and(|sentence| sentence.contains("the gate of ship is shut")), "{second}");
    let found = world.run(&["findings", "tidegauge"]).await.out;
    assert!(found.contains("new") && found.contains("S1") && found.contains("it drifts"), "{found}");
    repository.write("size", "many\n");
    let third = push(&world, &repository, "No number").await;
    assert_eq!(World::job(&third, "test.unit")["why"], "fact size is not a number: \"many\"");
}

/// A real registry.
fn registry(world: &World) -> (Process, u16) {
    let port = free_port();
    let folder = world.folder.path().join("registry");
    std::fs::create_dir_all(&folder).expect("a folder");
    let config = format!(
        "version: 0.1\nstorage:\n  filesystem:\n    rootdirectory: {}\nhttp:\n  addr: 127.0.0.1:{port}\n  secret: salt\n",
        folder.display()
    );
    std::fs::write(folder.join("config.yml"), config).expect("a configuration");
    let mut command = Command::new("docker-registry");
    command.arg("serve").arg(folder.join("config.yml"));
    (Process::start(&mut command, world.folder.path(), "registry", "listening on"), port)
}

#[tokio::test(flavor = "multi_thread")]
async fn artifacts_go_to_a_registry_and_anywhere_by_put() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let (_registry, port) = registry(&world);
    let seen: Arc<Mutex<Vec<(String, Bytes)>>> = Arc::default();
    let taken = seen.clone();
    let take = move |headers: HeaderMap, body: Bytes| async move {
        let login = headers.get("authorization").and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
        let known = login == "Basic aW5lczpsb3cgd2F0ZXI=";
        taken.lock().expect("the list").push((login, body));
        if known { StatusCode::CREATED } else { StatusCode::UNAUTHORIZED }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let shelf = listener.local_addr().expect("an address");
    let router = Router::new().route("/shelf/{*path}", put(take));
    tokio::spawn(async move { axum::serve(listener, router).await });
    let pipeline = format!(
        "language = 1\norder = \"pack > tell\"\n[job.pack.it]\nsteps = [\"mkdir out && echo tide > out/table && ln -s table out/latest\"]\n\
         gives = {{ table = [\"out\"], one = [\"out/table\"] }}\n\
         publish = [{{ artifact = \"table\", to = \"oci://127.0.0.1:{port}/saltmarsh/table:{{branch}}\", fact = \"digest\" }},\n\
           {{ artifact = \"table\", as = \"image\", to = \"oci://127.0.0.1:{port}/saltmarsh/image:1\" }},\n\
           {{ artifact = \"one\", to = \"http://{shelf}/shelf/{{commit}}\", with = \"SHELF\", fact = \"sum\" }}]\n\
         [job.tell.it]\nsteps = [\"echo $DIGEST $SUM\"]\nenv = {{ DIGEST = \"{{fact.pack.it.digest}}\", SUM = \"{{fact.pack.it.sum}}\" }}\n"
    );
    let missing = world.verdict("tidegauge", &repository.push_pipeline(&pipeline)).await;
    let why = World::job(&missing, "pack.it")["why"].as_str().expect("a sentence").to_owned();
    assert!(
        why.contains("connection SHELF is not set for tidegauge; `ordotaxis connection set tidegauge SHELF --user USER` sets it"),
        "{why}"
    );
    let set = world.run_with(&["connection", "set", "tidegauge", "SHELF", "--user", "ines"], "low water\n").await;
    assert_eq!(set.code, 0, "{set:?}");
    assert!(world.run(&["connection", "list", "tidegauge"]).await.out.contains("ines"));
    let again = world.run(&["again", "tidegauge", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let run = world.json(&["show", "tidegauge/2"]).await;
    let digest = World::job(&run, "pack.it")["facts"]["digest"].as_str().expect("a digest").to_owned();
    // Asked of the registry itself.
    let http = reqwest::Client::new();
    let manifest = |name: &str, tag: &str| {
        let url = format!("http://127.0.0.1:{port}/v2/saltmarsh/{name}/manifests/{tag}");
        http.get(url).header("accept", "application/vnd.oci.image.manifest.v1+json").send()
    };
    let answer = manifest("table", "main").await.expect("an answer");
    assert_eq!(answer.headers()["docker-content-digest"], digest.as_str());
    let text: Value = answer.json().await.expect("JSON");
    assert_eq!(text["artifactType"], "application/vnd.ordotaxis.artifact.v1", "{text}");
    let layer = text["layers"][0]["digest"].as_str().expect("a layer").to_owned();
    let blob = http.get(format!("http://127.0.0.1:{port}/v2/saltmarsh/table/blobs/{layer}")).send().await.expect("an answer");
    std::fs::write(world.folder.path().join("layer.tgz"), blob.bytes().await.expect("bytes")).expect("a file");
    let listed = Command::new("tar").args(["-tzf", "layer.tgz"]).current_dir(world.folder.path()).output().expect("tar");
    assert_eq!(String::from_utf8_lossy(&listed.stdout), "out/latest\nout/table\n");
    let image: Value = manifest("image", "1").await.expect("an answer").json().await.expect("JSON");
    assert_eq!(image["config"]["mediaType"], "application/vnd.oci.image.config.v1+json", "{image}");
    let (_, body) = seen.lock().expect("the list").last().cloned().expect("a file");
    assert_eq!(&body[..], b"tide\n");
    let log = world.log(&run, "tell.it").await;
    assert!(log.contains(&digest) && log.contains("sha256:"), "{log}");
    // A registry that is not there is told in a sentence.
    let away = pipeline.replace(&format!("127.0.0.1:{port}/saltmarsh/table"), &format!("127.0.0.1:{}/x", free_port()));
    let run = world.verdict("tidegauge", &repository.push_pipeline(&away)).await;
    let why = World::job(&run, "pack.it")["why"].as_str().expect("a sentence");
    assert!(why.starts_with("table could not be published to oci://127.0.0.1:"), "{why}");
}

/// Failures by the ten thousand, twice: each run has its verdict with all of them counted, and the service answers others
/// in between.
#[tokio::test(flavor = "multi_thread")]
async fn twenty_thousand_failures_are_told_like_two() {
    const CASES: usize = 20_000;
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let words = "the gauge is 3 mm off ".repeat(14);
    let case = |n: usize| format!("<testcase classname='gauge' name='case {n}'><failure message='{n}: {words}'/></testcase>\n");
    repository.write("unit.xml", &format!("<testsuite name='unit'>{}</testsuite>", (0..CASES).map(case).collect::<String>()));
    repository.write("ordotaxis.toml", &TESTED.replace("test ! -e fails", "exit 1"));
    for (title, new, first) in [("All fail", CASES, "first new: gauge > case 0"), ("They still do", 0, "none of them new")] {
        repository.write("note", title);
        let ended = AtomicBool::new(false);
        let verdict = async {
            let run = push(&world, &repository, title).await;
            ended.store(true, Ordering::Relaxed);
            run
        };
        let (run, mut waits) = tokio::join!(verdict, asked_until(&world, &ended));
        waits.sort();
        println!("{title}: /readyz asked {} times, p99 {:?}", waits.len(), waits[waits.len() * 99 / 100]);
        let numbers = &run["numbers"];
        assert_eq!((&numbers["tests.failed"], &numbers["tests.new"]), (&json!(CASES as f64), &json!(new as f64)), "{}", run["why"]);
        let job = World::job(&run, "test.unit");
        assert!(job["why"].as_str().is_some_and(|why| why.contains(first)), "{}", job["why"]);
        assert_eq!(job["attempts"].as_array().map(Vec::len), Some(1));
    }
}

/// Asks whether the service is ready, again and again; gives how long each answer took.
async fn asked_until(world: &World, ended: &AtomicBool) -> Vec<Duration> {
    let (ready, client) = (format!("{}/readyz", world.url), reqwest::Client::new());
    let mut waits = Vec::new();
    while !ended.load(Ordering::Relaxed) {
        let asked = Instant::now();
        let answer = client.get(&ready).send().await.expect("an answer");
        assert!(answer.status().is_success(), "{answer:?}");
        waits.push(asked.elapsed());
    }
    waits
}

/// What a job reports in names is masked as its log is, and more of it than the service takes costs no job its result.
#[tokio::test(flavor = "multi_thread")]
async fn names_in_reports_are_masked_and_too_many_of_them_cost_nothing() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let secret = "sluice-9f3a77c1";
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], secret).await.code, 0);
    let step = "echo \"<testsuite name='unit' file='$STATION_KEY.c'><testcase classname='at $STATION_KEY' name='$STATION_KEY'/></testsuite>\" > unit.xml; \
        echo \"SF:src/$STATION_KEY.c\nDA:1,1\nend_of_record\" > lines.info; \
        echo '{\"version\":\"2.1.0\",\"runs\":[{\"tool\":{\"driver\":{\"name\":\"x\"}},\"results\":[{\"ruleId\":\"'$STATION_KEY'\",\"message\":{\"text\":\"see '$STATION_KEY'\"}}]}]}' > found.sarif";
    let named = format!(
        "language = 1\n[job.a.named]\nsecrets = [\"STATION_KEY\"]\nsteps = [\'\'\'{step}\'\'\']\n\
         reports = {{ junit = [\"unit.xml\"], lcov = [\"lines.info\"], sarif = [\"found.sarif\"] }}\n"
    );
    let run = world.verdict("tidegauge", &repository.push_pipeline(&named)).await;
    assert_eq!(run["state"], "passed", "{run}");
    let name = run["run"].as_str().expect("a name");
    for of in ["tests", "findings"] {
        let told = world.http(reqwest::Method::GET, &format!("/api/v1/runs/{name}/{of}")).send().await.expect("an answer");
        let told = told.text().await.expect("text");
        assert!(told.contains("***") && !told.contains(secret), "{of}: {told}");
    }
}

/// Times of test files are for sharing tests out: with more than one call may hold they are left out, and the job passes.
#[tokio::test(flavor = "multi_thread")]
async fn a_result_that_is_too_large_is_told_with_less_in_it() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let case = |n: usize| format!("<testcase classname='{}{n}' name='a' time='1'/>\n", "gauge/".repeat(125));
    repository.write("unit.xml", &format!("<testsuite name='unit'>{}</testsuite>", (0..12_000).map(case).collect::<String>()));
    let text = "language = 1\n[job.a.b]\nsplit = { into = 2 }\nreports = { junit = [\"unit.xml\"] }\nsteps = [\"true\"]\n[job.a.c]\nsteps = [\"true\"]\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(text)).await;
    assert_eq!((&run["state"], &run["numbers"]["tests.total"]), (&json!("passed"), &json!(24_000.0)), "{run}");
    assert!(runner.said().contains("is more than the service takes; left out"), "{}", runner.said());
    // The slot goes on.
    let next = world.verdict("tidegauge", &repository.push_pipeline("language = 1\n[job.a.c]\nsteps = [\"true\"]\n")).await;
    assert_eq!(next["state"], "passed");
}
