//! Backups through the client: taken while jobs run, killed anywhere, full disks; and a service that goes on from one.

use super::world;
use ordotaxis_testbed::{Repository, RunnerOptions, World, until};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const FILE: &str = "language = 1\n\
    [job.build.gauge]\ncheckout = false\nsecrets = [\"HARBOUR_KEY\"]\nsteps = [\"echo from the quay\", \"head -c 300000 /dev/urandom > out; cp out kept\", \"test $HARBOUR_KEY = deep\"]\n\
    gives = { firmware = [\"out\"] }\n[[job.build.gauge.cache]]\npaths = [\"kept\"]\nkey = \"one\"\n";

async fn passed(world: &World, repository: &Repository) -> Value {
    let run = world.verdict("tidegauge", &repository.push_pipeline(FILE)).await;
    assert_eq!(run["state"], "passed", "{run}");
    run
}

fn service(world: &World) -> PathBuf {
    world.folder.path().join("service")
}

fn data(world: &World) -> String {
    service(world).display().to_string()
}

fn at(world: &World, name: &str) -> String {
    world.folder.path().join(name).display().to_string()
}

/// The client's `backup` of this world.
fn backup(world: &World, to: &str, more: &[&str]) -> Command {
    let mut client = world.client();
    client.args(["backup", "--data", &data(world), "--to", to]).args(more);
    client
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_goes_on_from_a_backup_as_if_nothing_had_been() {
    let mut world = world().await;
    let repository = world.project("tidegauge").await;
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "HARBOUR_KEY"], "deep").await.code, 0);
    let runner = world.runner(RunnerOptions::default()).await;
    let first = passed(&world, &repository).await;
    let to = at(&world, "to");
    let made = world.run(&["backup", "--data", &data(&world), "--to", &to, "--keys"]).await;
    assert!(made.code == 0 && made.out.contains("the keys") && made.out.contains("packs were new"), "{made:?}");
    let again = world.json(&["backup", "--data", &data(&world), "--to", &to, "--keep", "1"]).await;
    assert_eq!(again["keys"], false, "{again}");
    let listed = world.json(&["backup", "--to", &to, "--list"]).await;
    assert_eq!(listed.as_array().map(Vec::len), Some(1), "{listed}");
    let with_keys = world.run(&["backup", "--data", &data(&world), "--to", &to, "--keys"]).await;
    let open = Command::new("find").args([&to, "-perm", "/077"]).output().expect("find");
    assert_eq!(String::from_utf8_lossy(&open.stdout), "", "nobody else reads any of it");
    assert!(with_keys.out.contains("0 packs were new"), "{with_keys:?}");
    // The machine is lost.
    drop(runner);
    world.kill_service();
    let lost = world.folder.path().join("lost");
    std::fs::rename(service(&world), &lost).expect("moved");
    let back = world.run(&["restore", "--from", &to, "--data", &data(&world)]).await;
    assert!(back.code == 0 && back.out.contains("are sound"), "{back:?}");
    world.start_service();
    let run = world.json(&["show", "tidegauge/1"]).await;
    assert_eq!((&run["state"], &run["commit"]), (&first["state"], &first["commit"]));
    assert_eq!(world.log(&run, "build.gauge").await, world.log(&first, "build.gauge").await);
    let files = at(&world, "files");
    let fetched = world.run(&["artifacts", "tidegauge/1", "get", "build.gauge/firmware", "--to", &files]).await;
    assert_eq!(fetched.code, 0, "{fetched:?}");
    assert_eq!(std::fs::metadata(Path::new(&files).join("out")).expect("a file").len(), 300_000);
    let journal = world.run(&["journal", "verify"]).await;
    assert_eq!(journal.code, 0, "{journal:?}");
    let sound = world.run(&["store", "verify"]).await;
    assert!(sound.code == 0 && sound.out.contains("all of it sound"), "{sound:?}");
    // It opens its secrets, and goes on.
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("more", "1");
    let commit = repository.commit("more");
    repository.push();
    let next = world.verdict("tidegauge", &commit).await;
    assert_eq!((next["state"].as_str(), next["number"].as_i64()), (Some("passed"), Some(2)), "{next}");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_anywhere_it_leaves_the_backups_before_as_they_were() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "HARBOUR_KEY"], "deep").await.code, 0);
    let _runner = world.runner(RunnerOptions::default()).await;
    passed(&world, &repository).await;
    let to = at(&world, "to");
    let begun = Instant::now();
    assert_eq!(world.run(&["backup", "--data", &data(&world), "--to", &to]).await.code, 0);
    let whole = begun.elapsed();
    let mut killed = 0;
    for round in 0..12u32 {
        // Jobs run meanwhile, and packs come.
        assert_eq!(world.run(&["again", "tidegauge/1", "--fresh"]).await.code, 0);
        let mut child = backup(&world, &to, &[]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
        let until = Instant::now() + whole * round / 12;
        while Instant::now() < until && child.try_wait().expect("a state").is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        killed += u32::from(child.kill().is_ok() && !child.wait().expect("an end").success());
        let into = at(&world, &format!("back-{round}"));
        let back = world.run(&["restore", "--from", &to, "--data", &into]).await;
        assert_eq!(back.code, 0, "round {round}: {back:?}");
    }
    assert!(killed > 3, "{killed} were killed on their way");
    let last = world.run(&["backup", "--data", &data(&world), "--to", &to]).await;
    assert_eq!(last.code, 0, "{last:?}");
    let left: Vec<PathBuf> = std::fs::read_dir(service(&world)).expect("a folder").flatten().map(|entry| entry.path()).collect();
    let left = left.iter().filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(".backup")));
    assert_eq!(left.count(), 0, "nothing half is left in the data folder");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_backed_up_or_restored_is_said_and_changes_nothing() {
    let world = world().await;
    let to = at(&world, "to");
    let (own, nowhere) = (data(&world), at(&world, "nowhere"));
    std::fs::create_dir(at(&world, "photos")).expect("a folder");
    std::fs::write(at(&world, "photos/gauge.png"), "x").expect("a file");
    let inside = format!("{own}/backups");
    for (arguments, words) in [
        (vec!["backup", "--data", &nowhere, "--to", &to], "is no data folder"),
        (vec!["backup", "--data", &own, "--to", &inside], "lie one in the other"),
        (vec!["backup", "--data", &own, "--to", &at(&world, "photos")], "other things than backups"),
        (vec!["backup", "--to", &nowhere, "--list"], "there is no whole backup"),
        (vec!["restore", "--from", &to, "--data", &format!("{to}/service")], "lie one in the other"),
        (vec!["restore", "--from", &nowhere, "--data", &to], "there is no whole backup"),
        (vec!["restore", "--from", &at(&world, "photos"), "--data", &to], "there is no whole backup"),
    ] {
        let refused = world.run(&arguments).await;
        assert!(refused.code == 3 && refused.err.contains(words), "{arguments:?}: {refused:?}");
    }
    assert!(!Path::new(&to).exists() && !Path::new(&inside).exists());
    assert_eq!(world.run(&["backup", "--data", &own, "--to", &to]).await.code, 0);
    let in_use = world.run(&["restore", "--from", &to, "--data", &own]).await;
    assert!(in_use.code == 3 && in_use.err.contains("is not empty"), "{in_use:?}");
    let odd = world.run(&["restore", "--from", &to, "--copy", "yesterday", "--data", &nowhere]).await;
    assert!(odd.code == 3 && odd.err.contains("there are: 20"), "{odd:?}");
    // One at a time.
    let lock = std::fs::File::options().write(true).open(service(&world).join("backup.lock")).expect("the lock");
    lock.try_lock().expect("it is free");
    let second = world.run(&["backup", "--data", &own, "--to", &to]).await;
    assert!(second.code == 3 && second.err.contains("another backup of this folder goes on"), "{second:?}");
    drop(lock);
    full_disk(&world, &own).await;
}

