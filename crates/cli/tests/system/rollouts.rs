//! Roll-outs by a real runner: one by one, a part first, two sides; what a mistake reaches, and how it is taken back.

use super::delivery::Delivery;
use ordotaxis_testbed::{RunnerOptions, World};
use serde_json::Value;

/// A check that fails where there is a file `ill-PIER`.
const RULES: &str = "rules = 1\n[environment.\"pier-*\"]\non_failure = \"roll-back\"\n\
    check = { run = \"test ! -e PLACE/ill-$PIER || ! grep -q bad PLACE/$PIER\", within = \"200ms\" }\n";
const PIERS: &str = "language = 1\norder = \"build > ship\"\n[job.build.gauge]\nsteps = [\"echo VERSION > gauge\"]\n\
    gives = { gauge = [\"gauge\"] }\n[job.ship.pier]\ncheckout = false\neach = { pier = [\"north\", \"middle\", \"south\"] }\n\
    takes = [\"build.gauge/gauge\"]\ndeploys = \"pier-{each.pier}\"\nenv = { PIER = \"{each.pier}\" }\n\
    steps = [\"cp gauge PLACE/$PIER\", \"echo $PIER $(cat gauge) >> PLACE/log\"]\nrollout = ROLLOUT\n";

struct Fleet(Delivery);

impl Fleet {
    async fn new(rules: &str) -> Fleet {
        let fleet = Fleet(Delivery::new("rules = 1\n").await);
        fleet.0.repository.write("ordotaxis/rules.toml", &fleet.filled(rules));
        fleet
    }

    fn filled(&self, text: &str) -> String {
        text.replace("PLACE", &self.0.world.folder.path().display().to_string())
    }

    fn push(&self, pipeline: &str, rollout: &str, version: &str) -> String {
        let text = self.filled(&pipeline.replace("ROLLOUT", rollout).replace("VERSION", version));
        self.0.repository.push_pipeline(&text)
    }

    fn write(&self, name: &str) {
        std::fs::write(self.0.world.folder.path().join(name), "").expect("a file");
    }

    /// Once all is as it is said to be.
    async fn holds(&self, environment: &str, commit: &str) -> Value {
        let fits = |one: &Value| one["present"]["commit"] == commit && one["inside"].is_null();
        self.0.environment(environment, &format!("it holds {commit}"), fits).await
    }

    /// Once the middle pier is watched.
    async fn watches(&self, commit: &str) {
        let watched = |run: &Value| {
            let attempts = World::job(run, "ship.pier[middle]")["attempts"].as_array().cloned().unwrap_or_default();
            attempts.iter().any(|attempt| attempt["phases"].as_array().is_some_and(|all| all.iter().any(|one| one["kind"] == "watch")))
        };
        self.0.world.run_of("stations", commit, "watched", watched).await;
    }

