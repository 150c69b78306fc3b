//! Commits looked at in another order than they came, and repositories that could not be looked at.

use super::hooks::send;
use super::{world, world_with};
use ordotaxis_store::Records;
use ordotaxis_testbed::{Repository, RunnerOptions, World, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

/// Pushes without telling the service: straight into the forge's folder.
fn push_unheard(world: &World, repository: &Repository) {
    let path = bare(world, &repository.name).display().to_string();
    repository.git(&["push", "--quiet", "--force", &path, "HEAD:main"]);
}

pub(super) fn bare(world: &World, name: &str) -> PathBuf {
    world.folder.path().join(format!("forge/{name}.git"))
}

/// The service is told that main was moved from one commit to another.
async fn tell(world: &World, project: &str, id: &str, before: &str, commit: &str) {
    let body = json!({ "event": "push", "branch": "main", "before": before, "commit": commit, "by": "Ines" }).to_string();
    assert_eq!(send(world, project, id, &body, false).await, StatusCode::OK);
}

/// A pipeline with a schedule, and one job that ends when the file `go` is there.
fn pipeline(schedule: &str, go: &Path) -> String {
    let wait = format!("while test ! -e {}; do sleep 0.02; done", go.display());
    format!("language = 1\n[starts]\npush = [\"main\"]\nschedule = [\"{schedule}\"]\n[job.a.b]\nsteps = [\"{wait}\"]\n")
}

async fn records(world: &World) -> Records {
    Records::open(&world.folder.path().join("service")).await.expect("the records")
}

async fn schedules(records: &Records) -> Vec<String> {
    let due = records.due_schedules(i64::MAX).await.expect("schedules");
    due.into_iter().map(|due| due.line).collect()
}

/// Waits until everything the service was told of has been worked off; says what came of each.
async fn worked_off(records: &Records, so_many: usize) -> Vec<String> {
    until("all occasions worked off", || async {
        let said = records.said().await.expect("occasions");
        (said.len() == so_many && said.iter().all(Option::is_some)).then(|| said.into_iter().flatten().collect())
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_that_is_looked_at_late_undoes_nothing_of_a_newer_one() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { slots: 2, ..Default::default() }).await;
    let go = world.folder.path().join("go");
    let mut commits = Vec::new();
    for month in 1..=3 {
        repository.write("ordotaxis.toml", &pipeline(&format!("0 4 1 {month} *"), &go));
        commits.push(repository.commit(&format!("Month {month}")));
    }
    push_unheard(&world, &repository);
    let [first, second, third] = commits.as_slice() else { panic!("three commits") };
    let records = records(&world).await;
    tell(&world, "tidegauge", "late_3", second, third).await;
    world.run_of("tidegauge", third, "going on", |run| run["state"] == "running").await;
    tell(&world, "tidegauge", "late_2", first, second).await;
    let older = world.verdict("tidegauge", second).await;
    assert_eq!(older["state"], "overtaken", "{older}");
    assert_eq!(older["jobs"][0]["why"], "overtaken by tidegauge/1, a newer commit", "{older}");
    assert_eq!(schedules(&records).await, ["0 4 1 3 *"], "the newer commit's stay");
    let newest = world.run_of("tidegauge", third, "there", |_| true).await;
    assert_eq!(newest["state"], "running", "{newest}");
    std::fs::write(&go, "").expect("a file");
    assert_eq!(world.verdict("tidegauge", third).await["state"], "passed");
    // Late as well, with nothing going on any more: what it would ship was shipped by a newer one.
    tell(&world, "tidegauge", "late_1", "", first).await;
    assert_eq!(world.verdict("tidegauge", first).await["state"], "overtaken");
    // Put back on purpose, as the push says.
    tell(&world, "tidegauge", "back", third, first).await;
    worked_off(&records, 4).await;
    assert_eq!(schedules(&records).await, ["0 4 1 1 *"], "the branch was put back");
    tell(&world, "tidegauge", "forward", first, third).await;
    worked_off(&records, 5).await;
    // A forge that does not say so: the repository does.
    repository.git(&["reset", "--quiet", "--hard", second]);
    push_unheard(&world, &repository);
    tell(&world, "tidegauge", "back_again", "", second).await;
    worked_off(&records, 6).await;
    assert_eq!(schedules(&records).await, ["0 4 1 2 *"], "the branch is there now");
}

#[tokio::test(flavor = "multi_thread")]
async fn commits_without_a_common_history_go_by_when_they_came() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let go = world.folder.path().join("go");
    repository.write("ordotaxis.toml", &pipeline("0 4 1 1 *", &go));
    let one = repository.commit("One beginning");
    push_unheard(&world, &repository);
    tell(&world, "tidegauge", "one", "", &one).await;
    world.run_of("tidegauge", &one, "a run", |_| true).await;
    repository.git(&["checkout", "--quiet", "--orphan", "anew"]);
    repository.write("ordotaxis.toml", &pipeline("0 4 1 2 *", &go));
    let other = repository.commit("Another beginning");
    push_unheard(&world, &repository);
    tell(&world, "tidegauge", "other", "", &other).await;
    world.run_of("tidegauge", &other, "a run", |_| true).await;
    let older = world.verdict("tidegauge", &one).await;
    assert_eq!(older["state"], "overtaken", "the later one overtakes as ever: {older}");
    assert_eq!(schedules(&records(&world).await).await, ["0 4 1 2 *"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_that_is_looked_at_late_is_overtaken_too() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    repository.push_pipeline("language = 1\n[starts]\nproposal = [\"main\"]\n[job.a.b]\nsteps = [\"true\"]\n");
    repository.git(&["checkout", "--quiet", "-b", "topic"]);
    let offers = ["One", "Two"].map(|title| repository.commit(title));
    let path = bare(&world, "tidegauge").display().to_string();
    repository.git(&["push", "--quiet", &path, "HEAD:topic"]);
    for (id, head) in [("two", &offers[1]), ("one", &offers[0])] {
        let body = json!({
            "event": "proposal", "source": "topic", "target": "main", "head": head, "commit": head, "by": "Ines", "outside": false
        });
        assert_eq!(send(&world, "tidegauge", id, &body.to_string(), false).await, StatusCode::OK);
        until("a run of the proposal", || async {
            let runs = world.json(&["runs", "tidegauge"]).await;
            let count = runs.as_array()?.iter().filter(|run| run["occasion"]["event"] == "proposal").count();
            (count == if id == "two" { 1 } else { 2 }).then_some(())
        })
        .await;
    }
    let runs = world.json(&["runs", "tidegauge"]).await;
    let states: Vec<&str> = runs.as_array().into_iter().flatten().filter_map(|run| run["state"].as_str()).collect();
    assert_eq!(states, ["overtaken", "waiting"], "{runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_repository_that_is_away_decides_nothing() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    std::fs::write(&go, "").expect("a file");
    repository.write("ordotaxis.toml", &pipeline("0 4 1 1 *", &go));
    let first = repository.commit("A gauge");
    push_unheard(&world, &repository);
    tell(&world, "tidegauge", "first", "", &first).await;
    world.verdict("tidegauge", &first).await;
    repository.write("ordotaxis.toml", &pipeline("0 4 1 2 *", &go));
    let second = repository.commit("Another month");
    push_unheard(&world, &repository);
    let (here, away) = (bare(&world, "tidegauge"), world.folder.path().join("away"));
    std::fs::rename(&here, &away).expect("the repository goes");
    // One push is told twice: by a hook, say, and by another.
    for id in ["second", "second once more"] {
        tell(&world, "tidegauge", id, &first, &second).await;
    }
    let lost = world.verdict("tidegauge", &second).await;
    assert_eq!(lost["state"], "lost", "{lost}");
    until("both given up", || async {
        let list = world.json(&["work", "list"]).await;
        (list.as_array()?.iter().filter(|one| one["kind"] == "occasion" && one["state"] == "given up").count() == 2).then_some(())
    })
    .await;
    let sentence = lost["sentence"].as_str().expect("a sentence");
    assert!(sentence.starts_with("Could not be looked at: git fetch failed") && sentence.contains("tried 3 times"), "{sentence}");
    let told = world.statuses_until("tidegauge", &second, "error").await;
    assert!(told.last().is_some_and(|status| status.text.starts_with("Could not be looked at")), "{told:?}");
    let records = records(&world).await;
    assert_eq!(schedules(&records).await, ["0 4 1 1 *"], "nobody looked, so nothing changed");
    let still = world.run(&["again", "tidegauge/2"]).await;
    assert!(still.code != 0 && still.err.contains("the commit of tidegauge/2 still cannot be read: git fetch failed"), "{still:?}");
    std::fs::rename(&away, &here).expect("the repository comes back");
    let again = world.run(&["again", "tidegauge/2", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(
        (&runs[0]["run"], &runs[0]["state"], &runs[0]["commit"]),
        (&json!("tidegauge/3"), &json!("passed"), &json!(second)),
        "{runs}"
    );
    assert_eq!(schedules(&records).await, ["0 4 1 2 *"]);
    let known = world.run(&["again", "tidegauge/2"]).await;
    assert!(known.err.contains("nothing of it is to start, or it has its runs already"), "{known:?}");
}

/// While a repository is away and tried again, its project says so; when it is back, all goes on by itself.
#[tokio::test(flavor = "multi_thread")]
async fn a_project_says_what_keeps_it_from_being_read() {
    let world = world_with("lease = \"2s\"\nbeat = \"300ms\"\nfetch_tries = 20\nretry_pause = \"50ms\"\n").await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    let next = repository.commit("A next one");
    push_unheard(&world, &repository);
    let (here, away) = (bare(&world, "tidegauge"), world.folder.path().join("away"));
    std::fs::rename(&here, &away).expect("the repository goes");
    tell(&world, "tidegauge", "next", &commit, &next).await;
    until("the project to say so", || async {
        let listed = world.run(&["project", "list"]).await;
        listed.err.contains("tidegauge cannot be read now, and is tried again: git fetch failed").then_some(())
    })
    .await;
    let shown = world.run(&["project", "show", "tidegauge"]).await;
    assert!(shown.out.contains("trouble     it cannot be read now, and is tried again"), "{shown:?}");
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(1), "nothing is decided: {runs}");
    std::fs::rename(&away, &here).expect("the repository comes back");
    assert_eq!(world.verdict("tidegauge", &next).await["state"], "passed");
    assert_eq!(world.json(&["project", "show", "tidegauge"]).await["trouble"], Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_given_up_is_tried_again_when_it_is_told_again() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.verdict("tidegauge", &commit).await;
    let next = repository.commit("A next one");
    tell(&world, "tidegauge", "early", &commit, &next).await;
    let missing = world.verdict("tidegauge", &next).await;
    assert_eq!(missing["state"], "failed", "it was looked for, and is not there: {missing}");
    push_unheard(&world, &repository);
    tell(&world, "tidegauge", "early", &commit, &next).await;
    let run = world.run_of("tidegauge", &next, "a verdict", |run| run["state"] == "passed").await;
    assert_eq!(run["number"], 3, "{run}");
    tell(&world, "tidegauge", "early", &commit, &next).await;
    let runs = world.json(&["runs", "tidegauge"]).await;
    assert_eq!(runs.as_array().map(Vec::len), Some(3), "once more changes nothing: {runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lender_that_is_away_decides_nothing_and_keeps_no_other_pipeline() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let patterns = world.project("patterns").await;
    patterns.write("patterns.toml", "language = 1\n[pattern.greet]\nsteps = [\"echo hello\"]\n");
    patterns.commit("A greeting");
    patterns.git(&["tag", "v1"]);
    patterns.git(&["push", "--quiet", "origin", "HEAD", "v1"]);
    let (here, away) = (bare(&world, "patterns"), world.folder.path().join("away"));
    std::fs::rename(&here, &away).expect("the lender goes");
    let repository = world.project("tidegauge").await;
    let git = format!("{}/git/patterns.git", world.forge_url);
    let borrow = format!("[borrow.shared]\ngit = \"{git}\"\nat = \"v1\"\nfile = \"patterns.toml\"\n");
    repository.write("ordotaxis.toml", &format!("language = 1\n{borrow}[job.a.greet]\nfollows = \"shared:greet\"\n"));
    repository.write("ordotaxis/other.toml", "language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let commit = repository.commit("Greet");
    repository.push();
    let runs = until("both pipelines' runs", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        let all = runs.as_array()?.iter().all(|run| !run["ended_at"].is_null());
        (all && runs.as_array()?.len() == 2).then_some(runs)
    })
    .await;
    let of = |name: &str| runs.as_array().into_iter().flatten().find(|run| run["pipeline"] == name).cloned().unwrap_or(Value::Null);
    assert_eq!(of("other")["state"], "passed", "{runs}");
    assert_eq!((&of("main")["state"], &of("main")["commit"]), (&json!("lost"), &json!(commit)), "{runs}");
    let sentence = of("main")["sentence"].as_str().unwrap_or_default().to_owned();
    assert!(sentence.contains(&format!("`shared` cannot be borrowed from {git} now")), "{sentence}");
    std::fs::rename(&away, &here).expect("the lender comes back");
    let again = world.run(&["again", of("main")["run"].as_str().unwrap_or_default(), "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
}

/// A file that nobody writes: whoever reads it waits until this is dropped.
pub(super) struct Silent(PathBuf);

impl Silent {
    pub(super) fn in_place_of(path: PathBuf) -> Silent {
        std::fs::rename(&path, path.with_extension("kept")).expect("the file goes");
        let made = std::process::Command::new("mkfifo").arg(&path).status().expect("mkfifo");
        assert!(made.success());
        Silent(path)
    }
}

impl Drop for Silent {
    fn drop(&mut self) {
        // Whoever reads gets the end of it.
        drop(std::fs::OpenOptions::new().read(true).write(true).open(&self.0));
        drop(std::fs::rename(self.0.with_extension("kept"), &self.0));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_repository_that_never_answers_holds_up_no_other() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let slow = world.project("slow").await;
    slow.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    let commit = slow.commit("Never seen");
    let _silent = Silent::in_place_of(bare(&world, "slow").join("HEAD"));
    for id in 0..60 {
        tell(&world, "slow", &format!("slow_{id}"), "", &commit).await;
    }
    let quick = world.project("tidegauge").await;
    for title in ["One", "Two"] {
        quick.write("ordotaxis.toml", &format!("language = 1\n[job.a.b]\nsteps = [\"echo {title}\"]\n"));
        let commit = quick.commit(title);
        quick.push();
        assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    }
    let health = world.http(Method::GET, "/readyz").send().await.expect("an answer");
    assert_eq!(health.status(), StatusCode::OK);
}
