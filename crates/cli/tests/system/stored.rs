//! Data folders that earlier versions wrote, as a machine that was switched off left them: two runs that have ended, a third that
//! queued. This version opens each, reads what is in it, and goes on.
//!
//! `../stored/N.tar.zst`: the folder as it was with N changes of the database's form, the project's repository, and the owner's token.

use super::ORDOTAXIS;
use ordotaxis_practice::Dialect;
use ordotaxis_testbed::{RunnerOptions, World};
use std::path::Path;
use std::process::Command;

/// A service that was started on the stored folder.
async fn opened(form: u32) -> World {
    let folder = tempfile::tempdir().expect("a folder");
    let stored = format!("{}/tests/stored/{form}.tar.zst", env!("CARGO_MANIFEST_DIR"));
    let bytes = zstd::decode_all(std::fs::File::open(stored).expect("what is stored")).expect("unpacked");
    tar::Archive::new(bytes.as_slice()).unpack(folder.path()).expect("unpacked");
    moved(folder.path()).await;
    let token = std::fs::read_to_string(folder.path().join("token")).expect("a token").trim().to_owned();
    World::start_as(ORDOTAXIS, "lease = \"2s\"\nbeat = \"300ms\"\n", folder, token, Dialect::Practice).await
}

/// The project's repository lies elsewhere now.
async fn moved(folder: &Path) {
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(folder.join("service/ordotaxis.db"));
    let database = sqlx::SqlitePool::connect_with(options).await.expect("the database");
    let there = folder.join("gauge.git").display().to_string();
    sqlx::query("UPDATE projects SET git_url = ?").bind(there).execute(&database).await.expect("written");
    database.close().await;
}

async fn goes_on(form: u32) {
    let world = opened(form).await;
    // What was there reads as it did.
    for number in 1..=2 {
        let run = world.json(&["show", &format!("tidegauge/{number}")]).await;
        assert_eq!(run["state"], "passed", "{run}");
        let log = world.log(&run, "build.gauge").await;
        assert!(log.contains("low water\n") && log.contains("ordotaxis: gave gauge: 1 file, 8 B"), "{log}");
        assert!(number == 1 || log.contains("restored from tidegauge/1"), "{log}");
    }
    let got = world.run(&["artifacts", "tidegauge/1", "get", "gauge", "--to", "got"]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let gauge = Command::new("find").arg(world.folder.path().join("got")).args(["-type", "f", "-exec", "cat", "{}", "+"]).output();
    assert_eq!(String::from_utf8_lossy(&gauge.expect("find starts").stdout), "gauge 2\n");
    let sound = world.run(&["store", "verify"]).await;
    assert!(sound.out.contains("all of it sound"), "{sound:?}");
    assert_eq!(world.run(&["journal", "verify"]).await.code, 0);
    assert_eq!(world.json(&["secret", "list", "tidegauge"]).await[0]["name"], "STATION_KEY");
    // What queued then is done now, by a runner of today: with the secret that was sealed then, and the cache.
    let _runner = world.runner(RunnerOptions { slots: 1, ..RunnerOptions::default() }).await;
    let done = world.run(&["watch", "tidegauge/3"]).await;
    assert!(done.code == 0 && done.out.contains("Passed: 1 job"), "{done:?}");
    let again = world.run(&["start", "tidegauge", "--watch"]).await;
    assert!(again.code == 0 && again.out.contains("tidegauge/4  Passed"), "{again:?}");
    // What looks at everything finds nothing wrong with it.
    let data = world.folder.path().join("service").display().to_string();
    let looked = world.run(&["--json", "doctor", "--data", &data]).await;
    let found: serde_json::Value = serde_json::from_str(&looked.out).expect("JSON");
    let wrong = |one: &&serde_json::Value| one["level"] == "wrong" && !one["what"].as_str().is_some_and(|what| what.contains("disk"));
    let bad: Vec<_> = found.as_array().into_iter().flatten().filter(wrong).collect();
    assert!(bad.is_empty(), "{bad:?}");
}

macro_rules! stored {
    ($($name:ident: $form:literal),+ $(,)?) => {$(
        #[tokio::test(flavor = "multi_thread")]
        async fn $name() {
            goes_on($form).await;
        }
    )+};
}

stored! {
    as_it_was_when_logs_moved_into_the_store: 6,
    as_it_was_before_repositories_had_logins: 10,
    as_it_was_before_environments: 15,
    as_it_was_with_the_first_pools: 21,
}
