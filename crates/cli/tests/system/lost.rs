//! Whatever is killed: no run is lost, none runs a job twice to a result, running jobs go on.

use super::world;
use nix::sys::signal::Signal;
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::Value;
use sqlx::Connection;
use std::path::PathBuf;
use std::time::Duration;

/// A job that waits until a file is there, and one after it.
fn waiting_pipeline(file: &str) -> String {
    format!(
        "language = 1\norder = \"a > b\"\n[job.a.wait]\nretry = {{ times = 2, on = [\"lost\"] }}\ncheckout = false\nsteps = [\"echo started; while ! [ -e {file} ]; do sleep 0.05; done; echo done\"]\n[job.b.after]\ncheckout = false\nsteps = [\"true\"]\n"
    )
}

fn flag(world: &World) -> PathBuf {
    world.folder.path().join("go")
}

async fn running(world: &World, commit: &str) -> Value {
    let started = |run: &Value| World::job(run, "a.wait")["state"] == "running";
    world.run_of("tidegauge", commit, "a running job", started).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_service_goes_on_where_it_was() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let commit = repository.push_pipeline(&waiting_pipeline(&go.display().to_string()));
    running(&world, &commit).await;
    world.kill_service();
    // The job ends while nobody listens; its runner keeps the result.
    std::fs::write(&go, "").expect("a file");
    world.start_service();
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    for job in run["jobs"].as_array().expect("jobs") {
        assert_eq!(job["attempts"].as_array().map(Vec::len), Some(1), "{job}");
    }
    assert!(world.log(&run, "a.wait").await.ends_with("done\n"));
    let statuses = world.statuses_until("tidegauge", &commit, "success").await;
    assert_eq!(statuses.iter().filter(|status| status.state == "success").count(), 1, "{statuses:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_killed_again_and_again_loses_nothing() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let jobs: String = (0..60).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"echo {n}\"]\n")).collect();
    let commit = repository.push_pipeline(&format!("language = 1\n{jobs}"));
    for ended in [5, 20, 40] {
        let enough = |run: &Value| {
            let counts = run["counts"].as_array().into_iter().flatten();
            counts.filter(|count| count["state"] == "passed").filter_map(|count| count["jobs"].as_i64()).sum::<i64>() >= ended
        };
        world.run_of("tidegauge", &commit, "some jobs", enough).await;
        world.kill_service();
        world.start_service();
    }
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    for (n, job) in run["jobs"].as_array().expect("jobs").iter().enumerate() {
        let passed = job["attempts"].as_array().into_iter().flatten().filter(|attempt| attempt["state"] == "passed").count();
        assert_eq!(passed, 1, "{job}");
        assert_eq!(world.log(&run, &format!("a.j{n}")).await, format!("{n}\n"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_runners_job_goes_to_another() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let first = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let commit = repository.push_pipeline(&waiting_pipeline(&go.display().to_string()));
    running(&world, &commit).await;
    let _second = world.runner(RunnerOptions::default()).await;
    first.kill();
    let again = |run: &Value| {
        let job = World::job(run, "a.wait");
        job["state"] == "running" && job["attempts"].as_array().map(Vec::len) == Some(2)
    };
    let run = world.run_of("tidegauge", &commit, "a second attempt", again).await;
    let attempts = &World::job(&run, "a.wait")["attempts"];
    assert_eq!(attempts[0]["state"], "lost");
    assert!(attempts[0]["why"].as_str().is_some_and(|why| why.contains("fell silent")), "{attempts}");
    assert_eq!(attempts[1]["runner"], "runner-2");
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restarted_runner_gives_its_jobs_back_at_once() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions { slots: 1, ..RunnerOptions::default() }).await;
    let go = flag(&world);
    let commit = repository.push_pipeline(&waiting_pipeline(&go.display().to_string()));
    running(&world, &commit).await;
    runner.kill();
    let options = RunnerOptions { slots: 1, ..RunnerOptions::default() };
    let _again = world.start_runner("runner-1", &world.folder.path().join("runner-1"), &options);
    std::fs::write(&go, "").expect("a file");
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed");
    let first = &World::job(&run, "a.wait")["attempts"][0];
    assert!(first["why"].as_str().is_some_and(|why| why.contains("was restarted")), "{first}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_runners_never_get_the_same_job() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runners = [world.runner(RunnerOptions::default()).await, world.runner(RunnerOptions::default()).await];
    let folder = world.folder.path().join("ran");
    std::fs::create_dir(&folder).expect("a folder");
    let mark = folder.display();
    let jobs: String = (0..80).map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"echo ran >> {mark}/{n}\"]\n")).collect();
    let commit = repository.push_pipeline(&format!("language = 1\n{jobs}"));
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed");
    for n in 0..80 {
        assert_eq!(std::fs::read_to_string(folder.join(n.to_string())).expect("a file"), "ran\n", "job {n}");
    }
    let jobs = run["jobs"].as_array().expect("jobs");
    let runners: std::collections::BTreeSet<&str> = jobs.iter().filter_map(|job| job["attempts"][0]["runner"].as_str()).collect();
    assert_eq!(runners.len(), 2, "both took part");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_told_to_leave_finishes_first() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let mut runner = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let commit = repository.push_pipeline(&waiting_pipeline(&go.display().to_string()));
    running(&world, &commit).await;
    runner.signal(Signal::SIGTERM);
    std::fs::write(&go, "").expect("a file");
    assert_eq!(runner.ended(ordotaxis_testbed::PATIENCE).map(|status| status.code()), Some(Some(0)));
    let run = world.run_of("tidegauge", &commit, "the first job's end", |run| World::job(run, "a.wait")["state"] == "passed").await;
    assert_eq!(World::job(&run, "b.after")["state"], "queued");
    let why = until("the runner to be gone", || async {
        let why = world.json(&["why", run["run"].as_str().unwrap_or_default(), "b.after"]).await;
        why["why"].as_str().filter(|why| why.contains("no runner is connected")).map(str::to_owned)
    })
    .await;
    assert!(why.contains("queued since"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_ends_on_a_signal_though_calls_are_open() {
    let mut world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let stream = world.http(reqwest::Method::GET, "/api/v1/live").send().await.expect("a stream");
    let mut service = world.service.take().expect("a service");
    service.signal(Signal::SIGTERM);
    assert_eq!(service.ended(ordotaxis_testbed::PATIENCE).map(|status| status.code()), Some(Some(0)));
    drop(stream);
}

/// The service is stopped for longer than a lease, again and again: that is its own fault, and costs no job.
#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_stood_still_loses_no_job() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let commit = repository.push_pipeline(&waiting_pipeline(&go.display().to_string()));
    running(&world, &commit).await;
    let service = world.service.as_ref().expect("a service");
    for pause in [2_300, 500, 3_100] {
        service.signal(Signal::SIGSTOP);
        // The pause is what is tried here, not something that is waited for.
        tokio::time::sleep(Duration::from_millis(pause)).await;
        service.signal(Signal::SIGCONT);
        running(&world, &commit).await;
    }
    std::fs::write(&go, "").expect("a file");
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    for job in run["jobs"].as_array().expect("jobs") {
        assert_eq!(job["attempts"].as_array().map(Vec::len), Some(1), "{job}");
    }
    assert!(service.said().contains("the service stood still for"), "{}", service.said());
}

/// Whoever follows a log goes on when the service is back, and sees every line once; a line of the runner's own is one by
/// itself, also after output that did not end its last line.
#[tokio::test(flavor = "multi_thread")]
async fn a_followed_log_outlives_the_service() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let step = format!("echo started; while ! [ -e {} ]; do sleep 0.05; done; printf half; exit 3", go.display());
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.wait]\ncheckout = false\nsteps = [\"{step}\"]\n"));
    running(&world, &commit).await;
    let mut follower = world.client();
    follower.args(["logs", "tidegauge/1", "a.wait", "--follow"]).stdout(std::process::Stdio::piped());
    let mut follower = tokio::process::Command::from(follower).spawn().expect("the client starts");
    let mut lines = tokio::io::AsyncBufReadExt::lines(tokio::io::BufReader::new(follower.stdout.take().expect("its output")));
    assert_eq!(lines.next_line().await.expect("a line").as_deref(), Some("started"));
    world.kill_service();
    world.start_service();
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "failed");
    let mut rest = Vec::new();
    while let Some(line) = lines.next_line().await.expect("a line") {
        rest.push(line);
    }
    assert_eq!(rest.first().map(String::as_str), Some("half"));
    assert!(rest.len() == 2 && rest[1].starts_with("ordotaxis: step `") && rest[1].ends_with("exited with 3"), "{rest:?}");
    assert!(follower.wait().await.expect("its end").success());
}

