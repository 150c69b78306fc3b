//! `doctor` finds what is wrong with a service's data folder and machine, and says what to do.

use super::world;
use ordotaxis_testbed::{RunnerOptions, World};
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

fn data(world: &World) -> PathBuf {
    world.folder.path().join("service")
}

async fn findings(world: &World, more: &[&str]) -> (i32, Vec<Value>) {
    let data = data(world).display().to_string();
    let mut line = vec!["--json", "doctor", "--data", &data];
    line.extend(more);
    let ran = world.run(&line).await;
    (ran.code, serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {ran:?}")))
}

/// What is not well, as `WHAT LEVEL: SAYS`.
fn unwell(all: &[Value]) -> Vec<String> {
    let text = |one: &Value, key: &str| one[key].as_str().unwrap_or_default().to_owned();
    let unwell = all.iter().filter(|one| one["level"] != "well");
    unwell.map(|one| format!("{} {}: {} | {}", text(one, "what"), text(one, "level"), text(one, "says"), text(one, "do"))).collect()
}

fn mode(path: &Path, mode: u32) {
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).expect("a mode");
}

fn age(path: &Path) {
    let old = SystemTime::now() - Duration::from_secs(3 * 3600);
    std::fs::File::open(path).expect("it opens").set_modified(old).expect("a time");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sound_service_is_well_and_what_is_broken_is_found() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let file = "language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"head -c 90000 /dev/urandom > out\"]\ngives = { out = [\"out\"] }\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(file)).await;
    assert_eq!(run["state"], "passed", "{run}");
    let (code, all) = findings(&world, &[]).await;
    let mine: Vec<String> = unwell(&all).into_iter().filter(|line| !line.starts_with("disk") && !line.starts_with("isolation")).collect();
    assert!(mine.is_empty(), "{mine:#?}");
    assert!(code == 0 || unwell(&all).iter().any(|line| line.starts_with("disk wrong")), "{all:#?}");
    for what in
        ["data folder", "database", "version", "clock", "repositories", "outside", "folders", "store", "key of secrets", "git", "service"]
    {
        assert!(all.iter().any(|one| one["what"] == what), "{what} was not looked at: {all:#?}");
    }
    let words = world.run(&["doctor", "--data", &data(&world).display().to_string()]).await;
    assert!(words.out.contains("sound") && words.out.contains("is ready"), "{words:?}");
    // Broken by hand, all at once.
    let own = data(&world);
    mode(&own, 0o755);
    std::fs::write(own.join("secrets.key"), "short").expect("a file");
    for name in ["logs/999999", "mirrors/lighthouse.git", "pools/gone"] {
        std::fs::create_dir_all(own.join(name)).expect("a folder");
        age(&own.join(name));
    }
    let pack = walk(&own.join("blobs/packs")).pop().expect("a pack");
    std::fs::write(&pack, "cut").expect("a file");
    let stray = own.join("blobs/packs/ab/abababababababababababababababab");
    std::fs::create_dir_all(stray.parent().expect("a folder")).expect("a folder");
    std::fs::write(&stray, "x").expect("a file");
    age(&stray);
    let (code, all) = findings(&world, &["--url", "http://127.0.0.1:9"]).await;
    let found = unwell(&all).join("\n");
    for words in [
        "data folder wrong: others can look into",
        "chmod 700",
        "key of secrets wrong",
        "holds 5 bytes",
        "logs/999999, mirrors/lighthouse.git, pools/gone",
        "packs are gone or cut off",
        "1 packs that nothing names",
        "nothing listens at http://127.0.0.1:9",
    ] {
        assert!(found.contains(words), "{words}:\n{found}");
    }
    assert_eq!(code, 1);
}

fn walk(folder: &Path) -> Vec<PathBuf> {
    let folders = std::fs::read_dir(folder).into_iter().flatten().flatten();
    folders.flat_map(|folder| std::fs::read_dir(folder.path()).into_iter().flatten().flatten()).map(|file| file.path()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_looked_at_is_said() {
    let mut world = world().await;
    let nowhere = world.folder.path().join("nowhere").display().to_string();
    let gone = world.run(&["doctor", "--data", &nowhere]).await;
    assert!(gone.code == 1 && gone.out.contains("is no data folder") && !Path::new(&nowhere).exists(), "{gone:?}");
    let config = world.folder.path().join("odd.toml");
    std::fs::write(&config, "lease = \"soon\"\n").expect("a file");
    let (code, all) = findings(&world, &["--config", &config.display().to_string()]).await;
    assert!(code == 1 && unwell(&all).iter().any(|line| line.starts_with("configuration wrong") && line.contains("soon")), "{all:#?}");
    // A database whose pages are damaged, and one of a newer version.
    world.kill_service();
    let file = data(&world).join("ordotaxis.db");
    let options = format!("sqlite://{}?mode=rw", file.display());
    let newer = sqlx::SqlitePool::connect(&options).await.expect("it opens");
    let sql = "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (9999, 'later', 1, x'00', 0)";
    sqlx::query(sql).execute(&newer).await.expect("a row");
    let sql =
        "INSERT INTO events (run_id, at, body) SELECT id, 32503680000000, '{}' FROM runs UNION ALL SELECT 1, 32503680000000, '{}' LIMIT 1";
    let ahead = sqlx::query(sql).execute(&newer).await.is_ok();
    // All of it into the one file.
    sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&newer).await.expect("written");
    newer.close().await;
    let whole = std::fs::read(&file).expect("a database");
    let (_, all) = findings(&world, &[]).await;
    let found = unwell(&all).join("\n");
    assert!(found.contains("version wrong: the database was written by a newer version"), "{found}");
    assert!(!ahead || found.contains("clock wrong"), "{found}");
    let mut broken = whole;
    let middle = broken.len() / 2;
    broken[middle..middle + 4096].fill(0xA5);
    std::fs::write(&file, broken).expect("a file");
    for beside in ["ordotaxis.db-wal", "ordotaxis.db-shm"] {
        let _ = std::fs::remove_file(data(&world).join(beside));
    }
    let (code, all) = findings(&world, &[]).await;
    assert!(code == 1 && unwell(&all).iter().any(|line| line.starts_with("database wrong")), "{all:#?}");
}
