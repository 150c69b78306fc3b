//! What a job finds in its folder: files, history, tags, submodules, as its `checkout` says.

use super::world;
use ordotaxis_testbed::{Repository, RunnerOptions, World, until};

/// A pipeline with one job that has this `checkout` and these steps.
fn pipeline(checkout: &str, steps: &[&str]) -> String {
    let steps = steps.iter().map(|step| format!("  '''{step}''',\n")).collect::<String>();
    format!("language = 1\n[starts]\ntag = [\"**\"]\npush = [\"**\"]\n[job.a.b]\n{checkout}\nsteps = [\n{steps}]\n")
}

/// Pushes the pipeline and gives the log of its one job, which passed.
async fn passes(world: &World, repository: &Repository, checkout: &str, steps: &[&str]) -> String {
    let commit = repository.push_pipeline(&pipeline(checkout, steps));
    let run = world.verdict(&repository.name, &commit).await;
    let log = world.log(&run, "a.b").await;
    assert_eq!(run["state"], "passed", "{checkout}: {} {log}", run["why"]);
    log
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_has_the_commit_its_history_and_its_tags() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    for isolation in ["host", "sandbox"] {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        repository.write("src/gauge.c", isolation);
        let commit = repository.push_pipeline(&pipeline("", &["git rev-parse HEAD", "git status --porcelain", "git log --format=%s"]));
        let run = world.verdict("tidegauge", &commit).await;
        let log = world.log(&run, "a.b").await;
        assert!(run["state"] == "passed" && log.contains(&commit) && log.contains("a change"), "{isolation}: {run} {log}");
        assert!(!log.contains(" M ") && !log.contains("??"), "{isolation}: {log}");
        // The same commit with a tag that was set later.
        repository.git(&["tag", "-a", &format!("v1-{isolation}"), "-m", "A release"]);
        repository.git(&["push", "--quiet", "origin", "--tags"]);
        repository.write("x", isolation);
        let log = passes(&world, &repository, "checkout = { depth = 2 }", &["git describe --dirty", "git rev-list --count HEAD"]).await;
        assert!(log.contains(&format!("v1-{isolation}-1-g")) && log.contains("\n2"), "{isolation}: {log}");
        let log = passes(&world, &repository, "checkout = { depth = \"all\" }", &["git rev-list --count HEAD", "git fsck"]).await;
        assert!(log.contains(&repository.git(&["rev-list", "--count", "HEAD"])), "{isolation}: {log}");
        let some = "checkout = { paths = [\"src/**\"] }\ngives = { all = [\"**\"] }";
        let log = passes(&world, &repository, some, &["ls; git status --porcelain"]).await;
        assert!(log.contains("src") && !log.contains("ordotaxis.toml") && !log.contains(" D "), "{isolation}: {log}");
        let artifacts = world.json(&["artifacts", "tidegauge"]).await;
        assert_eq!(artifacts[0]["files"], 1, "nothing of .git is given: {artifacts}");
        runner.kill();
    }
}

/// A tag that is pushed after its commit was built: the checkout that is kept is not the tag's.
#[tokio::test(flavor = "multi_thread")]
async fn a_release_finds_its_tag() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let steps = ["git tag --points-at HEAD", "git describe --exact-match --tags || echo none"];
    let commit = repository.push_pipeline(&pipeline("", &steps));
    let run = world.verdict("tidegauge", &commit).await;
    assert!(world.log(&run, "a.b").await.contains("none"));
    for (tag, options) in [("v1.0", &["-a", "-m", "A release"][..]), ("light", &[])] {
        repository.git(&[&["tag", tag][..], options].concat());
        repository.git(&["push", "--quiet", "origin", tag]);
        let run = until("a run of the tag", || async {
            let runs = world.json(&["runs", "tidegauge"]).await;
            runs.as_array()?.iter().find(|run| run["occasion"]["tag"] == *tag && !run["ended_at"].is_null()).cloned()
        })
        .await;
        assert!(world.log(&run, "a.b").await.contains(tag), "{run}");
    }
}

/// However a commit came, the service's mirror has the refs that the forge has, as far as they were pushed to.
#[tokio::test(flavor = "multi_thread")]
async fn the_mirror_has_what_the_forge_has() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let refs = |place: &str| {
        let dir = world.folder.path().join(place);
        let output = std::process::Command::new("git").arg("--git-dir").arg(dir).args(["for-each-ref", "refs/heads", "refs/tags"]).output();
        String::from_utf8_lossy(&output.expect("git starts").stdout).into_owned()
    };
    let same = async |commit: &str, what: &str| {
        world.verdict("tidegauge", commit).await;
        let (forge, mirror) = (refs("forge/tidegauge.git"), refs("service/mirrors/tidegauge.git"));
        assert!(!forge.is_empty());
        assert_eq!(forge, mirror, "{what}");
    };
    let file = |text: &str| pipeline("", &[&format!("true {text}")]);
    same(&repository.push_pipeline(&file("1")), "a first push").await;
    same(&repository.push_pipeline(&file("2")), "one more commit").await;
    repository.write("ordotaxis.toml", &file("3"));
    let commit = repository.commit("with a tag");
    repository.git(&["tag", "-a", "v1.0", "-m", "A release"]);
    repository.git(&["push", "--quiet", "--follow-tags", "origin", "HEAD"]);
    same(&commit, "a tag beside its commit").await;
    repository.git(&["checkout", "--quiet", "-b", "topic"]);
    same(&repository.push_pipeline(&file("4")), "a new branch").await;
    repository.git(&["reset", "--quiet", "--hard", "HEAD^"]);
    repository.write("ordotaxis.toml", &file("5"));
    let commit = repository.commit("another way");
    repository.git(&["push", "--quiet", "--force", "origin", "HEAD"]);
    same(&commit, "a branch that was put back").await;
    // Many commits at once, with files that lie deep.
    for n in 0..30 {
        repository.write(&format!("deep/{}/{n}", n % 3), &n.to_string());
        repository.commit("a step");
    }
    same(&repository.push_pipeline(&file("6")), "thirty commits").await;
    let mirror = world.folder.path().join("service/mirrors/tidegauge.git");
    let checked = std::process::Command::new("git").arg("--git-dir").arg(mirror).args(["fsck", "--connectivity-only"]).output();
    assert!(checked.expect("git starts").status.success());
}

/// A runner whose machine crashed: what it had received is damaged, and the next job has its files all the same.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_gets_again_what_was_damaged() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let folder = world.folder.path().join("crashing");
    let options = || RunnerOptions { folder: Some(folder.clone()), ..RunnerOptions::default() };
    let runner = world.runner(options()).await;
    passes(&world, &repository, "", &["git rev-parse HEAD"]).await;
    runner.kill();
    let stores = std::fs::read_dir(folder.join("stores")).expect("stores");
    for pack in stores.flatten().flat_map(|store| std::fs::read_dir(store.path().join("objects/pack")).expect("packs").flatten()) {
        std::fs::remove_file(pack.path()).expect("removed");
        std::fs::write(pack.path(), "").expect("emptied");
    }
    let _runner = world.start_runner("runner-1", &folder, &options());
    let run = world.json(&["again", "tidegauge"]).await;
    let number = run["number"].clone();
    let commit = run["commit"].as_str().unwrap_or_default().to_owned();
    let run = world.run_of("tidegauge", &commit, "its end", |run| run["number"] == number && !run["ended_at"].is_null()).await;
    assert_eq!(run["state"], "passed", "{run}");
}