/// What was kept of one run is broken: that run ends and says so, the service starts, and all others go on.
#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_cannot_be_read_back_is_set_aside() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = flag(&world);
    let other = world.folder.path().join("other");
    let broken = repository.push_pipeline(&waiting_pipeline(&other.display().to_string()));
    running(&world, &broken).await;
    let beside = "[starts]\npush = [\"main\"]\novertake = false\n";
    let sound = repository.push_pipeline(&(waiting_pipeline(&go.display().to_string()) + beside));
    running(&world, &sound).await;
    world.kill_service();
    let path = world.folder.path().join("service/ordotaxis.db");
    let mut database = sqlx::SqliteConnection::connect(&format!("sqlite://{}", path.display())).await.expect("the database");
    let changed =
        sqlx::query("UPDATE runs SET plan = substr(plan, 1, 40) WHERE number = 1").execute(&mut database).await.expect("a change");
    assert_eq!(changed.rows_affected(), 1);
    database.close().await.expect("the database");
    world.start_service();
    let run = world.verdict("tidegauge", &broken).await;
    assert_eq!(run["state"], "failed", "{run}");
    assert!(run["why"].as_str().is_some_and(|why| why.contains("cannot be read (runs.plan)")), "{run}");
    world.statuses_until("tidegauge", &broken, "failure").await;
    let shown = world.run(&["show", "tidegauge/1"]).await;
    assert!(shown.out.contains("cannot be read"), "{shown:?}");
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", &sound).await["state"], "passed");
    let again = world.run(&["again", "tidegauge/1"]).await;
    assert!(again.code == 3 && again.err.contains("could not be planned"), "{again:?}");
    std::fs::write(&other, "").expect("a file");
    assert_eq!(world.run(&["start", "tidegauge", "--ref", &broken]).await.code, 0);
}
