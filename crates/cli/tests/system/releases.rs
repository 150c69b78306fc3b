//! Releases: made from what was built and tested, by tag and by version branch; edited, withdrawn; never of anything else.

use super::delivery::Delivery;
use ordotaxis_testbed::{World, until};
use serde_json::Value;

/// A tag or a version branch is packed, put into the trial and released.
pub(super) const PIPELINE: &str = "language = 1\norder = \"pack > trial > ship\"\n[starts]\npush = [\"main\", \"release/*\"]\ntag = [\"v*\"]\n\
    [job.pack.bundle]\nsteps = [\"mkdir out; cp gauge out/gauge\"]\ngives = { bundle = [\"out\"] }\n\
    reports = { tap = [\"gauge.tap\"] }\n\
    [job.trial.put]\ncheckout = false\ntakes = [\"pack.bundle/bundle\"]\ndeploys = \"trial\"\nsteps = [\"cat out/gauge\"]\n\
    [job.ship.tagged]\ncheckout = false\nif = \"ref.tag != ''\"\ntakes = [\"pack.bundle/bundle\"]\nsteps = [\"cat out/gauge\"]\n\
    releases = { version = \"{tag|after:v}\", notes = \"CHANGES.md#{version}\", title = \"Stations {version}\", assets = [\"pack.bundle/bundle\"] }\n\
    [job.ship.branch]\ncheckout = false\nif = \"ref.branch.startsWith('release/')\"\nby_hand = true\ntakes = [\"pack.bundle/bundle\"]\nsteps = [\"cat out/gauge\"]\n\
    releases = { version = \"{branch|after:release/}\", notes = \"collected\", assets = [\"pack.bundle/bundle\"], draft = true }\n";
const CHANGES: &str = "# Changes\n\n## 1.0.0\n\n- the first gauge\n\n## 0.9.0\n\n- nothing yet\n";

pub(super) async fn project() -> Delivery {
    let delivery = Delivery::new("rules = 1\n").await;
    for (path, text) in [("gauge", "gauge 1\n"), ("CHANGES.md", CHANGES), ("gauge.tap", "1..2\nok 1 - datum\nok 2 - drift\n")] {
        delivery.repository.write(path, text);
    }
    delivery
}

pub(super) fn tag(delivery: &Delivery, name: &str) {
    delivery.repository.git(&["tag", name]);
    delivery.repository.git(&["push", "--quiet", "origin", name]);
}

