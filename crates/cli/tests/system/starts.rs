//! Every way a run begins: tags, proposals, schedules, passed pipelines, inputs, and pipelines that the service keeps.

use super::world;
use ordotaxis_store::Records;
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::{Value, json};

const ANY: &str = "[job.a.b]\nsteps = [\"echo $ORDOTAXIS_EVENT $ORDOTAXIS_BRANCH $ORDOTAXIS_TAG $ORDOTAXIS_TARGET\"]\n";

/// The newest run of a project that fits and has ended.
async fn newest(world: &World, project: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
    until(&format!("{project}: {what}"), || async {
        let runs: Value =
            world.http(reqwest::Method::GET, &format!("/api/v1/runs?project={project}")).send().await.ok()?.json().await.ok()?;
        runs.as_array()?.iter().find(|run| !run["ended_at"].is_null() && fits(run)).cloned()
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_is_a_run_of_its_own() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(&format!("language = 1\n[starts]\npush = [\"main\"]\ntag = [\"v*\", \"!v0*\"]\n{ANY}"));
    world.verdict("tidegauge", &commit).await;
    for tag in ["v0.9", "v1.0", "other"] {
        repository.git(&["tag", "-a", "-m", tag, tag]);
    }
    repository.git(&["push", "--quiet", "origin", "--tags"]);
    let run = newest(&world, "tidegauge", "the tag's run", |run| run["occasion"]["event"] == "tag").await;
    assert_eq!((run["occasion"]["tag"].as_str(), run["commit"].as_str()), (Some("v1.0"), Some(commit.as_str())), "{run}");
    assert_eq!(world.log(&run, "a.b").await, "tag v1.0\n");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(2), "neither v0.9 nor other begins one: {runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_is_built_as_merged_with_its_target() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let pipeline = format!("language = 1\n[starts]\nproposal = [\"main\"]\nby_hand = true\n{ANY}[job.a.both]\nsteps = [\"cat one two\"]\n");
    repository.write("ordotaxis.toml", &pipeline);
    repository.write("shared", "x\n");
    repository.commit("A gauge");
    repository.push();
    repository.git(&["checkout", "--quiet", "-b", "topic/two"]);
    repository.write("two", "two\n");
    let head = repository.commit("Two");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    repository.git(&["checkout", "--quiet", "main"]);
    repository.write("one", "one\n");
    repository.write("shared", "from main\n");
    repository.commit("One");
    repository.push();
    let propose = |source: &str| {
        let ask = json!({ "title": "A change", "source": source, "target": "main" });
        reqwest::Client::new().post(format!("{}/api/repositories/tidegauge/proposals", world.forge_url)).json(&ask).send()
    };
    assert!(propose("topic/two").await.expect("an answer").status().is_success());
    let run = newest(&world, "tidegauge", "the proposal's run", |run| run["occasion"]["event"] == "proposal").await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(world.log(&run, "a.both").await, "one\ntwo\n", "both sides are there");
    assert_eq!(world.log(&run, "a.b").await, "proposal main\n", "its branch is the proposer's to name: nothing sees it");
    let statuses = world.statuses_until("tidegauge", &head, "success").await;
    assert!(!statuses.is_empty(), "the verdict is on what was offered");

    repository.git(&["checkout", "--quiet", "-b", "topic/clash", "HEAD~1"]);
    repository.write("shared", "from the branch\n");
    let clash = repository.commit("Clash");
    repository.git(&["push", "--quiet", "origin", "HEAD"]);
    assert!(propose("topic/clash").await.expect("an answer").status().is_success());
    let statuses = world.statuses_until("tidegauge", &clash, "failure").await;
    assert_eq!(statuses[0].text, "Failed: it does not merge into main: both changed shared");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_comes_due_once_however_long_the_service_was_away() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline(&format!("language = 1\n[starts]\npush = [\"main\"]\nschedule = [\"0 4 1 1 *\"]\n{ANY}"));
    world.run_of("tidegauge", &commit, "a run", |_| true).await;
    world.kill_service();
    let records = Records::open(&world.folder.path().join("service")).await.expect("the records");
    let project = records.project("tidegauge").await.expect("an answer").expect("a project");
    let next = records.next_schedule_at().await.expect("an answer").expect("a schedule");
    assert!(next > 0, "the push wrote it down");
    // As if years had passed.
    let mut tx = records.tx_by_rule("a test", 1).await.expect("a change");
    tx.keep_pipelines(project.id, &[]).await.expect("an answer");
    tx.set_schedules(project.id, "main", &[("0 4 1 1 *".to_owned(), 1_000)]).await.expect("an answer");
    tx.commit().await.expect("written");
    records.close().await;
    world.start_service();
    let _runner = world.runner(RunnerOptions::default()).await;
    let run = newest(&world, "tidegauge", "the schedule's run", |run| run["occasion"]["event"] == "schedule").await;
    assert_eq!(world.log(&run, "a.b").await, "schedule main\n");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(2), "once, not once a year: {runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_passed_pipeline_begins_others_and_no_circle_goes_on() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let stations = world.project("stations").await;
    let other = stations.push_pipeline(&format!(
        "language = 1\n[starts]\npush = [\"main\"]\npipeline = [\"tidegauge/pack\"]\n{ANY}secrets = [\"STATION_KEY\"]\n"
    ));
    let set = world.run_with(&["secret", "set", "stations", "STATION_KEY"], "salt-and-mud\n").await;
    assert_eq!(set.code, 0, "{set:?}");
    world.verdict("stations", &other).await;
    let repository = world.project("tidegauge").await;
    repository.write("ordotaxis/pack.toml", &format!("language = 1\n[starts]\npush = [\"main\"]\npipeline = [\"after\"]\n{ANY}"));
    repository.write("ordotaxis/after.toml", &format!("language = 1\n[starts]\npipeline = [\"pack\"]\n{ANY}"));
    let commit = repository.commit("Two pipelines");
    repository.push();
    let run = newest(&world, "tidegauge", "the second pipeline", |run| run["pipeline"] == "after").await;
    assert_eq!((run["state"].as_str(), run["commit"].as_str()), (Some("passed"), Some(commit.as_str())), "{run}");
    let run = newest(&world, "stations", "the other project's run", |run| run["occasion"]["event"] == "pipeline").await;
    assert_eq!((&run["commit"], &run["branch"]), (&json!(other), &json!("main")), "its own main branch");
    assert_eq!(run["state"], "passed", "with the secrets of that branch: {run}");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(2), "pack does not begin again: {runs}");
}

/// A run that someone brings back later keeps its start, and its time is what it went on for.
#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_is_started_later_adds_to_the_runs_time() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let pipeline = "language = 1\n[job.a.slow]\nsteps = [\"sleep 0.4\"]\n[job.b.quick]\nby_hand = true\nsteps = [\"true\"]\n";
    let commit = repository.push_pipeline(pipeline);
    let moment = |run: &Value, key: &str| run[key].as_str().and_then(|text| text.parse::<jiff::Timestamp>().ok()).expect("a moment");
    let took = |run: &Value| {
        moment(run, "ended_at").as_millisecond() - moment(run, "started_at").as_millisecond() - run["rest_ms"].as_i64().expect("a number")
    };
    let before = world.verdict("tidegauge", &commit).await;
    assert_eq!((&before["state"], &before["rest_ms"]), (&json!("passed"), &json!(0)), "{before}");
    let started = world.run(&["start", "tidegauge/1", "--job", "b.quick"]).await;
    assert_eq!(started.code, 0, "{started:?}");
    let done = |run: &Value| World::job(run, "b.quick")["state"] == "passed" && !run["ended_at"].is_null();
    let after = world.run_of("tidegauge", &commit, "the job done", done).await;
    assert_eq!(after["started_at"], before["started_at"], "its first start stays: {after}");
    assert!(after["rest_ms"].as_i64() > Some(0), "{after}");
    assert!(took(&after) >= took(&before) && took(&before) >= 400, "{after}");
}

