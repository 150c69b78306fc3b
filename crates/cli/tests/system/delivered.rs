//! What was put into environments, over time: what it comes to, who let it in, and for how long it can be gone back to.

use super::delivery::Delivery;
use serde_json::Value;

#[tokio::test(flavor = "multi_thread")]
async fn history_comes_to_figures_and_says_which_commits_lie_between() {
    let delivery = Delivery::new("rules = 1\n").await;
    let first = delivery.push("1");
    delivery.environment("pier-south", "it is there", |one| one["present"]["commit"] == first.as_str()).await;
    delivery.repository.write("more", "1");
    delivery.repository.commit("One more gauge");
    let second = delivery.push("2");
    delivery.environment("pier-south", "it is there", |one| one["present"]["commit"] == second.as_str()).await;
    let between = delivery.world.run(&["environment", "between", "stations/trial"]).await;
    assert!(
        between.code == 0
            && between.out.starts_with("from 1 to 2\n")
            && between.out.contains("came")
            && between.out.contains("One more gauge"),
        "{between:?}"
    );
    assert_eq!(between.out.lines().count(), 3, "the first is not new: {between:?}");
    let back = delivery.world.run(&["roll-back", "stations/trial", "--watch"]).await;
    assert_eq!(back.code, 0, "{back:?}");
    let between = delivery.world.json(&["environment", "between", "stations/trial"]).await;
    assert_eq!((between["from"].as_i64(), between["to"].as_i64()), (Some(2), Some(3)), "{between}");
    let titles =
        |list: &Value| list.as_array().map(|all| all.iter().map(|one| one["title"].as_str().unwrap_or("").to_owned()).collect::<Vec<_>>());
    assert_eq!((titles(&between["came"]), titles(&between["went"]).map(|all| all.len())), (Some(vec![]), Some(2)), "{between}");
    let same = delivery.world.run(&["environment", "between", "stations/trial", "--from", "1", "--to", "3"]).await;
    assert!(same.out.contains("no commit lies between them"), "{same:?}");
    let insight = delivery.world.json(&["environment", "insight", "stations", "--days", "14"]).await;
    let of = |name: &str| insight.as_array().and_then(|all| all.iter().find(|one| one["environment"] == name)).cloned().unwrap_or_default();
    let trial = of("trial");
    assert_eq!(
        (trial["deployments"].as_i64(), trial["failed"].as_i64(), trial["open"].as_bool()),
        (Some(2), Some(1), Some(false)),
        "{trial}"
    );
    assert!(trial["mend_ms"].as_i64().is_some_and(|ms| ms > 0) && trial["lead_ms"].as_i64().is_some_and(|ms| ms >= 0), "{trial}");
    assert_eq!(trial["parts"].as_array().map(Vec::len), Some(14));
    assert_eq!((of("pier-north")["failed"].as_i64(), of("pier-north")["mend_ms"].is_null()), (Some(0), true));
    let told = delivery.world.run(&["environment", "insight", "stations"]).await;
    let line = told.out.lines().find(|line| line.contains("trial")).unwrap_or_default();
    assert!(line.contains("2 times") && line.contains("1 (50 %)") && line.contains('█'), "{told:?}");
    for (arguments, words) in [
        (vec!["environment", "insight", "stations", "--days", "3"], "7 to 730 days"),
        (vec!["environment", "insight", "lighthouse"], "lighthouse"),
        (vec!["environment", "between", "stations/trial", "--from", "9"], "trial has no deployment 9"),
        (vec!["environment", "between", "stations/nowhere"], "has no environment nowhere"),
    ] {
        let refused = delivery.world.run(&arguments).await;
        assert!(refused.code != 0 && refused.err.contains(words), "{arguments:?}: {refused:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_has_left_does_not_count_and_rules_are_those_of_the_moment() {
    let rules = |of: usize| {
        format!("rules = 1\n[environment.\"pier-*\"]\nafter = [\"trial\"]\napprove = {{ of = {of}, by = [\"lars\", \"mara\", \"odd\"] }}\n")
    };
    let delivery = Delivery::new(&rules(2)).await;
    let [lars, mara] = [delivery.person("lars", "operator").await, delivery.person("mara", "operator").await];
    let first = delivery.push("1");
    delivery.waits("pier-north", "2 approvals by lars or mara or odd are missing").await;
    assert_eq!(delivery.say(&lars, &["approve", "stations/1"]).await.code, 0);
    delivery.waits("pier-north", "1 approval by lars or mara or odd is missing (lars approved)").await;
    assert_eq!(delivery.world.run(&["person", "remove", "lars"]).await.code, 0);
    let alone = "there is only 1 person whose approval counts, so the rules or a group must change";
    delivery.waits("pier-north", alone).await;
    assert_eq!(delivery.say(&mara, &["approve", "stations/1"]).await.code, 0);
    delivery.waits("pier-north", "(mara approved); there is only 1 person").await;
    assert_eq!(delivery.there("north"), "");
    // The rules that count are those of main when it would go in: also for what was approved before.
    delivery.repository.write("ordotaxis/rules.toml", &rules(1));
    delivery.repository.commit("One word will do");
    delivery.repository.push();
    let north = delivery.environment("pier-north", "it is there", |one| one["present"]["commit"] == first.as_str()).await;
    assert_eq!(north["present"]["approved_by"], serde_json::json!(["mara"]));
    assert_ne!(north["present"]["rules_commit"], first.as_str(), "the rules that let it in are kept with it");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_swept_away_cannot_be_gone_back_to_but_the_last_five_are_there() {
    let delivery = Delivery::new("rules = 1\n").await;
    let place = delivery.world.folder.path().display().to_string();
    let pipeline = |version: usize| {
        format!(
            "language = 1\n[job.build.gauge]\nsteps = [\"echo {version} > gauge\"]\ngives = {{ gauge = {{ paths = [\"gauge\"], keep = \"1s\" }} }}\n\
             [job.trial.put]\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"trial\"\nsteps = [\"cp gauge {place}/trial\"]\n"
        )
    };
    for version in 1..=7 {
        let commit = delivery.repository.push_pipeline(&pipeline(version));
        delivery.environment("trial", "it is there", |one| one["present"]["commit"] == commit.as_str()).await;
    }
    ordotaxis_testbed::until("the first to be swept away", || async {
        let swept = delivery.world.run(&["store", "sweep", "--apply"]).await;
        assert_eq!(swept.code, 0, "{swept:?}");
        let left = delivery.world.json(&["artifacts", "stations/1"]).await;
        left.as_array().is_some_and(Vec::is_empty).then_some(())
    })
    .await;
    let gone = delivery.world.run(&["roll-back", "stations/trial", "--to", "1"]).await;
    assert!(gone.code != 0 && gone.err.contains("it was kept for its time and then swept away"), "{gone:?}");
    let back = delivery.world.run(&["roll-back", "stations/trial", "--to", "2", "--watch"]).await;
    assert!(back.code == 0 && delivery.there("trial") == "2", "{back:?}");
}
