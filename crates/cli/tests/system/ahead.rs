//! A slot whose jobs end quickly has the next one in hand. Nobody waits for that one: not a free runner, when the job before
//! takes long, and not the run, when a service or a runner goes away meanwhile.

use super::faults::journal;
use super::world;
use ordotaxis_testbed::{Answer, Repository, RunnerOptions, Simulated, World, leased, leased_ahead, until};
use serde_json::{Value, json};

/// So many quick jobs; in place of the third one that waits for a file.
fn pipeline(world: &World, jobs: usize) -> String {
    let long = format!("while ! [ -e {} ]; do sleep 0.02; done", world.folder.path().join("go").display());
    let step = |at: usize| if at == 2 { long.as_str() } else { "true" };
    let job = |at: usize| format!("[job.a.j{at}]\ncheckout = false\nsteps = [\"{}\"]\n", step(at));
    "language = 1\n".to_owned() + &(0..jobs).map(job).collect::<String>()
}

fn one_slot() -> RunnerOptions<'static> {
    RunnerOptions { slots: 1, ..RunnerOptions::default() }
}

/// Every job passed with its first attempt, and nothing is left of another.
fn check_all_passed_once(run: &Value) {
    assert_eq!(run["state"], "passed", "{}", run["sentence"]);
    for job in run["jobs"].as_array().expect("jobs") {
        let attempts = job["attempts"].as_array().expect("attempts");
        assert_eq!(attempts.len(), 1, "{job}");
        assert_eq!((&attempts[0]["number"], &attempts[0]["state"]), (&json!(1), &json!("passed")), "{job}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_behind_a_long_job_goes_to_whoever_is_free() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _busy = world.runner(one_slot()).await;
    let commit = repository.push_pipeline(&pipeline(&world, 10));
    let long_runs = |run: &Value| World::job(run, "a.j2")["state"] == "running";
    world.run_of("tidegauge", &commit, "the long job", long_runs).await;
    // Another runner does everything else, the job too that the first had in hand.
    let _free = world.runner(one_slot()).await;
    let rest_passed = |run: &Value| (0..10).filter(|at| *at != 2).all(|at| World::job(run, &format!("a.j{at}"))["state"] == "passed");
    let run = world.run_of("tidegauge", &commit, "all the others", rest_passed).await;
    assert_eq!(World::job(&run, "a.j2")["state"], "running");
    std::fs::write(world.folder.path().join("go"), "").expect("a file");
    check_all_passed_once(&world.verdict("tidegauge", &commit).await);
    world.kill_service();
    let events = journal(&world.folder.path().join("service")).await;
    let was = |job: &str| {
        let states = events.iter().filter(|event| event["job"] == job).filter_map(|event| event["state"].as_str());
        states.map(str::to_owned).collect::<Vec<_>>()
    };
    let given_back: Vec<String> =
        (0..10).map(|at| format!("a.j{at}")).filter(|job| was(job).windows(2).any(|two| two == ["running", "queued"])).collect();
    assert_eq!(given_back.len(), 1, "one job was in hand behind the long one: {given_back:?}");
}

/// A run of quick jobs, and a runner without processes.
async fn set(world: &World) -> (Repository, String, Simulated) {
    let repository = world.project("tidegauge").await;
    std::fs::write(world.folder.path().join("go"), "").expect("a file");
    let commit = repository.push_pipeline(&pipeline(world, 12));
    let quay = Simulated::enrol(&world.url, &world.url, &world.invitation().await, "quay").await.expect("it enrols");
    assert!(matches!(quay.sign_on(1).await, Answer::Is(_)));
    world.run_of("tidegauge", &commit, "a queue", |run| World::job(run, "a.j11")["state"] == "queued").await;
    (repository, commit, quay)
}

#[tokio::test(flavor = "multi_thread")]
async fn only_who_has_a_job_in_hand_gives_it_back_and_only_that_job() {
    let world = world().await;
    let (_repository, commit, quay) = set(&world).await;
    let first = leased(&quay.claim(0).await.0).expect("a lease");
    let answer = quay.finish_quick(&first, 0, &[]).await;
    let (second, (third, taken_at)) = (leased(&answer).expect("a lease"), leased_ahead(&answer).expect("one in hand"));
    let spar = Simulated::enrol(&world.url, &world.url, &world.invitation().await, "spar").await.expect("it enrols");
    assert!(matches!(spar.sign_on(1).await, Answer::Is(_)));
    for (what, answer) in [
        ("what it has begun", quay.give_back(&second, 0, taken_at).await),
        ("an older lease", quay.give_back(&third, 0, taken_at - 1).await),
        ("another slot's", quay.give_back(&third, 1, taken_at).await),
        ("from another life", quay.restarted(2).give_back(&third, 0, taken_at).await),
    ] {
        assert!(matches!(answer, Answer::GivenUp), "{what}: {answer:?}");
    }
    assert!(matches!(spar.give_back(&third, 0, taken_at).await, Answer::Is(_)), "what it does not hold is given back already");
    for wrong in ["x", "1-2", "1-2-99999999999"] {
        assert!(matches!(quay.give_back(wrong, 0, taken_at).await, Answer::Broken), "{wrong}");
    }
    let running = |job: &str, run: &Value| World::job(run, job)["state"] == "running";
    let run = world.run_of("tidegauge", &commit, "two leases", |run| running("a.j1", run)).await;
    assert!(running("a.j2", &run), "it is quay's still: {run}");
    assert!(matches!(quay.give_back(&third, 0, taken_at).await, Answer::Is(_)));
    assert_eq!(leased(&spar.claim(0).await.0), Some(third.clone()), "the first in the queue again, and its first attempt");
    assert!(matches!(quay.give_back(&third, 0, taken_at).await, Answer::Is(_)), "a repeat");
    assert!(matches!(quay.finish(&third, 0, false).await, Answer::GivenUp), "it has no result of it");
    assert!(matches!(spar.finish(&third, 0, false).await, Answer::Is(_)), "spar has");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_in_hand_outlives_the_service_and_a_lost_answer() {
    let mut world = world().await;
    let (_repository, commit, quay) = set(&world).await;
    let first = leased(&quay.claim(0).await.0).expect("a lease");
    // The answer to this never arrived, and then the service was killed.
    let lost = quay.finish_quick(&first, 0, &[]).await;
    world.kill_service();
    world.start_service();
    let again = until("the service", || async { matches!(quay.sign_on(1).await, Answer::Is(_)).then_some(()) });
    again.await;
    let answer = quay.claim(0).await.0;
    let mut known = [leased(&lost), leased_ahead(&lost).map(|(ahead, _)| ahead)];
    let mut leases = [leased(&answer), leased_ahead(&answer).map(|(ahead, _)| ahead)];
    known.sort();
    leases.sort();
    assert_eq!(leases, known, "both leases are the slot's still");
    let (mut attempt, mut hand) = (leased(&answer).expect("a lease"), leased_ahead(&answer).map(|(ahead, _)| ahead));
    loop {
        let holding: Vec<String> = hand.iter().cloned().collect();
        let answer = quay.finish_quick(&attempt, 0, &holding).await;
        let Some(next) = hand.take().or(leased(&answer)) else { break };
        (attempt, hand) = (next, leased_ahead(&answer).map(|(ahead, _)| ahead));
    }
    check_all_passed_once(&world.verdict("tidegauge", &commit).await);
}

/// A runner that is asked to leave while it has a job in hand gives that back: the other one gets it, and nothing is lost.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_leaves_takes_nothing_along() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    std::fs::write(world.folder.path().join("go"), "").expect("a file");
    let mut leaves = world.runner(one_slot()).await;
    let commit = repository.push_pipeline(&pipeline(&world, 150));
    let begun = |run: &Value| (20..150).any(|at| World::job(run, &format!("a.j{at}"))["state"] == "passed");
    world.run_of("tidegauge", &commit, "quick jobs", begun).await;
    leaves.signal(nix::sys::signal::Signal::SIGTERM);
    assert!(leaves.ended(ordotaxis_testbed::PATIENCE).is_some_and(|status| status.success()), "it leaves");
    let _stays = world.runner(one_slot()).await;
    check_all_passed_once(&world.verdict("tidegauge", &commit).await);
}