/// A release, once it is there and fits.
pub(super) async fn release(world: &World, name: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
    until(&format!("release {name}: {what}"), || async {
        let list = world.json(&["release", "list", "stations"]).await;
        list["releases"].as_array()?.iter().find(|one| one["version"] == name && fits(one)).cloned()
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_releases_what_was_built_and_tested_with_its_notes_and_what_it_rests_on() {
    let delivery = project().await;
    let world = &delivery.world;
    let commit = delivery.repository.push_pipeline(&format!("{PIPELINE}[job.ship.later]\nby_hand = true\nsteps = [\"true\"]\n"));
    delivery.holds("trial", &commit).await;
    tag(&delivery, "v1.0.0");
    let made = release(world, "1.0.0", "it is there", |_| true).await;
    assert_eq!(
        (made["state"].as_str(), made["title"].as_str(), made["tag"].as_str()),
        (Some("published"), Some("Stations 1.0.0"), Some("v1.0.0"))
    );
    assert_eq!((made["commit"].as_str(), made["notes"].as_str()), (Some(commit.as_str()), Some("- the first gauge")));
    let run = made["run"].as_str().expect("a run").to_owned();
    // What it rests on, byte for byte; the digest that is shown is that of these bytes.
    let document = world.run(&["release", "show", "stations/1.0.0", "--evidence"]).await.out;
    let evidence: Value = serde_json::from_str(&document).expect("a document");
    assert_eq!((&evidence["commit"], &evidence["run"]["run"], &evidence["tag"]), (&made["commit"], &made["run"], &"v1.0.0".into()));
    let packed = evidence["jobs"].as_array().expect("jobs").iter().find(|job| job["job"] == "pack.bundle").expect("the job");
    assert_eq!((packed["state"].as_str(), packed["numbers"]["tests.passed"].as_f64()), (Some("passed"), Some(2.0)));
    // It rests on nothing that has not ended.
    let ended = |job: &Value| job["ended_at"].is_string() && job["job"] != "ship.later";
    assert!(evidence["jobs"].as_array().is_some_and(|jobs| jobs.len() == 4 && jobs.iter().all(ended)), "{evidence}");
    assert_eq!(evidence["assets"][0]["digest"], made["assets"][0]["digest"]);
    assert!(evidence["assets"][0]["statement"]["sha256"].is_string(), "{evidence}");
    assert!(evidence["deployments"].as_array().is_some_and(|all| all.iter().any(|one| one["environment"] == "trial")), "{evidence}");
    let page = world.json(&["release", "show", "stations/1.0.0"]).await;
    use sha2::Digest;
    let digest: String = sha2::Sha256::digest(document.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect();
    assert_eq!(page["evidence_digest"], format!("sha256:{digest}"));
    // All of it is fetched, with its statement, and verified.
    let to = world.folder.path().join("fetched");
    let got = world.run(&["release", "download", "stations/1.0.0", "--to", &to.display().to_string()]).await;
    assert_eq!(got.code, 0, "{got:?}");
    assert_eq!(std::fs::read_to_string(to.join("bundle/out/gauge")).expect("the gauge"), "gauge 1\n");
    let good = world.run(&["verify", &to.join("bundle").display().to_string()]).await;
    assert!(good.code == 0 && good.out.contains("is pack.bundle/bundle"), "{good:?}");
    // It is kept for good, and found from both sides.
    let pinned = world.run(&["artifacts", &run, "pin", "bundle", "--undo"]).await;
    assert!(pinned.code != 0 && pinned.err.contains("belongs to release 1.0.0"), "{pinned:?}");
    let traced = world.run(&["trace", "stations/1.0.0"]).await;
    assert!(
        traced.out.contains(&commit[..8]) && traced.out.contains("in release 1.0.0 (published)") && traced.out.contains("in trial since"),
        "{traced:?}"
    );
    words(&delivery).await;
    taken(&delivery).await;
}

/// Notes are changed with what was before kept; a release goes back, and comes again.
async fn words(delivery: &Delivery) {
    let world = &delivery.world;
    let reader = delivery.person("odd", "reader").await;
    for arguments in
        [&["release", "edit", "stations/1.0.0", "--title", "x"][..], &["release", "withdraw", "stations/1.0.0", "--reason", "x"]]
    {
        let refused = delivery.say(&reader, arguments).await;
        assert!(refused.code != 0 && refused.err.contains("editor"), "{refused:?}");
    }
    let edited = world.run_with(&["release", "edit", "stations/1.0.0", "--notes", "-"], "- the first gauge, **and well**\n").await;
    assert!(edited.code == 0 && edited.out.contains("and well"), "{edited:?}");
    let edits = world.run(&["release", "show", "stations/1.0.0", "--edits"]).await;
    assert!(edits.out.contains("- the first gauge\n") && edits.out.contains("as it was made") && edits.out.contains("owner"), "{edits:?}");
    let empty = world.run(&["release", "edit", "stations/1.0.0", "--title", " "]).await;
    assert!(empty.code == 2 && empty.err.contains("one line"), "{empty:?}");
    let silent = world.run(&["release", "withdraw", "stations/1.0.0", "--reason", " "]).await;
    assert!(silent.code == 2 && silent.err.contains("say why"), "{silent:?}");
    assert_eq!(world.run(&["release", "withdraw", "stations/1.0.0", "--reason", "it drifts"]).await.code, 0);
    let again = world.run(&["release", "withdraw", "stations/1.0.0", "--reason", "it drifts"]).await;
    assert!(again.code != 0 && again.err.contains("withdrawn already"), "{again:?}");
    let shown = world.run(&["release", "show", "stations/1.0.0"]).await;
    assert!(shown.out.contains("withdrawn by owner: it drifts"), "{shown:?}");
    assert_eq!(world.run(&["release", "publish", "stations/1.0.0"]).await.code, 0);
    let journal = world.json(&["journal", "stations"]).await;
    let actions: Vec<&str> = journal.as_array().expect("entries").iter().filter_map(|one| one["action"].as_str()).collect();
    for action in ["release.make", "release.edit", "release.withdraw", "release.publish"] {
        assert!(actions.contains(&action), "{action}: {actions:?}");
    }
    let none = world.run(&["release", "show", "stations/1.0.1"]).await;
    assert!(none.code == 2 && none.err.contains("did you mean 1.0.0?"), "{none:?}");
}

/// A version is released once: the tag moved by hand, or the same version another way, changes nothing and says so.
async fn taken(delivery: &Delivery) {
    let (world, repository) = (&delivery.world, &delivery.repository);
    repository.write("gauge", "gauge 2\n");
    let moved = repository.commit("Another gauge");
    repository.push();
    repository.git(&["tag", "--force", "v1.0.0"]);
    repository.git(&["push", "--quiet", "--force", "origin", "v1.0.0"]);
    let run = world.run_of("stations", &moved, "it failed", |run| run["state"] == "failed").await;
    let job = World::job(&run, "ship.tagged");
    assert!(job["why"].as_str().is_some_and(|why| why.contains("1.0.0 is released already")), "{job}");
    let shown = release(world, "1.0.0", "the tag was moved", |one| one["tag_names"] == moved.as_str()).await;
    assert_ne!(shown["commit"], moved.as_str(), "what was released stays what it was");
    // A tag whose version has no notes.
    tag(delivery, "v1.0.1");
    let run = until("the job without notes failed", || async {
        let runs = world.json(&["runs", "stations"]).await;
        let run =
            runs.as_array()?.iter().find(|run| run["occasion"]["tag"] == "v1.0.1" && run["state"] == "failed")?["run"].as_str()?.to_owned();
        Some(world.json(&["show", &run]).await)
    })
    .await;
    let why = World::job(&run, "ship.tagged")["why"].as_str().unwrap_or_default().to_owned();
    assert!(why.contains("CHANGES.md has no section for 1.0.1"), "{why}");
    let list = world.json(&["release", "list", "stations"]).await;
    assert_eq!(list["releases"].as_array().map(Vec::len), Some(1), "{list}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_version_branch_is_released_by_hand_and_the_service_makes_the_tag() {
    let delivery = project().await;
    let (world, repository) = (&delivery.world, &delivery.repository);
    repository.push_pipeline(PIPELINE);
    repository.git(&["checkout", "--quiet", "-b", "release/1.1.0"]);
    repository.write("gauge", "gauge 1.1\n");
    let commit = repository.commit("The next gauge");
    repository.git(&["push", "--quiet", "origin", "release/1.1.0"]);
    let run = world.verdict("stations", &commit).await;
    let name = run["run"].as_str().expect("a run").to_owned();
    assert_eq!(World::job(&run, "ship.branch")["state"], "gated", "it waits for someone: {run}");
    let started = world.run(&["start", &name, "--job", "ship.branch"]).await;
    assert_eq!(started.code, 0, "{started:?}");
    let made = release(world, "1.1.0", "it is there", |_| true).await;
    assert_eq!(
        (made["state"].as_str(), made["tag"].as_str(), made["commit"].as_str()),
        (Some("draft"), Some("v1.1.0"), Some(commit.as_str()))
    );
    assert_eq!(made["notes"], "Nothing landed since the release before.");
    repository.git(&["fetch", "--quiet", "--tags"]);
    assert_eq!(repository.git(&["rev-parse", "v1.1.0^{commit}"]).trim(), commit);
    assert_eq!(repository.git(&["cat-file", "-t", "v1.1.0"]).trim(), "tag");
    // The tag that was made starts what tags start; the version is released by then, and that is that.
    let of_tag = until("the tag's run has ended", || async {
        let runs = world.json(&["runs", "stations"]).await;
        runs.as_array()?.iter().find(|run| run["occasion"]["tag"] == "v1.1.0" && !run["ended_at"].is_null()).cloned()
    })
    .await;
    assert_eq!(of_tag["state"], "passed", "{of_tag}");
    let all = world.json(&["release", "list", "stations"]).await;
    assert_eq!((all["releases"].as_array().map(Vec::len), all["unmade"].as_array().map(Vec::len)), (Some(1), Some(0)), "{all}");
    assert_eq!(world.run(&["release", "publish", "stations/1.1.0"]).await.code, 0);
    let published = release(world, "1.1.0", "it is published", |one| one["state"] == "published").await;
    assert_eq!(published["published_by"], "owner");
    // A tag of somebody's at another commit is in the way, and the job that would have shipped does not begin.
    repository.git(&["push", "--quiet", "origin", &format!("{commit}:refs/tags/v1.2.0")]);
    repository.git(&["checkout", "--quiet", "-b", "release/1.2.0"]);
    repository.write("gauge", "gauge 1.2\n");
    let other = repository.commit("One more");
    repository.git(&["push", "--quiet", "origin", "release/1.2.0"]);
    let run = world.verdict("stations", &other).await;
    assert_eq!(world.run(&["start", run["run"].as_str().expect("a run"), "--job", "ship.branch"]).await.code, 0);
    let run = world.run_of("stations", &other, "it failed", |run| run["state"] == "failed").await;
    let why = World::job(&run, "ship.branch")["why"].as_str().unwrap_or_default().to_owned();
    assert!(why.contains("tag v1.2.0 names commit"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_made_after_all_is_said_where_people_look() {
    let delivery = project().await;
    let world = &delivery.world;
    // The tag comes into the way while the job goes on.
    let go = world.folder.path().join("go");
    let waits = format!("steps = [\"while ! test -e {}; do sleep 0.05; done\"]", go.display());
    let pipeline = format!("language = 1\n[job.ship.main]\n{waits}\nreleases = {{ version = \"3.0.0\" }}\n");
    delivery.repository.commit("Before it");
    let commit = delivery.repository.push_pipeline(&pipeline);
    world.run_of("stations", &commit, "it goes on", |run| run["state"] == "running").await;
    let parent = delivery.repository.git(&["rev-parse", "HEAD^"]).trim().to_owned();
    delivery.repository.git(&["push", "--quiet", "origin", &format!("{parent}:refs/tags/v3.0.0")]);
    std::fs::write(&go, "").expect("a file");
    world.run_of("stations", &commit, "it passed", |run| run["state"] == "passed").await;
    let told = until("it is told", || async {
        let list = world.json(&["release", "list", "stations"]).await;
        list["unmade"].as_array()?.first().cloned()
    })
    .await;
    assert!(told["why"].as_str().is_some_and(|why| why.contains("tag v3.0.0 names commit")), "{told}");
    // Once the tag is gone, the work that was given up is done.
    delivery.repository.git(&["push", "--quiet", "origin", ":refs/tags/v3.0.0"]);
    let work = world.json(&["work", "list"]).await;
    let id = work.as_array().expect("work").iter().find(|one| one["kind"] == "release").expect("the release")["id"].to_string();
    assert_eq!(world.run(&["work", "again", &id]).await.code, 0);
    release(world, "3.0.0", "it is made", |_| true).await;
    let list = world.json(&["release", "list", "stations"]).await;
    assert_eq!(list["unmade"], serde_json::json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_forge_is_told_of_a_release_and_of_every_change() {
    let delivery = project().await;
    let world = &delivery.world;
    delivery.repository.push_pipeline(PIPELINE);
    tag(&delivery, "v1.0.0");
    let told = async |what: &str, fits: &dyn Fn(&ordotaxis_practice::Release) -> bool| {
        until(what, || async { world.forge.releases("stations").get("1.0.0").filter(|one| fits(one)).cloned() }).await
    };
    let first = told("it is told", &|_| true).await;
    assert_eq!((first.tag.as_str(), first.state.as_str(), first.text.as_str()), ("v1.0.0", "published", "- the first gauge"));
    assert!(first.link.ends_with("/projects/stations/releases/1.0.0"), "{}", first.link);
    assert_eq!(world.run(&["release", "edit", "stations/1.0.0", "--title", "The first"]).await.code, 0);
    told("the title is told", &|one| one.title == "The first").await;
    assert_eq!(world.run(&["release", "withdraw", "stations/1.0.0", "--reason", "it drifts"]).await.code, 0);
    told("that it was withdrawn", &|one| one.state == "withdrawn" && one.text.starts_with("**Withdrawn**: it drifts")).await;
    release(world, "1.0.0", "it is known there", |one| one["told"] == "the forge knows of it").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_release_of_one_among_very_many_artifacts_is_traced() {
    let delivery = project().await;
    let gives: Vec<String> = (0..260).map(|at| format!("part-{at} = [\"gauge\"]")).collect();
    let pipeline = format!(
        "language = 1\n[starts]\ntag = [\"v*\"]\n[job.pack.all]\nsteps = [\"true\"]\ngives = {{ {}, whole = [\"gauge\"] }}\n\
         [job.ship.whole]\nsteps = [\"true\"]\ntakes = [\"pack.all/whole\"]\nreleases = {{ version = \"{{tag|after:v}}\", assets = [\"pack.all/whole\"] }}\n",
        gives.join(", ")
    );
    let commit = delivery.repository.push_pipeline(&pipeline);
    tag(&delivery, "v4.0.0");
    release(&delivery.world, "4.0.0", "it is there", |_| true).await;
    let view = delivery.world.json(&["trace", "stations/4.0.0"]).await;
    let names: Vec<&Value> = view["chains"].as_array().into_iter().flatten().map(|chain| &chain["artifact"]).collect();
    assert_eq!(names, ["whole"], "{view}");
    // Of its commit there is more than a page.
    let view = delivery.world.json(&["trace", &commit]).await;
    assert_eq!((view["chains"].as_array().map(Vec::len), &view["more"]), (Some(200), &true.into()));
}
