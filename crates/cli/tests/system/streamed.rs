//! The backup that a service keeps itself: how much is lost when its machine is, whatever else goes wrong.

use super::world;
use ordotaxis_testbed::{ObjectStorage, RunnerOptions, World, until};
use serde_json::Value;
use std::path::PathBuf;
use std::process::Command;

const FILE: &str = "language = 1\n[job.build.gauge]\ncheckout = false\nsteps = [\"echo from the quay\", \"head -c 300000 /dev/urandom > out\"]\n\
    gives = { firmware = [\"out\"] }\n";

fn at(world: &World, name: &str) -> PathBuf {
    world.folder.path().join(name)
}

fn path(world: &World, name: &str) -> String {
    at(world, name).display().to_string()
}

/// A service with this `[backup]`.
async fn with(place: &str) -> World {
    let mut world = world().await;
    let folder = path(&world, "backups");
    world.configure(&format!("\n[backup]\n{}every = \"200ms\"\nkeys = true\n", place.replace("FOLDER", &format!("{folder:?}"))));
    world.kill_service();
    world.start_service();
    world
}

/// The backups there are, by the service's configuration.
async fn listed(world: &World) -> Vec<Value> {
    let config = path(world, "service.toml");
    let ran = world.run(&["backup", "--list", "--config", &config, "--data", &path(world, "service"), "--json"]).await;
    serde_json::from_str::<Value>(&ran.out).ok().and_then(|all| all.as_array().cloned()).unwrap_or_default()
}

fn moment(of: &Value) -> jiff::Timestamp {
    of["until"].as_str().and_then(|text| text.parse().ok()).expect("a moment")
}

/// Makes a change, and waits until it is in the newest backup.
async fn caught_up(world: &World, person: &str) -> Value {
    assert_eq!(world.run(&["person", "add", person]).await.code, 0);
    let made = jiff::Timestamp::now().as_duration().as_secs_f64();
    until("the backup has caught up", || async {
        let now = jiff::Timestamp::now().as_duration().as_secs_f64();
        (now - behind(world).await > made).then_some(())
    })
    .await;
    listed(world).await.pop().expect("a backup")
}

async fn behind(world: &World) -> f64 {
    let text = world.http(reqwest::Method::GET, "/metrics").send().await.expect("an answer").text().await.expect("text");
    let line = text.lines().find_map(|line| line.strip_prefix("ordotaxis_backup_behind_seconds "));
    line.and_then(|value| value.parse().ok()).expect("a number")
}