#[tokio::test(flavor = "multi_thread")]
async fn inputs_and_jobs_are_asked_for_and_checked() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let pipeline = "language = 1\n[starts]\n[starts.inputs.station]\nchoices = [\"north-pier\", \"lock-gate\"]\n[starts.inputs.note]\ndefault = \"none\"\n\
        [job.a.b]\nsteps = [\"echo $ORDOTAXIS_INPUT_STATION $ORDOTAXIS_INPUT_NOTE\"]\n[job.a.other]\nsteps = [\"true\"]\n";
    repository.write("ordotaxis.toml", pipeline);
    repository.commit("Inputs");
    repository.push();
    for (arguments, words) in [
        (vec!["start", "tidegauge"], "input `station` must be given: it has no default; choices are `north-pier`, `lock-gate`"),
        (vec!["start", "tidegauge", "--input", "station=lock-gat"], "input `station` cannot be `lock-gat`; did you mean `lock-gate`?"),
        (vec!["start", "tidegauge", "--input", "sation=lock-gate", "--input", "station=lock-gate"], "asks for no input `sation`"),
        (vec!["start", "tidegauge", "--input", "station"], "is not NAME=VALUE"),
        (vec!["start", "tidegauge", "--input", "station=lock-gate", "--job", "a.c"], "the pipeline has no job and no stage `a.c`"),
    ] {
        let ran = world.run(&arguments).await;
        assert_ne!(ran.code, 0, "{arguments:?}");
        assert!(ran.err.contains(words), "{arguments:?}: {ran:?}");
    }
    let ran = world.run(&["start", "tidegauge", "--input", "station=lock-gate", "--job", "a.b", "--watch"]).await;
    assert_eq!(ran.code, 0, "{ran:?}");
    let run = newest(&world, "tidegauge", "the run", |_| true).await;
    assert_eq!(world.log(&run, "a.b").await, "lock-gate none\n");
    let whole = world.json(&["show", run["run"].as_str().unwrap_or_default()]).await;
    assert_eq!(World::job(&whole, "a.other")["why"], "not among the jobs asked for");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pipeline_can_be_kept_by_the_service_with_its_history() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("almanac").await;
    repository.write("README", "not ours to change\n");
    repository.commit("No pipeline here");
    let file = world.folder.path().join("kept.toml").display().to_string();
    let write = |text: &str| std::fs::write(&file, text).expect("a file");
    write("language = 1\n[job.a.b]\nsteps = [\"echo one\"]\n");
    repository.push();
    newest(&world, "almanac", "a run without a file", |run| run["state"] == "failed").await;
    let keep = ["pipeline", "keep", "almanac", "main", "--file", &file, "--message", "A first one"];
    let kept = world.run(&keep).await;
    assert!(kept.code == 0 && kept.out.contains("version 1"), "{kept:?}");
    let ran = world.run(&["start", "almanac", "--watch"]).await;
    assert_eq!(ran.code, 0, "{ran:?}");
    write("language = 1\n[job.a.b]\nstpes = [\"echo two\"]\n");
    let refused = world.run(&keep).await;
    assert!(refused.code != 0 && refused.err.contains("job a.b has no key `stpes`; nothing was kept"), "{refused:?}");
    write("language = 1\n[job.a.b]\nsteps = [\"echo two\"]\n");
    assert!(world.run(&keep).await.out.contains("version 2"));
    let stale = json!({ "text": "language = 1\n[job.a.b]\nsteps = [\"echo three\"]\n", "message": "Late", "on": 1 });
    let answer = world.http(reqwest::Method::PUT, "/api/v1/projects/almanac/stored/main").json(&stale).send().await.expect("an answer");
    assert_eq!(answer.status().as_u16(), 409, "of two who change it, the later is told");
    let pushed = repository.commit("Another commit");
    repository.push();
    let run = world.verdict("almanac", &pushed).await;
    assert_eq!(world.log(&run, "a.b").await, "two\n");
    let history = world.json(&["pipeline", "history", "almanac", "main"]).await;
    let versions: Vec<i64> = history.as_array().expect("a list").iter().filter_map(|one| one["version"].as_i64()).collect();
    assert_eq!(versions, [2, 1]);
    let first = world.run(&["pipeline", "history", "almanac", "main", "--version", "1"]).await;
    assert!(first.out.contains("echo one"), "{first:?}");
    assert!(world.run(&["pipeline", "list", "almanac"]).await.out.contains("by the service, version 2"));
    assert_eq!(world.run(&["pipeline", "drop", "almanac", "main"]).await.code, 0);
    assert!(world.run(&["pipeline", "list", "almanac"]).await.err.contains("no pipeline"));
    let none = world.run(&["pipeline", "drop", "almanac", "other"]).await;
    assert!(none.code == 2 && none.err.contains("nothing is kept"), "{none:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_checked_and_kept_as_a_branch() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    repository.write("src/a.c", "int a;\n");
    let commit = repository.push_pipeline(&format!("language = 1\n{ANY}"));
    world.verdict("tidegauge", &commit).await;
    let post = |path: &str, body: Value| {
        let call = world.http(reqwest::Method::POST, path).json(&body);
        async move {
            let answer = call.send().await.expect("an answer");
            (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
        }
    };
    let text = "language = 1\n[job.a.b]\nsteps = [\"true\"]\nif = 'ref.tag != \"\"'\n";
    let occasion = json!({ "event": "push", "branch": "main" });
    let (status, checked) = post("/api/v1/check", json!({ "text": text, "occasion": occasion })).await;
    assert_eq!(status, 200);
    assert_eq!(checked["plan"]["jobs"][0]["skipped"], "its condition `ref.tag != \"\"` is false: ref.tag is \"\"");
    assert!(checked["picture"].as_str().is_some_and(|picture| picture.starts_with("<svg")), "{checked}");
    let (_, without) = post("/api/v1/check", json!({ "text": text, "occasion": occasion, "without_picture": true })).await;
    assert_eq!((&without["picture"], &without["plan"]), (&Value::Null, &checked["plan"]));
    let (_, checked) = post("/api/v1/check", json!({ "text": "language = 1\n[job.a.b]\nstpes = []\n" })).await;
    assert_eq!(checked["diagnostics"][0]["hint"], "did you mean `steps`?");
    let draft = json!({ "pipeline": "nightly", "text": format!("language = 1\n{ANY}"), "branch": "draft/nightly", "message": "A nightly pipeline" });
    let (status, kept) = post("/api/v1/projects/tidegauge/drafts", draft.clone()).await;
    assert_eq!(status, 201, "{kept}");
    let made = kept["commit"].as_str().expect("a commit").to_owned();
    repository.git(&["fetch", "--quiet", "origin", "draft/nightly"]);
    let shown = repository.git(&["show", "--stat", "--format=%an: %s", "FETCH_HEAD"]);
    assert!(shown.starts_with("owner: A nightly pipeline") && shown.contains("ordotaxis/nightly.toml"), "{shown}");
    assert_eq!(repository.git(&["rev-parse", "FETCH_HEAD"]), made);
    assert_eq!(repository.git(&["show", "FETCH_HEAD:src/a.c"]), "int a;", "everything else is as it was");
    let (status, refused) = post("/api/v1/projects/tidegauge/drafts", draft).await;
    assert_eq!((status, refused["detail"].as_str()), (422, Some("tidegauge has a branch draft/nightly already")), "{refused}");
    let run = world.verdict("tidegauge", &made).await;
    assert_eq!(run["branch"], "draft/nightly", "the forge tells of the branch as of any other");
}
