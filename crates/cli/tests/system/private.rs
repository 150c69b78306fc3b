//! Repositories that not everybody may read: the service has what they ask for, runners need nothing and see nothing of it.

use super::{escape::is_root, world};
use ordotaxis_testbed::{Alone, Repository, RunnerOptions, SshForge, World, until};
use serde_json::Value;
use std::process::Command;

/// Starts a project by hand and gives its run, once it has ended.
async fn started(world: &World, project: &str) -> Value {
    let run = world.json(&["start", project]).await;
    let commit = run["commit"].as_str().unwrap_or_default().to_owned();
    let number = run["number"].clone();
    world.run_of(project, &commit, "its end", |run| run["number"] == number && !run["ended_at"].is_null()).await
}

/// Writes a repository's `.gitmodules` and names a commit of another one in it.
fn add_submodule(repository: &Repository, path: &str, url: &str, commit: &str) {
    repository.write(".gitmodules", &format!("[submodule \"{path}\"]\n\tpath = {path}\n\turl = {url}\n"));
    repository.git(&["add", ".gitmodules", "ordotaxis.toml"]);
    repository.git(&["update-index", "--add", "--cacheinfo", &format!("160000,{commit},{path}")]);
    repository.git(&["commit", "--quiet", "-m", "with a submodule"]);
}

/// All that the data folders of service and runners hold, but the sealed records and the service's key.
fn holds(world: &World, word: &str) -> bool {
    let found = Command::new("grep").args(["-r", "-l", "-a", "-F", "--", word]).arg(world.folder.path()).output().expect("grep starts");
    let files = String::from_utf8_lossy(&found.stdout).into_owned();
    files.lines().any(|file| !file.contains("/forge/") && !file.contains("/work/"))
}