    async fn ended(&self, commit: &str, state: &str) -> Value {
        self.0.world.run_of("stations", commit, state, |run| run["state"] == state && !run["ended_at"].is_null()).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn one_by_one_a_mistake_stops_and_what_it_touched_is_as_before_in_reverse_order() {
    let fleet = Fleet::new(RULES).await;
    let rollout = "{ way = \"one-by-one\", still = \"400ms\" }";
    let good = fleet.push(PIERS, rollout, "1");
    fleet.holds("pier-south", &good).await;
    fleet.write("ill-south");
    std::fs::write(fleet.0.world.folder.path().join("log"), "").expect("a file");
    let bad = fleet.push(PIERS, rollout, "bad");
    let run = fleet.ended(&bad, "failed").await;
    assert_eq!(fleet.0.there("log"), "north bad\nmiddle bad\nsouth bad\nsouth 1\nmiddle 1\nnorth 1");
    for pier in ["north", "middle", "south"] {
        assert_eq!(fleet.0.there(pier), "1");
        let one = fleet.holds(&format!("pier-{pier}"), &good).await;
        assert!(one["doubt"].is_null() && one["waiting"].as_array().is_some_and(Vec::is_empty), "{one}");
    }
    let south = World::job(&run, "ship.pier[south]");
    assert!(south["why"].as_str().is_some_and(|why| why.ends_with("; what was there before is there again")), "{south}");
    let middle = World::job(&run, "ship.pier[middle]");
    assert_eq!(middle["why"], "ship.pier[south] failed; what was there before is there again");
    assert_eq!((middle["state"].as_str(), middle["attempts"].as_array().map(Vec::len)), (Some("failed"), Some(2)));
    let history = fleet.0.world.run(&["environment", "history", "stations/pier-middle"]).await;
    let lines: Vec<&str> = history.out.lines().filter(|line| line.contains("well")).collect();
    assert!(lines[0].contains("what was there before (ship.pier[south] failed), well, and there"), "{history:?}");
    assert!(lines[1].contains("well; it was rolled back"), "{history:?}");
    // What was rolled back is nothing to go back to.
    let back = fleet.0.world.run(&["roll-back", "stations/pier-middle"]).await;
    assert!(back.code != 0 && back.err.contains("there was nothing else in pier-middle before"), "{back:?}");
    // By its number it is, and so is what was there before, which its own run put there.
    let page = fleet.0.world.json(&["environment", "show", "stations/pier-middle"]).await;
    assert_eq!(page["deployments"][0]["way"], "undo", "{page}");
    let again = fleet.0.world.run(&["roll-back", "stations/pier-middle", "--to", "2", "--watch"]).await;
    assert!(again.code == 0 && fleet.0.there("middle") == "bad", "{again:?}");
    let again = fleet.0.world.run(&["roll-back", "stations/pier-middle", "--to", "3", "--watch"]).await;
    assert!(again.code == 0 && fleet.0.there("middle") == "1", "{again:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_part_is_watched_and_the_rest_never_sees_what_was_bad_there() {
    let mut fleet = Fleet::new(RULES).await;
    let watch = |long: &str| {
        let run = "test ! -e PLACE/alarm || ! grep -q bad PLACE/$PIER";
        format!(
            "{{ way = \"part-first\", first = [\"middle\"], watch = {{ for = \"{long}\", every = \"200ms\", bad = 2, run = \"{run}\" }} }}"
        )
    };
    let good = fleet.push(PIERS, &watch("500ms"), "1");
    for pier in ["pier-middle", "pier-north", "pier-south"] {
        fleet.holds(pier, &good).await;
    }
    assert!(fleet.0.there("log").starts_with("middle 1\n"), "{}", fleet.0.there("log"));
    let bad = fleet.push(PIERS, &watch("10m"), "bad");
    fleet.watches(&bad).await;
    fleet.write("alarm");
    let run = fleet.ended(&bad, "failed").await;
    let middle = World::job(&run, "ship.pier[middle]");
    let why = middle["why"].as_str().unwrap_or_default();
    assert!(why.starts_with("the watch failed: 2 of ") && why.contains("step `watch test ! -e"), "{why}");
    assert!(why.ends_with("; what was there before is there again"), "{why}");
    for pier in ["north", "south"] {
        let other = World::job(&run, &format!("ship.pier[{pier}]"));
        assert_eq!(other["why"], "skipped because ship.pier[middle] failed, and its other cells do not go on", "{other}");
        assert_eq!(fleet.0.there(pier), "1");
    }
    assert_eq!(fleet.0.there("middle"), "1");
    let log = fleet.0.world.run(&["logs", "stations/2", "ship.pier[middle]", "--attempt", "1"]).await.out;
    assert!(log.contains("well: it ended with 0") && log.contains("bad, 1 of 2: "), "{log}");
    // A runner that is lost while it watches: nobody knows what is there, and the rest does not follow.
    std::fs::remove_file(fleet.0.world.folder.path().join("alarm")).expect("it was there");
    let lost = fleet.push(PIERS, &watch("10m"), "3");
    fleet.watches(&lost).await;
    fleet.0.runner.take().expect("a runner").kill();
    let run = fleet.ended(&lost, "failed").await;
    assert_eq!(World::job(&run, "ship.pier[middle]")["state"], "lost", "{run}");
    assert_eq!(World::job(&run, "ship.pier[north]")["state"], "skipped");
    let unknown = fleet.0.environment("pier-middle", "nobody knows", |one| !one["doubt"].is_null()).await;
    assert_eq!(unknown["present"]["commit"], good.as_str());
}

const SIDES: &str = "language = 1\norder = \"build > ship\"\n[job.build.gauge]\nsteps = [\"echo VERSION > gauge\"]\n\
    gives = { gauge = [\"gauge\"] }\n[job.ship.pier]\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"pier\"\n\
    steps = [\"cp gauge PLACE/$ORDOTAXIS_SIDE\", \"echo put $(cat gauge) on $ORDOTAXIS_SIDE >> PLACE/log\"]\n\
    rollout = { way = \"two-sides\", switch = [\"echo $ORDOTAXIS_SIDE > PLACE/used\", \"test ! -e PLACE/stuck-$ORDOTAXIS_SIDE\"] }\n";

#[tokio::test(flavor = "multi_thread")]
async fn of_two_sides_the_one_in_use_is_never_touched_and_the_switch_alone_leads_back() {
    let rules = "rules = 1\n[environment.pier]\non_failure = \"roll-back\"\ncheck = { run = \"! grep -q bad PLACE/$ORDOTAXIS_SIDE\", within = \"100ms\" }\n";
    let fleet = Fleet::new(rules).await;
    let first = fleet.push(SIDES, "", "1");
    fleet.holds("pier", &first).await;
    let second = fleet.push(SIDES, "", "2");
    fleet.holds("pier", &second).await;
    assert_eq!((fleet.0.there("a"), fleet.0.there("b"), fleet.0.there("used")), ("1".into(), "2".into(), "b".into()));
    // Back and forth: nothing is put anywhere.
    for (holds, used) in [(&first, "a"), (&second, "b")] {
        let arguments = if used == "a" {
            vec!["roll-back", "stations/pier", "--watch"]
        } else {
            vec!["roll-back", "stations/pier", "--to", "2", "--watch"]
        };
        let back = fleet.0.world.run(&arguments).await;
        assert_eq!(back.code, 0, "{back:?}");
        fleet.holds("pier", holds).await;
        assert_eq!(fleet.0.there("used"), used);
    }
    assert_eq!(fleet.0.there("log"), "put 1 on a\nput 2 on b");
    // What is not well on its side is never put in use.
    let bad = fleet.push(SIDES, "", "bad");
    let run = fleet.ended(&bad, "failed").await;
    let why = World::job(&run, "ship.pier")["why"].as_str().unwrap_or_default().to_owned();
    assert!(why.starts_with("the check failed") && why.ends_with("; what was there before is there again"), "{why}");
    assert_eq!((fleet.0.there("a"), fleet.0.there("used")), ("bad".into(), "b".into()));
    let pier = fleet.holds("pier", &second).await;
    assert!(pier["doubt"].is_null(), "{pier}");
    // A switch that breaks off is taken back, too.
    fleet.write("stuck-a");
    let stuck = fleet.push(SIDES, "", "4");
    fleet.ended(&stuck, "failed").await;
    let pier = fleet.0.environment("pier", "it is told", |one| one["inside"].is_null()).await;
    assert_eq!(pier["present"]["commit"], second.as_str(), "{pier}");
    std::fs::remove_file(fleet.0.world.folder.path().join("stuck-a")).expect("it was there");
    // What was on the other side has been overwritten: to go back further it is put there once more.
    let back = fleet.0.world.run(&["roll-back", "stations/pier", "--to", "1", "--watch"]).await;
    assert_eq!(back.code, 0, "{back:?}");
    fleet.holds("pier", &first).await;
    assert_eq!((fleet.0.there("a"), fleet.0.there("used")), ("1".into(), "a".into()));
    assert!(fleet.0.there("log").ends_with("put 4 on a\nput 1 on a"), "{}", fleet.0.there("log"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cell_that_was_let_in_and_never_begun_leaves_its_environment_as_it_was() {
    let mut fleet = Fleet::new(RULES).await;
    let good = fleet.push(PIERS, "{ way = \"all\" }", "1");
    for pier in ["pier-north", "pier-middle", "pier-south"] {
        fleet.holds(pier, &good).await;
    }
    // With one slot two of them are in the queue when the first fails.
    fleet.0.runner.take().expect("a runner").kill();
    let _one = fleet.0.world.runner(RunnerOptions { slots: 1, ..RunnerOptions::default() }).await;
    for pier in ["north", "middle", "south"] {
        fleet.write(&format!("ill-{pier}"));
    }
    let bad = fleet.push(PIERS, "{ way = \"all\" }", "bad");
    let run = fleet.ended(&bad, "failed").await;
    let skipped =
        ["north", "middle", "south"].iter().filter(|pier| World::job(&run, &format!("ship.pier[{pier}]"))["state"] == "skipped").count();
    assert_eq!(skipped, 2, "{run}");
    for pier in ["pier-north", "pier-middle", "pier-south"] {
        let one = fleet.holds(pier, &good).await;
        assert!(one["doubt"].is_null() && one["waiting"].as_array().is_some_and(Vec::is_empty), "{one}");
    }
}
