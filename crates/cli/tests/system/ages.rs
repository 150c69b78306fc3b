//! What is past its age goes: shown first, then done; and what was is told from what never was.

use super::world;
use ordotaxis_testbed::{Browser, RunnerOptions, World, until};

const PIPELINE: &str = "language = 1\n[job.a.gauge]\ncheckout = false\nsteps = [\"echo low water\"]\n";

#[tokio::test(flavor = "multi_thread")]
async fn logs_and_runs_go_when_they_are_past_their_age_and_nothing_needs_them() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    for round in 1..=3 {
        let run = world.verdict("tidegauge", &repository.push_pipeline(&format!("{PIPELINE}# {round}\n"))).await;
        assert_eq!(run["state"], "passed", "{run}");
    }
    let nothing = world.run(&["store", "sweep"]).await;
    assert!(nothing.code == 0 && !nothing.out.contains("past their age"), "without ages all stays: {nothing:?}");
    until("their logs are in the store", || async {
        let verified = world.run(&["store", "verify"]).await; // it moves what is closed
        (verified.code == 0 && std::fs::read_dir(world.folder.path().join("service/logs")).expect("a folder").count() == 0).then_some(())
    })
    .await;

    world.configure("[ages]\nlogs = \"100ms\"\nevents = \"1ms\"\n");
    world.stop_service();
    world.start_service();
    let shown = world.run(&["store", "sweep"]).await;
    assert!(shown.out.contains("2 logs of runs past their age that would go:\n  tidegauge/1"), "not the newest of main: {shown:?}");
    assert!(shown.err.contains("nothing was changed"), "{shown:?}");
    assert_eq!(world.run(&["logs", "tidegauge/1", "a.gauge"]).await.out, "low water\n", "it is still there");
    let done = world.run(&["store", "sweep", "--apply"]).await;
    assert!(done.code == 0 && done.out.contains("2 logs of runs past their age that were swept away"), "{done:?}");
    let log = world.run(&["logs", "tidegauge/1", "a.gauge"]).await;
    assert!(log.code != 0 && log.err.contains("this log was dropped on") && log.err.contains("logs are kept for 100ms"), "{log:?}");
    let found = world.run(&["logs", "tidegauge/1", "a.gauge", "--grep", "water"]).await;
    assert!(found.code != 0 && found.err.contains("this log was dropped on"), "{found:?}");
    assert_eq!(world.run(&["logs", "tidegauge/3", "a.gauge"]).await.out, "low water\n");
    assert_eq!(world.json(&["show", "tidegauge/1"]).await["state"], "passed", "the run stays");
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1/a.gauge", world.url)).await.expect("the page");
    browser.see("Its log was dropped on").await;
    super::console::accessible(&browser).await;
    browser.end().await;
    let journal = world.run(&["journal", "--action", "store.sweep"]).await;
    assert!(journal.out.contains("tidegauge/1") && journal.out.contains("tidegauge/2"), "it names what went: {journal:?}");

    // What is done once more has a log again; that one is as young as it is.
    assert_eq!(world.run(&["again", "tidegauge/1", "--fresh", "--watch"]).await.code, 0);

    world.configure("runs = \"100ms\"\n");
    world.stop_service();
    world.start_service();
    let shown = world.run(&["store", "sweep"]).await;
    assert!(shown.out.contains("runs past their age that would go") && shown.out.contains("tidegauge/2"), "{shown:?}");
    assert_eq!(world.run(&["store", "sweep", "--apply"]).await.code, 0);
    let gone = world.run(&["show", "tidegauge/1"]).await;
    assert!(gone.code == 2 && gone.err.contains("there is no run tidegauge/1; runs are kept for 100ms, and some for longer"), "{gone:?}");
    let never = world.run(&["show", "tidegauge/9"]).await;
    assert!(never.err.contains("there is no run tidegauge/9; the newest is tidegauge/4"), "{never:?}");
    let left = world.json(&["runs", "tidegauge"]).await;
    let left: Vec<i64> = left.as_array().into_iter().flatten().filter_map(|run| run["number"].as_i64()).collect();
    assert_eq!(left, [4], "the newest of the main branch, with its log");
    assert_eq!(world.run(&["logs", "tidegauge/4", "a.gauge"]).await.out, "low water\n");
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"));
    let next = world.verdict("tidegauge", &repository.push_pipeline(&format!("{PIPELINE}# 5\n"))).await;
    assert_eq!((World::job(&next, "a.gauge")["state"].as_str(), next["number"].as_i64()), (Some("passed"), Some(5)));
}

/// A service that goes on forgets what it remembers of a run that was dropped: nothing is taken over from what is not there.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_taken_over_from_a_run_that_was_dropped() {
    let mut world = world().await;
    world.configure("[ages]\nruns = \"100ms\"\n");
    world.stop_service();
    world.start_service();
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.a.gauge]\nsteps = [\"cat level\"]\nreuse = { inputs = [\"level\"] }\n";
    let with_level = async |level: &str, round: u32| {
        repository.write("level", level);
        world.verdict("tidegauge", &repository.push_pipeline(&format!("{pipeline}# {round}\n"))).await
    };
    assert_eq!(with_level("low\n", 1).await["state"], "passed");
    assert_eq!(with_level("high\n", 2).await["state"], "passed");
    let again = with_level("low\n", 3).await;
    assert_eq!(World::job(&again, "a.gauge")["reused_from"], "tidegauge/1", "{again}");
    assert_eq!(with_level("high\n", 4).await["state"], "passed");
    until("the older ones are old", || async {
        let swept = world.run(&["store", "sweep", "--apply"]).await;
        assert_eq!(swept.code, 0, "{swept:?}");
        (world.run(&["show", "tidegauge/3"]).await.code == 2).then_some(())
    })
    .await;
    let anew = with_level("low\n", 5).await;
    assert_eq!(World::job(&anew, "a.gauge")["state"], "passed", "it was done anew: {anew}");
    assert_eq!(world.log(&anew, "a.gauge").await, "low\n");
}