/// The runner can reach the service and nothing else: neither the forge nor any other address.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_reaches_only_the_service_builds_a_private_project() {
    let world = world().await;
    let token = "salt-and-mud-in-the-lock";
    let (keel, _) = world.private_repository("keel", token).await;
    keel.write("keel.c", "int keel;\n");
    let inner = keel.commit("A keel");
    keel.push();
    let (gauge, address) = world.private_repository("gauge", token).await;
    gauge.write(
        "ordotaxis.toml",
        "language = 1\n[starts]\npush = []\n[env]\nGIT_CONFIG_GLOBAL = \"/dev/null\"\n[job.a.b]\ncheckout = { submodules = true, lfs = true, depth = \"all\" }\nsteps = [\n\
         \"cat deps/keel/keel.c; git -C deps/keel log --format=%s; git submodule status\",\n\
         \"wc -c < data/tide.bin; git status --porcelain; git describe; git remote get-url origin\",\n]\n",
    );
    gauge.git(&["lfs", "install", "--local"]);
    gauge.git(&["lfs", "track", "*.bin"]);
    gauge.write("data/tide.bin", &"ebb and flow ".repeat(10_000));
    gauge.commit("A gauge");
    gauge.git(&["tag", "-a", "v1.0", "-m", "The first"]);
    add_submodule(&gauge, "deps/keel", "../keel.git", &inner);
    gauge.git(&["push", "--quiet", "origin", "HEAD", "--tags"]);

    let with_password = address.replace("http://", &format!("http://practice:{token}@"));
    let refused = world.run(&["project", "add", "gauge", "--git", &with_password]).await;
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(refused.err.contains(&format!("ordotaxis project add NAME --git {address} --user practice")), "{refused:?}");
    assert!(!refused.err.contains(token));
    let added = world.run_with(&["project", "add", "gauge", "--git", &address, "--user", "practice"], &format!("{token}\n")).await;
    assert_eq!(added.code, 0, "{added:?}");
    let shown = world.run(&["project", "show", "gauge"]).await.out;
    assert!(shown.contains("practice at http://127.0.0.1") && !shown.contains(token), "{shown}");

    let alone = is_root().then(|| Alone::with(&world.url));
    let within = alone.as_ref().map_or_else(Vec::new, Alone::entered);
    let _runner = world.runner(RunnerOptions { within, ..RunnerOptions::default() }).await;

    let run = started(&world, "gauge").await;
    let log = world.log(&run, "a.b").await;
    assert_eq!(run["state"], "passed", "{} {log}", run["jobs"][0]["why"]);
    assert!(log.contains("int keel;") && log.contains("A keel") && log.contains(&format!(" {inner} deps/keel")), "{log}");
    assert!(log.contains("130000") && log.contains("v1.0-1-g") && log.contains(&address), "{log}");
    assert!(!log.contains(" M ") && !log.contains("??"), "clean: {log}");
    assert!(!holds(&world, token), "nothing but the sealed records has the password");
    // Without it nothing new can be read, and the sentence says what to do.
    let out = world.run(&["project", "logout", "gauge"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    gauge.write("x", "y");
    gauge.commit("one more");
    gauge.push();
    let start = world.run(&["start", "gauge"]).await;
    assert!(start.code != 0 && start.err.contains("cannot be read now"), "{start:?}");
}

/// A key that the service makes, a server's key that is pinned: real sshd, real gitolite.
#[tokio::test(flavor = "multi_thread")]
async fn a_project_is_read_by_ssh_with_a_key_of_its_own() {
    let world = world().await;
    let mut forge = SshForge::start(&world.folder.path().join("ssh"));
    forge.set_up(&["almanac"], &[]);
    let url = forge.url("almanac");
    let almanac = world.folder.path().join("almanac");
    let git = |arguments: &[&str]| {
        let mut command = Command::new("git");
        command.env("GIT_SSH_COMMAND", forge.as_admin()).args(["-c", "user.name=Odd", "-c", "user.email=odd@saltmarsh.example"]);
        let output = command.args(arguments).current_dir(&almanac).output().expect("git starts");
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    std::fs::create_dir(&almanac).expect("a folder");
    std::fs::write(almanac.join("ordotaxis.toml"), "language = 1\n[job.a.b]\nsteps = [\"git log --format=%s\"]\n").expect("a file");
    git(&["init", "--quiet", "--initial-branch=main"]);
    git(&["add", "--all"]);
    git(&["commit", "--quiet", "-m", "Waters of a week"]);
    git(&["push", "--quiet", &url, "main"]);

    let added = world.run(&["project", "add", "almanac", "--git", &url]).await;
    assert!(added.code == 0 && added.err.contains("its main branch is taken to be main until it can be asked"), "{added:?}");
    let _runner = world.runner(RunnerOptions::default()).await;
    let key = world.run(&["project", "key", "almanac"]).await;
    assert!(key.code == 0 && key.out.starts_with("ssh-ed25519 "), "{key:?}");
    assert_eq!(world.run(&["project", "key", "almanac"]).await.out, key.out, "the same key");
    // Nobody has let it in yet.
    let start = world.run(&["start", "almanac"]).await;
    assert!(start.code != 0 && start.err.contains("Permission denied"), "{start:?}");
    forge.set_up(&["almanac"], &[("ordotaxis", key.out.trim())]);
    let run = started(&world, "almanac").await;
    assert_eq!(run["state"], "passed", "{run}");
    assert!(world.log(&run, "a.b").await.contains("Waters of a week"));
    let shown = world.run(&["project", "show", "almanac"]).await.out;
    assert!(shown.contains("pinned      [127.0.0.1]:") && shown.contains("ssh-ed25519 SHA256:"), "{shown}");
    until("the key to be gone: it is a file for the time of one call", || async {
        let keys = Command::new("find").arg(world.folder.path().join("service")).args(["-name", "key"]).output().expect("find starts");
        keys.stdout.is_empty().then_some(())
    })
    .await;
    // Another server at its address is not spoken with, until someone says so.
    forge.serve();
    let start = world.run(&["start", "almanac"]).await;
    assert!(start.code != 0 && start.err.contains("Host key verification failed"), "{start:?}");
    let forgotten = world.run(&["project", "key", "almanac", "--forget-hosts"]).await;
    assert_eq!(forgotten.code, 0, "{forgotten:?}");
    assert_eq!(started(&world, "almanac").await["state"], "passed");
    assert!(world.json(&["journal", "almanac"]).await.to_string().contains("hosts forgotten"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_main_branch_is_what_the_repository_says() {
    let world = world().await;
    let place = world.folder.path().join("old.git");
    let git = |arguments: &[&str]| {
        let status = Command::new("git").args(arguments).current_dir(world.folder.path()).status().expect("git starts");
        assert!(status.success());
    };
    git(&["init", "--quiet", "--bare", "--initial-branch=master", "old.git"]);
    let path = place.display().to_string();
    // While it is empty nobody knows.
    let added = world.run(&["project", "add", "old", "--git", &path]).await;
    assert!(added.code == 0 && added.err.contains("names no branch as its main one"), "{added:?}");
    git(&["clone", "--quiet", "old.git", "old"]);
    std::fs::write(world.folder.path().join("old/ordotaxis.toml"), "language = 1\n[job.a.b]\nsteps = [\"true\"]\n").expect("a file");
    git(&["-C", "old", "add", "--all"]);
    git(&["-C", "old", "-c", "user.name=Odd", "-c", "user.email=odd@x", "commit", "--quiet", "-m", "x"]);
    git(&["-C", "old", "push", "--quiet", "origin", "HEAD"]);
    let _runner = world.runner(RunnerOptions::default()).await;
    assert_eq!(started(&world, "old").await["state"], "passed");
    assert_eq!(world.json(&["project", "show", "old"]).await["main_branch"], "master");
    let second = world.run(&["project", "add", "second", "--git", &path]).await;
    assert!(second.out.contains("main branch master"), "{second:?}");
    let set = world.run(&["project", "main-branch", "second", "other"]).await;
    assert!(set.out.contains("the main branch of second is other"), "{set:?}");
    let back = world.run(&["project", "main-branch", "second"]).await;
    assert!(back.out.contains("is master, as the repository names it"), "{back:?}");
    assert_eq!(world.run(&["project", "main-branch", "second", "-x"]).await.code, 2);
}

/// What a submodule names is written by anyone who may push, or propose.
#[tokio::test(flavor = "multi_thread")]
async fn a_submodule_does_not_lead_where_the_project_may_not_read() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { outside: "yes", ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let secret = world.folder.path().join("secret.git");
    let made = Command::new("git").args(["clone", "--quiet", "--bare"]).arg(&repository.folder).arg(&secret).status();
    assert!(made.is_ok_and(|status| status.success()));
    let inner = repository.git(&["rev-parse", "HEAD"]);
    let pipeline = "language = 1\n[job.a.b]\ncheckout = { submodules = true }\nsteps = [\"ls x\"]\n";
    for (url, why) in [
        (secret.display().to_string(), "is not an address of another machine"),
        ("ext::sh -c touch$IFS/tmp/ran".to_owned(), "not an address that git can clone from"),
        ("../../../../x".to_owned(), "not an address"),
        ("--upload-pack=evil".to_owned(), "not an address"),
    ] {
        repository.write("ordotaxis.toml", pipeline);
        add_submodule(&repository, "x", &url, &inner);
        let commit = repository.git(&["rev-parse", "HEAD"]);
        repository.push();
        let run = world.verdict("tidegauge", &commit).await;
        let told = run["jobs"][0]["why"].as_str().unwrap_or_default();
        assert!(run["state"] == "failed" && told.contains("submodule x") && told.contains(why), "{url}: {told}");
    }
}