/// The place for backups fills up: that is said, and what was there stays whole.
async fn full_disk(world: &World, own: &str) {
    let small = world.folder.path().join("small");
    std::fs::create_dir(&small).expect("a folder");
    let mounted = Command::new("mount").args(["-t", "tmpfs", "-o", "size=2m", "tmpfs"]).arg(&small).status();
    if !mounted.is_ok_and(|status| status.success()) {
        println!("no file system of our own can be mounted here: the full disk is not tried");
        return;
    }
    let to = small.display().to_string();
    let first = world.run(&["backup", "--data", own, "--to", &to]).await;
    std::fs::write(small.join("copies/filler"), vec![7; 3 << 20]).expect_err("no room for so much");
    let full = world.run(&["backup", "--data", own, "--to", &to]).await;
    std::fs::remove_file(small.join("copies/filler")).expect("removed");
    let back = world.run(&["restore", "--from", &to, "--data", &at(world, "from-small")]).await;
    let unmounted = until("it is free", || async { Command::new("umount").arg(&small).status().ok()?.success().then_some(()) });
    unmounted.await;
    assert_eq!(first.code, 0, "{first:?}");
    assert!(full.code == 3 && full.err.contains("make room"), "{full:?}");
    assert_eq!(back.code, 0, "{back:?}");
}
