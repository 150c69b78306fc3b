//! Environments and all that was let into them.

use super::{project, records};
use ordotaxis_core::delivery::{End, Environment, Frozen, Put, Stay, Way};
use ordotaxis_store::{NewDeployment, Records};

fn new(run_id: i64, way: Way, digests: &[&str]) -> NewDeployment {
    NewDeployment {
        run_id,
        run: format!("tidegauge/{run_id}"),
        job: 2,
        job_id: "ship.trial".into(),
        commit_id: "c1".into(),
        reference: "main".into(),
        way,
        started_by: Some("ines".into()),
        artifacts: digests.iter().map(|digest| (*digest).to_owned()).collect(),
        words: "[]".into(),
        rules_commit: "c0".into(),
    }
}

/// By a person with a name that is also a way.
fn emergency(by: &str) -> Way {
    Way::Emergency { by: by.into(), reason: "it leaks".into() }
}

async fn deploy(records: &Records, environment: i64, new: &NewDeployment, end: End, at: i64) {
    for _ in 0..2 {
        change!(records, at - 1, let_in(environment, new)).expect("let in");
    }
    for _ in 0..2 {
        change!(records, at, deployment_ended(environment, (new.run_id, 2), &end, Some("200 c1"), at)).expect("ended");
    }
}

#[tokio::test]
async fn what_was_put_there_stays_until_something_else_is_there_and_a_roll_back_says_what_went_wrong() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let trial = change!(records, 5, environment(project.id, "trial")).expect("made").id;
    assert_eq!(change!(records, 6, environment(project.id, "trial")).expect("the same").id, trial);
    assert_eq!(records.environments(project.id).await.expect("an answer").len(), 1);
    deploy(&records, trial, &new(1, Way::Forward, &["sha256:a", "sha256:x"]), End::Well, 10).await;
    deploy(&records, trial, &new(2, Way::Forward, &["sha256:b"]), End::Failed { why: "exit code 1".into(), back: true }, 20).await;
    deploy(&records, trial, &new(3, Way::Forward, &["sha256:b"]), End::Well, 30).await;
    deploy(&records, trial, &new(4, Way::RollBack, &["sha256:a", "sha256:x"]), End::Well, 40).await;
    deploy(&records, trial, &new(5, Way::Forward, &["sha256:c"]), End::Lost { why: "it fell silent".into() }, 50).await;
    deploy(&records, trial, &new(6, Way::Forward, &["sha256:c"]), End::Untouched, 60).await;
    let stays = |digest: &'static str| records.stays(project.id, "trial", digest);
    let there = |since, until| Stay { since, until, trouble: None };
    assert_eq!(stays("sha256:x").await.expect("an answer"), [there(10, Some(30)), there(40, None)]);
    let rolled_back = Stay { since: 30, until: Some(40), trouble: Some("it was rolled back".into()) };
    assert_eq!(stays("sha256:b").await.expect("an answer"), [rolled_back], "what failed was never there");
    assert_eq!(stays("sha256:c").await.expect("an answer"), []);
    assert_eq!(records.stays(project.id, "quay", "sha256:a").await.expect("an answer"), []);
    let rows = records.deployments(trial, None, 4).await.expect("an answer");
    let told: Vec<(i64, Option<&str>, bool)> = rows.iter().map(|row| (row.number, row.outcome.as_deref(), row.back)).collect();
    assert_eq!(told, [(6, Some("untouched"), false), (5, Some("lost"), false), (4, Some("well"), false), (3, Some("well"), false)]);
    let older = records.deployments(trial, Some(3), 4).await.expect("an answer");
    assert_eq!(older.iter().map(|row| (row.number, row.back, row.let_in_at)).collect::<Vec<_>>(), [(2, true, 19), (1, false, 9)]);
}

#[tokio::test]
async fn an_environment_is_kept_with_the_moment_at_which_it_wakes() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let row = change!(records, 5, environment(project.id, "pier")).expect("made");
    assert_eq!(row.machine().expect("a state"), Environment::default());
    let frozen = Frozen { by: "ines".into(), reason: "stocktaking".into(), until: Some(90) };
    let mut state = Environment::default();
    state.frozen = Some(frozen);
    change!(records, 6, set_environment(row.id, &state)).expect("kept");
    let row = records.environment(project.id, "pier").await.expect("an answer").expect("there");
    assert_eq!(row.machine().expect("a state"), state);
    assert!(records.busy_environments().await.expect("an answer").is_empty(), "nobody waits for that");
    assert_eq!(records.next_environment_wakes().await.expect("an answer"), None);
    assert!(records.environment(project.id, "quay").await.expect("an answer").is_none());
}

#[tokio::test]
async fn an_emergency_is_confirmed_once_and_nothing_else_is() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let pier = change!(records, 5, environment(project.id, "pier")).expect("made").id;
    deploy(&records, pier, &new(1, emergency("close"), &["sha256:a"]), End::Well, 10).await;
    deploy(&records, pier, &new(2, Way::Forward, &["sha256:b"]), End::Well, 20).await;
    for (run, by) in [(1, "lars"), (1, "odd"), (2, "lars")] {
        change!(records, 30, deployment_confirmed(pier, (run, 2), by)).expect("confirmed");
    }
    let rows = records.deployments(pier, None, 9).await.expect("an answer");
    let told: Vec<(i64, Option<&str>)> = rows.iter().map(|row| (row.run_id, row.confirmed_by.as_deref())).collect();
    assert_eq!(told, [(2, None), (1, Some("lars"))]);
    // Whose name is also a way has put something there all the same.
    assert_eq!(records.deployments_with(project.id, &["sha256:a".to_owned()]).await.expect("an answer").len(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_environment_and_what_is_there_are_read_as_of_one_moment() {
    const RUNS: i64 = 200;
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let pier = change!(records, 5, environment(project.id, "pier")).expect("made").id;
    let writer = {
        let records = records.clone();
        tokio::spawn(async move {
            for run in 1..=RUNS {
                change!(records, run, let_in(pier, &new(run, Way::Forward, &["sha256:a"]))).expect("let in");
                let mut tx = records.tx_by_rule("a test", run).await.expect("a change");
                tx.deployment_ended(pier, (run, 2), &End::Well, None, run).await.expect("ended");
                let put = Put { job: (run, 2), called: String::new(), artifacts: ["sha256:a".to_owned()].into(), since: run, side: None };
                let mut state = Environment::default();
                state.present = Some(put);
                tx.set_environment(pier, &state).await.expect("kept");
                tx.commit().await.expect("written");
            }
        })
    };
    loop {
        let over = writer.is_finished();
        let held = records.held(project.id, Some("pier")).await.expect("an answer");
        let [(row, present)] = held.as_slice() else { panic!("one environment: {held:?}") };
        let said = row.machine().expect("a state").present.map(|put| put.job.0);
        assert_eq!(said, present.as_ref().map(|there| there.run_id), "both are of one moment");
        if over {
            assert_eq!(said, Some(RUNS));
            break;
        }
    }
    writer.await.expect("all written");
}