/// The machine is lost; a service starts on another from the backup.
async fn lost_and_brought_back(world: &mut World, more: &[&str]) -> String {
    world.kill_service();
    std::fs::rename(at(world, "service"), at(world, "lost")).expect("moved");
    let (config, data) = (path(world, "service.toml"), path(world, "service"));
    let mut arguments = vec!["restore", "--config", &config, "--data", &data];
    arguments.extend(more);
    let back = world.run(&arguments).await;
    assert_eq!(back.code, 0, "{back:?}");
    world.start_service();
    back.out
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_machine_costs_the_last_moments_only() {
    let mut world = with("to = FOLDER\nkeep = 2\n").await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let run = world.verdict("tidegauge", &repository.push_pipeline(FILE)).await;
    assert_eq!(run["state"], "passed", "{run}");
    let log = world.log(&run, "build.gauge").await;
    let newest = caught_up(&world, "ines").await;
    assert!(newest["format"] == 2 && newest["keys"] == true, "{newest}");
    assert!(behind(&world).await < 5.0);
    let one = world.run(&["backup", "--data", &path(&world, "service"), "--to", &path(&world, "backups")]).await;
    assert!(one.code == 3 && one.err.contains("a service keeps its own there"), "{one:?}");
    let aside = world.run(&["backup", "--data", &path(&world, "service"), "--to", &path(&world, "aside")]).await;
    assert_eq!(aside.code, 0, "a backup by hand to another place goes beside it: {aside:?}");
    let before = moment(&newest).to_string();
    caught_up(&world, "odd").await;
    drop(runner);
    let said = lost_and_brought_back(&mut world, &[]).await;
    assert!(said.contains("are sound"), "{said}");
    let run = world.json(&["show", "tidegauge/1"]).await;
    assert_eq!(run["state"], "passed");
    assert_eq!(world.log(&run, "build.gauge").await, log);
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"));
    assert_eq!(world.run(&["journal", "verify"]).await.code, 0);
    let persons = world.run(&["person", "list"]).await.out;
    assert!(persons.contains("ines") && persons.contains("odd"), "{persons}");
    // It goes on from there with a copy of its own; of the old ones as many stay as was said.
    caught_up(&world, "third").await;
    until("two copies stay", || async { (listed(&world).await.len() == 2).then_some(()) }).await;
    // Back to the moment before the last change that was made by mistake.
    std::fs::remove_dir_all(at(&world, "lost")).expect("removed");
    lost_and_brought_back(&mut world, &["--until", &before]).await;
    let persons = world.run(&["person", "list"]).await.out;
    assert!(persons.contains("ines") && !persons.contains("odd"), "{persons}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bucket_serves_as_well_and_when_it_is_away_all_comes_later() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut storage = ObjectStorage::start(folder.path());
    let mut world = with(&storage.settings()).await;
    caught_up(&world, "ines").await;
    storage.go_away();
    assert_eq!(world.run(&["person", "add", "odd"]).await.code, 0, "the service goes on");
    until("the number says so", || async { (behind(&world).await > 1.0).then_some(()) }).await;
    storage.come_back();
    caught_up(&world, "third").await;
    // A service that ends in peace leaves nothing behind.
    assert_eq!(world.run(&["person", "add", "fourth"]).await.code, 0);
    world.stop_service();
    lost_and_brought_back(&mut world, &[]).await;
    let persons = world.run(&["person", "list"]).await.out;
    assert!(["ines", "odd", "third", "fourth"].iter().all(|name| persons.contains(name)), "{persons}");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_again_and_again_every_copy_is_whole_to_its_last_moment() {
    let mut world = with("to = FOLDER\nkeep = 30\n").await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let run = world.verdict("tidegauge", &repository.push_pipeline(FILE)).await;
    assert_eq!(run["state"], "passed", "{run}");
    for round in 0..5 {
        for _ in 0..3 {
            assert_eq!(world.run(&["again", "tidegauge/1", "--fresh"]).await.code, 0);
        }
        if round % 2 == 0 {
            caught_up(&world, &format!("p{round}")).await;
        }
        world.kill_service();
        world.start_service();
    }
    caught_up(&world, "last").await;
    let copies = listed(&world).await;
    assert!(copies.len() >= 5, "{copies:?}");
    for (number, copy) in copies.iter().enumerate() {
        let (name, into) = (copy["name"].as_str().expect("a name"), path(&world, &format!("back-{number}")));
        let back = world.run(&["restore", "--from", &path(&world, "backups"), "--copy", name, "--data", &into]).await;
        assert_eq!(back.code, 0, "{name}: {back:?}");
        let looked = world.run(&["doctor", "--data", &into]).await;
        assert!(!looked.out.contains("damaged"), "{name}: {looked:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_meant_is_refused_at_the_start_and_a_key_that_is_gone_too() {
    let mut world = world().await;
    world.project("tidegauge").await;
    world.kill_service();
    let (data, config) = (path(&world, "service"), at(&world, "odd.toml"));
    let start = |lines: &str| {
        std::fs::write(&config, lines).expect("a file");
        let mut command = Command::new(super::ORDOTAXIS);
        command.args(["serve", "--listen", "127.0.0.1:0", "--data", &data, "--config"]).arg(&config);
        let ran = command.output().expect("it ends by itself");
        assert!(!ran.status.success());
        String::from_utf8_lossy(&ran.stderr).into_owned()
    };
    for (lines, said) in [
        ("".to_owned(), "is to name one place"),
        (format!("to = \"{data}/backups\"\n"), "neither may lie in the other"),
        (format!("to = \"{}\"\n", world.folder.path().display()), "neither may lie in the other"),
        ("to = \"/x\"\nendpoint = \"http://127.0.0.1:1\"\n".to_owned(), "is to name one place"),
        ("endpoint = \"http://127.0.0.1:1\"\n".to_owned(), "`[backup]` in the configuration says `endpoint` but not `secret_file`"),
        ("to = \"/x\"\nevery = \"soon\"\n".to_owned(), "soon"),
        ("to = \"/x\"\nevery = \"1ms\"\n".to_owned(), "100ms or more"),
        ("to = \"/x\"\nwhere = \"there\"\n".to_owned(), "where"),
    ] {
        let error = start(&format!("[backup]\n{lines}"));
        assert!(error.contains(said), "{lines}: {error}");
    }
    let key = at(&world, "service/secrets.key");
    let held = std::fs::read(&key).expect("the key");
    std::fs::remove_file(&key).expect("removed");
    let error = start("");
    assert!(error.contains("secrets.key is gone") && error.contains("put it back"), "{error}");
    assert!(!key.exists(), "no new one hides that");
    std::fs::write(&key, held).expect("put back");
    world.start_service();
    assert_eq!(world.run(&["project", "list"]).await.code, 0);
}
