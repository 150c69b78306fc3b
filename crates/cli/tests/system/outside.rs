//! What is told outside: in order, again until accepted, also over a restart.

use super::world;
use ordotaxis_testbed::RunnerOptions;

#[tokio::test(flavor = "multi_thread")]
async fn statuses_arrive_in_order_though_the_forge_refuses_and_the_service_is_killed() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    world.forge.refuse_statuses(6);
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    world.kill_service();
    world.start_service();
    let statuses = world.statuses_until("tidegauge", &commit, "success").await;
    let states: Vec<&str> = statuses.iter().map(|status| status.state.as_str()).collect();
    // One that a newer one waits behind is left out; none comes late, and the last always comes.
    let order = ["pending", "running", "success"];
    let places: Vec<Option<usize>> = states.iter().map(|state| order.iter().position(|known| known == state)).collect();
    assert!(places.iter().all(Option::is_some) && places.is_sorted_by(|one, next| one < next), "{states:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plain_git_repository_gets_its_verdicts_as_notes() {
    let world = world().await;
    let bare = world.folder.path().join("plain.git");
    let git = |arguments: &[&str]| {
        let output = std::process::Command::new("git").args(arguments).output().expect("git starts");
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    };
    let path = bare.display().to_string();
    git(&["init", "--quiet", "--bare", "--initial-branch=main", &path]);
    let repository = world.project("other").await;
    repository.write("ordotaxis.toml", "language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let commit = repository.commit("A gauge");
    repository.git(&["push", "--quiet", &path, "HEAD:refs/heads/main"]);
    world.json(&["project", "add", "plain", "--git", &path]).await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let started = world.run(&["start", "plain", "--watch"]).await;
    assert_eq!(started.code, 0, "{started:?}");
    let note = ordotaxis_testbed::until("a note", || async {
        let note = git(&["--git-dir", &path, "notes", "--ref", "ordotaxis", "show", &commit]);
        (!note.is_empty()).then_some(note)
    })
    .await;
    assert!(note.contains("\"state\":\"passed\"") && note.contains("\"run\":\"plain/1\""), "{note}");
}
