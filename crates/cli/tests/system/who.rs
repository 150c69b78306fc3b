//! Who may get which job and which secret: invitations, proposals from outside, where secrets go, runners that are removed.

use super::{world, world_with};
use ordotaxis_testbed::{Answer, Process, Repository, RunnerOptions, Simulated, World, leased, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const STARTS: &str = "language = 1\n[starts]\npush = [\"main\", \"topic/*\"]\nproposal = [\"main\"]\n";

fn state<'r>(run: &'r Value, job: &str) -> &'r str {
    World::job(run, job)["state"].as_str().unwrap_or_default()
}

/// Pushes a branch with one more commit and proposes it.
async fn propose(world: &World, repository: &Repository, source: &str, note: &str, outside: bool) -> String {
    repository.git(&["checkout", "--quiet", "-B", source, "main"]);
    repository.write("note", note);
    let commit = repository.commit(note);
    repository.git(&["push", "--quiet", "--force", "origin", &format!("HEAD:refs/heads/{source}")]);
    repository.git(&["checkout", "--quiet", "main"]);
    world.propose(&repository.name, source, outside).await;
    commit
}

/// The newest run of a proposal, once it is as it should be.
async fn proposals_run(world: &World, title: &str, fits: impl Fn(&Value) -> bool) -> Value {
    until(&format!("the run of `{title}`"), || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        let run = runs.as_array()?.iter().find(|run| run["occasion"]["event"] == "proposal" && run["commit_title"] == title)?.clone();
        let run = world.json(&["show", run["run"].as_str()?]).await;
        fits(&run).then_some(run)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_has_the_labels_of_its_invitation_and_no_others() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    // It says that it has a label, that it is a strange system, and what it was granted of it.
    let plain = world
        .runner(RunnerOptions {
            config: Some("labels = [\"prod-deploy\", \"usb\"]\n"),
            labels: &["usb", "spare"],
            ..RunnerOptions::default()
        })
        .await;
    let text = "language = 1\n[job.a.ship]\nwhere = [\"prod-deploy\"]\nsecrets = [\"STATION_KEY\"]\nsteps = [\"echo $STATION_KEY\"]\n[job.a.usb]\nwhere = [\"usb\"]\nsteps = [\"true\"]\n";
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud\n").await.code, 0);
    let commit = repository.push_pipeline(text);
    let run = world.run_of("tidegauge", &commit, "the job with usb", |run| state(run, "a.usb") == "passed").await;
    let why = World::job(&run, "a.ship")["why"].as_str().unwrap_or_default().to_owned();
    assert!(state(&run, "a.ship") == "queued" && why.starts_with("no connected runner has the label prod-deploy"), "{run}");
    assert!(!plain.said().contains("prod-deploy,"), "{}", plain.said());
    let listed = world.json(&["runner", "list"]).await;
    assert_eq!(listed[0]["labels"], json!(["linux", "x86_64", "usb"]), "what it does not say it does not offer");
    assert_eq!(listed[0]["grant"]["labels"], json!(["usb", "spare"]));
    assert!(listed[0]["fence"].as_str().is_some_and(|fence| fence.starts_with("none: jobs are processes of the runner's own user")));
    // Granted by someone who may: it counts at once.
    assert_eq!(world.run(&["runner", "set", "runner-1", "--label", "usb", "--label", "prod-deploy"]).await.code, 0);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(state(&run, "a.ship"), "passed", "{run}");
    for label in ["a b", "x\ny", "<b>", "", &"x".repeat(65)] {
        let invite = world.http(Method::POST, "/api/v1/runner-invitations").json(&json!({ "grant": { "labels": [label] } })).send();
        assert_eq!(invite.await.expect("an answer").status(), StatusCode::UNPROCESSABLE_ENTITY, "{label:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_for_one_project_takes_no_other_and_a_removed_one_nothing() {
    let world = world().await;
    let (repository, other) = (world.project("tidegauge").await, world.project("almanac").await);
    let runner: Process = world.runner(RunnerOptions::default()).await;
    assert_eq!(world.run(&["runner", "set", "runner-1", "--project", "almanac"]).await.code, 0);
    let unknown = world.run(&["runner", "set", "runner-1", "--project", "almanach"]).await;
    assert!(unknown.code == 2 && unknown.err.contains("did you mean almanac?"), "{unknown:?}");
    let slow = "language = 1\n[job.a.slow]\nsteps = [\"sleep 60\"]\n";
    let (ours, theirs) = (repository.push_pipeline(slow), other.push_pipeline(slow));
    world.run_of("almanac", &theirs, "a running job", |run| state(run, "a.slow") == "running").await;
    let run = world.run_of("tidegauge", &ours, "a queued job", |run| state(run, "a.slow") == "queued").await;
    let why = World::job(&run, "a.slow")["why"].as_str().unwrap_or_default();
    assert!(why.starts_with("no connected runner takes jobs of tidegauge"), "{why}");
    // Removed: its job is lost at once, and its word is nothing any more.
    let removed = world.run(&["runner", "remove", "runner-1"]).await;
    assert_eq!(removed.code, 0, "{removed:?}");
    let run = world.verdict("almanac", &theirs).await;
    assert!(
        state(&run, "a.slow") == "lost" && World::job(&run, "a.slow")["why"].as_str().is_some_and(|why| why.contains("removed by owner")),
        "{run}"
    );
    let credential = std::fs::read_to_string(world.folder.path().join("runner-1/runner.toml")).expect("an identity");
    let credential =
        credential.lines().find_map(|line| line.strip_prefix("credential = \"")).expect("a credential").trim_end_matches('"').to_owned();
    let claim = reqwest::Client::new().post(format!("{}/runner/v1/claim", world.url)).bearer_auth(credential);
    let answer = claim.json(&json!({ "session": "x", "slot": 0 })).send().await.expect("an answer");
    assert_eq!(answer.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(world.json(&["runner", "list"]).await.as_array().map(Vec::len), Some(0));
    drop(runner);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_from_outside_waits_for_someone_and_for_a_runner_that_takes_it() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let text = format!("{STARTS}[job.a.b]\nsteps = [\"cat note || true\"]\n[job.a.ship]\nturn = \"ship\"\nsteps = [\"true\"]\n");
    let commit = repository.push_pipeline(&text);
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    propose(&world, &repository, "topic/one", "First", true).await;
    let run = proposals_run(&world, "First", |run| run["held"] == true).await;
    let name = run["run"].as_str().expect("a name").to_owned();
    let sentence = run["sentence"].as_str().unwrap_or_default();
    assert!(
        run["state"] == "waiting" && sentence.contains("someone must allow it") && sentence.contains(&format!("ordotaxis allow {name}")),
        "{run}"
    );
    assert_eq!(run["jobs"].as_array().map(Vec::len), Some(2), "what would run is shown");
    assert_eq!(World::job(&run, "a.b")["why"], "its run comes from outside, and waits for someone to allow it", "{run}");
    // A newer commit of it: nobody need look at the older one any more. It changes the pipeline, and says so.
    repository.git(&["checkout", "--quiet", "-B", "topic/one", "main"]);
    repository.write("ordotaxis.toml", &text.replace("cat note", "cat /etc/passwd"));
    repository.commit("Second");
    repository.git(&["push", "--quiet", "--force", "origin", "HEAD:refs/heads/topic/one"]);
    repository.git(&["checkout", "--quiet", "main"]);
    world.propose("tidegauge", "topic/one", true).await;
    let second = proposals_run(&world, "Second", |run| run["held"] == true).await;
    assert!(second["sentence"].as_str().is_some_and(|sentence| sentence.ends_with("it changes ordotaxis.toml")), "{second}");
    proposals_run(&world, "First", |run| run["state"] == "overtaken").await;
    let late = world.run(&["allow", &name]).await;
    assert!(late.code == 3 && late.err.contains("does not wait for anybody to allow it"), "{late:?}");
    // Over a restart it waits still.
    let mut world = world;
    world.kill_service();
    world.start_service();
    let name = second["run"].as_str().expect("a name").to_owned();
    assert_eq!(world.json(&["show", &name]).await["held"], true);
    let allowed = world.run(&["allow", &name]).await;
    assert_eq!(allowed.code, 0, "{allowed:?}");
    let queued = proposals_run(&world, "Second", |run| {
        state(run, "a.b") == "queued"
            && World::job(run, "a.b")["why"].as_str().is_some_and(|why| why.contains("no connected runner takes proposals from outside"))
    })
    .await;
    assert_eq!(queued["allowed_by"], "owner");
    assert_eq!(World::job(&queued, "a.ship")["why"], "skipped: it holds a turn, and a proposal from outside holds none");
    let _second = world.runner(RunnerOptions { outside: "only", ..RunnerOptions::default() }).await;
    let run = proposals_run(&world, "Second", |run| !run["ended_at"].is_null()).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(World::job(&run, "a.b")["attempts"][0]["runner"], "runner-2");
    // Stopped in place of being allowed; and a project that takes none.
    propose(&world, &repository, "topic/two", "Third", true).await;
    let third = proposals_run(&world, "Third", |run| run["held"] == true).await;
    assert_eq!(world.run(&["stop", third["run"].as_str().unwrap_or_default()]).await.code, 0);
    assert_eq!(proposals_run(&world, "Third", |run| !run["ended_at"].is_null()).await["state"], "stopped");
    assert_eq!(world.run(&["project", "outside", "tidegauge", "never"]).await.code, 0);
    propose(&world, &repository, "topic/three", "Fourth", true).await;
    propose(&world, &repository, "topic/four", "Fifth", false).await;
    proposals_run(&world, "Fifth", |run| !run["ended_at"].is_null()).await;
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert!(
        !runs.as_array().into_iter().flatten().any(|run| run["commit_title"] == "Fourth" && run["occasion"]["event"] == "proposal"),
        "{runs}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_goes_to_the_main_branch_unless_it_says_otherwise() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud\n").await.code, 0);
    let text = format!("{STARTS}[job.a.b]\nsecrets = [\"STATION_KEY\"]\nsteps = [\"echo begun ${{#STATION_KEY}}\"]\n");
    let commit = repository.push_pipeline(&text);
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    repository.git(&["checkout", "--quiet", "-b", "topic/a"]);
    let commit = repository.push_pipeline(&format!("{text}# a topic\n"));
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(World::job(&run, "a.b")["why"], "secret STATION_KEY goes to main and tags; this is branch topic/a");
    assert!(!world.log(&run, "a.b").await.contains("begun"), "said before it starts");
    let wide = ["secret", "set", "tidegauge", "STATION_KEY", "--branch", "topic/*", "--pipeline", "main"];
    assert_eq!(world.run_with(&wide, "salt and mud\n").await.code, 0);
    let listed = world.run(&["secret", "list", "tidegauge"]).await;
    assert!(listed.out.contains("branches topic/*; pipelines main"), "{listed:?}");
    let commit = repository.push_pipeline(&format!("{text}# another\n"));
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_does_not_make_the_service_read_its_own_disk() {
    let world = world_with("lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"2s\"\nretry_pause = \"50ms\"\nfetch_tries = 2\n[git]\nlocal = [\"/nonexistent\"]\nnear = true\n").await;
    let repository = world.project("tidegauge").await;
    let secret = world.folder.path().join("user@secret.git");
    std::fs::create_dir_all(&secret).expect("a folder");
    let git = |arguments: &[&str]| {
        assert!(std::process::Command::new("git").args(arguments).current_dir(&secret).status().expect("git").success())
    };
    git(&["init", "--quiet", "--initial-branch=main"]);
    std::fs::write(secret.join("deploy.toml"), "language = 1\n[pattern.deploy]\nsteps = [\"true\"]\n").expect("a file");
    git(&["add", "--all"]);
    git(&["-c", "user.name=Odd", "-c", "user.email=o@x", "commit", "--quiet", "-m", "x"]);
    git(&["tag", "v1"]);
    let path = secret.display().to_string();
    for from in [
        path.clone(),
        format!("file://{path}"),
        format!("/usr/lib/systemd/system/user@.service.d/../../../../..{path}"),
        "ext::sh -c 'touch /tmp/x'".to_owned(),
    ] {
        let text = format!(
            "language = 1\n[borrow.p]\ngit = '''{from}'''\nat = \"v1\"\nfile = \"deploy.toml\"\n[job.a.b]\nfollows = \"p:deploy\"\n"
        );
        let commit = repository.push_pipeline(&text);
        let run = world.verdict("tidegauge", &commit).await;
        let told = run.to_string();
        assert!(
            run["state"] == "failed"
                && (told.contains("is not an address of another machine") || told.contains("is not an address that git")),
            "{from}: {told}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_result_of_an_attempt_that_a_runner_never_had_is_refused() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let (first, second) = (world.invitation().await, world.invitation().await);
    let quay = Simulated::enrol(&world.url, &world.url, &first, "quay").await.expect("a runner");
    let spar = Simulated::enrol(&world.url, &world.url, &second, "spar").await.expect("a runner");
    for runner in [&quay, &spar] {
        assert!(matches!(runner.sign_on(1).await, Answer::Is(_)));
    }
    let (answer, _) = quay.claim(0).await;
    let attempt = leased(&answer).expect("a lease");
    assert!(matches!(spar.finish(&attempt, 0, false).await, Answer::GivenUp), "another runner's");
    assert!(matches!(quay.finish("999999-0-1", 0, false).await, Answer::GivenUp), "nobody's");
    assert!(matches!(quay.finish(&attempt, 0, false).await, Answer::Is(_)));
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    // Its run has ended: said again it is answered as before, said by another it is still refused.
    assert!(matches!(quay.finish(&attempt, 0, false).await, Answer::Is(_)));
    assert!(matches!(spar.finish(&attempt, 0, false).await, Answer::GivenUp));
}
