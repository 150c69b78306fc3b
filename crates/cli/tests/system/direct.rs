//! Runners send packs to S3-compatible storage, and read them there, without the service in between; and what somebody
//! could do who has such an address.

use super::ORDOTAXIS;
use ordotaxis_content::{ChunkId, Packer};
use ordotaxis_testbed::{Answer, ObjectStorage, RunnerOptions, Simulated, World, until};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

/// A mebibyte and more that no compression makes small, the same each time.
const NOISE: &str = "openssl enc -aes-128-ctr -K 00112233445566778899aabbccddeeff -iv 0 -in /dev/zero 2>/dev/null | head -c 3000000";

/// A service whose runners are told that storage is at `direct`; none: at its own address.
async fn world_at(direct: Option<&str>) -> (World, ObjectStorage) {
    let folder = tempfile::tempdir().expect("a folder");
    let storage = ObjectStorage::start(&folder.path().join("storage"));
    let direct = direct.unwrap_or_else(|| storage.gate_url()).to_owned();
    let config = format!("lease = \"5s\"\nbeat = \"300ms\"\ndrain = \"2s\"\n[store]\n{}direct = \"{direct}\"\n", storage.settings());
    (World::start_in(ORDOTAXIS, Box::leak(config.into_boxed_str()), folder).await, storage)
}

/// Bytes that went without the service, in and out.
pub(crate) async fn went(world: &World) -> (f64, f64) {
    let text = world.http(Method::GET, "/metrics").send().await.expect("an answer").text().await.expect("text");
    let of = |way: &str| {
        let series = format!("ordotaxis_direct_bytes_total{{way=\"{way}\"}} ");
        text.lines().find_map(|line| line.strip_prefix(series.as_str())?.parse().ok()).unwrap_or(0.0)
    };
    (of("in"), of("out"))
}

fn pipeline() -> String {
    format!(
        "language = 1\n[job.a.give]\ncheckout = false\nsteps = [\"{NOISE} > noise; sha256sum noise\"]\ngives = {{ noise = [\"noise\"] }}\n\
         [job.b.take]\ncheckout = false\ntakes = [\"a.give/noise\"]\nsteps = [\"sha256sum noise\"]\n"
    )
}

fn arrived(storage: &ObjectStorage) -> usize {
    storage.kept("arrived")
}

#[tokio::test(flavor = "multi_thread")]
async fn packs_go_to_storage_and_come_from_it_without_the_service() {
    let (world, storage) = world_at(None).await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let run = world.verdict("tidegauge", &repository.push_pipeline(&pipeline())).await;
    assert_eq!(run["state"], "passed", "{run}");
    let (gave, took) = (world.log(&run, "a.give").await, world.log(&run, "b.take").await);
    let sum = |log: &str| log.lines().find(|line| line.ends_with("  noise")).expect("a sum").to_owned();
    assert_eq!(sum(&gave), sum(&took));
    let (into, out) = went(&world).await;
    assert!(into > 3e6, "{into}");
    // The runner has what it gave as a layer; another one has not.
    assert!(out == 0.0 || out > 3e6, "{out}");
    drop(runner);
    let other = world.runner(RunnerOptions::default()).await;
    let again = world.run(&["again", "tidegauge/1", "--job", "b.take", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    let (_, out) = went(&world).await;
    assert!(out > 3e6, "{out}");
    assert_eq!(arrived(&storage), 0, "nothing is left where packs arrive");
    assert!(!other.said().contains("Signature"), "an address is as good as a password: {}", other.said());
    assert_eq!(storage.refused(), 0);
    drop(other);
    one_range_and_nothing_else(&world).await;
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"));
}

/// An address reads the range that it was given out for, of what the job may read.
async fn one_range_and_nothing_else(world: &World) {
    assert_eq!(world.run(&["artifacts", "tidegauge/1", "get", "noise", "--to", "got"]).await.code, 0);
    let noise = std::fs::read(world.folder.path().join("got/noise")).expect("the file");
    let names: Vec<u8> = ordotaxis_content::cut(&noise).flat_map(|place| ChunkId::of(&noise[place]).0).collect();
    let quay = Simulated::enrol(&world.url, &world.url, &world.invitation().await, "quay").await.expect("a runner");
    quay.sign_on(1).await;
    assert_eq!(world.run(&["again", "tidegauge/1", "--job", "b.take"]).await.code, 0);
    let Answer::Is(claimed) = quay.claim(0).await.0 else { panic!("no lease") };
    let text = |value: &Value| value.as_str().expect("text").to_owned();
    let (attempt, tree) = (text(&claimed["lease"]["attempt"]), text(&claimed["lease"]["takes"][0]["tree"]));
    let path = format!("attempts/{attempt}/trees/{tree}/places");
    let octets = "application/octet-stream";
    let (_, places) = quay.raw(&path, octets, names.clone()).await;
    let piece = &places["pieces"][0];
    let (url, from, last) = (text(&piece["url"]), piece["from"].as_u64().expect("a number"), piece["last"].as_u64().expect("a number"));
    let ask = async |range: Option<String>| {
        let ask = reqwest::Client::new().get(&url);
        range.into_iter().fold(ask, |ask, range| ask.header("range", range)).send().await.expect("an answer")
    };
    let right = ask(Some(format!("bytes={from}-{last}"))).await;
    assert_eq!(right.status(), StatusCode::PARTIAL_CONTENT);
    assert_eq!(right.bytes().await.expect("bytes").len() as u64, last + 1 - from);
    for other in [None, Some("bytes=0-7".to_owned()), Some(format!("bytes={from}-{}", last + 1))] {
        assert_eq!(ask(other.clone()).await.status(), StatusCode::FORBIDDEN, "{other:?}");
    }
    let stranger = ChunkId::of(b"another's").0.to_vec();
    assert_eq!(quay.raw(&path, octets, [names, stranger].concat()).await.0, 404);
    let other = path.replace(&tree, &ChunkId::of(b"another tree").to_string());
    assert_eq!(quay.raw(&other, octets, Vec::new()).await.0, 404);
    quay.finish(&attempt, 0, false).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn storage_that_runners_do_not_reach_is_gone_around() {
    let (world, storage) = world_at(Some(&format!("http://127.0.0.1:{}", ordotaxis_testbed::free_port()))).await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions::default()).await;
    let run = world.verdict("tidegauge", &repository.push_pipeline(&pipeline())).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(went(&world).await.0, 0.0);
    assert_eq!(arrived(&storage), 0);
    let said = until("the runner says so", || async { Some(runner.said()).filter(|said| said.contains("by way of the service")) }).await;
    assert!(!said.contains("Signature"), "{said}");
}

/// A place for a pack of this length: its name and address.
async fn place(runner: &Simulated, bytes: usize) -> (String, String) {
    let (status, answer) = runner.raw("packs/places", "application/json", json!({ "bytes": bytes }).to_string().into_bytes()).await;
    assert_eq!(status, 200, "{answer}");
    let text = |key: &str| answer["put"][key].as_str().expect("a place").to_owned();
    (text("name"), text("url"))
}

async fn put(url: &str, body: Vec<u8>) -> StatusCode {
    reqwest::Client::new().put(url).body(body).send().await.expect("an answer").status()
}

async fn told(runner: &Simulated, name: &str) -> (u16, Value) {
    runner.raw(&format!("packs/places/{name}"), "application/json", Vec::new()).await
}

/// A pack of random bytes, and what its one chunk is called.
fn pack() -> (Vec<u8>, ChunkId) {
    let bytes: Vec<u8> = (0..400_000).map(|_| rand::random()).collect();
    let mut packer = Packer::new().expect("a packer");
    packer.add(ChunkId::of(&bytes), &bytes).expect("a chunk");
    (packer.take().expect("a pack"), ChunkId::of(&bytes))
}

async fn is_missing(runner: &Simulated, id: ChunkId) -> bool {
    runner.bytes("chunks/missing", id.0.to_vec()).await == [1]
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_counts_that_was_not_looked_through_and_what_was_stays() {
    let (world, storage) = world_at(None).await;
    let enrolled = async |name: &str| {
        let runner = Simulated::enrol(&world.url, &world.url, &world.invitation().await, name).await.expect("a runner");
        runner.sign_on(1).await;
        runner
    };
    let (quay, ebb) = (enrolled("quay").await, enrolled("ebb").await);
    let (good, id) = pack();
    // What is no pack, and one whose bytes are not what their names say.
    let mut lies = good.clone();
    let at = lies.iter().position(|byte| *byte == id.0[0]).expect("the name");
    lies[at + 1] ^= 1;
    for body in [vec![7; 300_000], lies, good[..good.len() - 1].to_vec()] {
        let (name, url) = place(&quay, body.len()).await;
        assert_eq!(put(&url, body).await, StatusCode::OK);
        let (status, answer) = told(&quay, &name).await;
        assert_eq!(status, 422, "{answer}");
        assert!(is_missing(&quay, id).await);
    }
    assert_eq!((arrived(&storage), storage.kept("packs")), (0, 0), "nothing of that is kept");
    // Of another length than was asked for, in another place, by another runner, not put at all.
    let (name, url) = place(&quay, good.len() - 1).await;
    assert_eq!(put(&url, good.clone()).await, StatusCode::OK);
    assert_eq!(told(&quay, &name).await.0, 422);
    assert!(is_missing(&quay, id).await && arrived(&storage) == 0);
    let (name, url) = place(&quay, good.len()).await;
    assert_eq!(put(&url.replace("arrived", "packs/00"), good.clone()).await, StatusCode::FORBIDDEN);
    assert_eq!(reqwest::get(&url).await.expect("an answer").status(), StatusCode::FORBIDDEN);
    assert_eq!(put(&url.replace("X-Amz-Expires=900", "X-Amz-Expires=90000"), good.clone()).await, StatusCode::FORBIDDEN);
    assert_eq!(told(&ebb, &name).await.0, 404);
    assert_eq!(told(&quay, "..%2Fpacks%2F00").await.0, 404);
    let (unused, _) = place(&quay, good.len()).await;
    assert_eq!(told(&quay, &unused).await.0, 422, "nothing lies there");
    assert_eq!(told(&quay, &unused).await.0, 404, "a place is used once");
    // The right one; and then something else is put at the same address.
    assert_eq!(put(&url, good.clone()).await, StatusCode::OK);
    assert_eq!(told(&quay, &name).await.0, 201);
    assert!(!is_missing(&quay, id).await);
    assert_eq!(put(&url, vec![0; good.len()]).await, StatusCode::OK, "the address is good for a while");
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"), "what was looked through is elsewhere");
    // More places than a runner can use, and lengths that are none.
    for bytes in [u64::MAX, 65 << 20] {
        let ask = json!({ "bytes": bytes }).to_string().into_bytes();
        assert_eq!(quay.raw("packs/places", "application/json", ask).await.0, 413);
    }
    let mut given = 0;
    for _ in 0..80 {
        let ask = json!({ "bytes": 300_000 }).to_string().into_bytes();
        given += usize::from(quay.raw("packs/places", "application/json", ask).await.1["put"].is_object());
    }
    assert_eq!(given, 64);
    let little = json!({ "bytes": 20 }).to_string().into_bytes();
    assert_eq!(ebb.raw("packs/places", "application/json", little).await.1, json!({ "open": true }), "little goes by way of the service");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_configuration_that_cannot_be_meant_is_refused() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("ordotaxis.toml");
    std::fs::write(folder.path().join("secret"), "s").expect("a file");
    let base = format!(
        "endpoint = \"http://127.0.0.1:1\"\nbucket = \"b\"\nkey_id = \"k\"\nsecret_file = \"{}/secret\"\n",
        folder.path().display()
    );
    for (lines, said) in [
        ("direct = \"http://127.0.0.1:1\"\n".to_owned(), "needs `endpoint`"),
        (format!("{base}direct = \"http://127.0.0.1:1\"\nkey_file = \"k\"\n"), "exclude each other"),
        (format!("{base}direct = \"objects.saltmarsh.example\"\n"), "is to be an address"),
        (format!("{base}direct = \"http://user@127.0.0.1:1\"\n"), "is to be an address"),
    ] {
        std::fs::write(&path, format!("[store]\n{lines}")).expect("a file");
        let mut command = std::process::Command::new(ORDOTAXIS);
        command.args(["serve", "--listen", "127.0.0.1:0", "--data"]).arg(folder.path().join("data")).arg("--config").arg(&path);
        let ran = command.output().expect("it runs");
        let error = String::from_utf8_lossy(&ran.stderr).into_owned();
        assert!(!ran.status.success() && error.contains(said), "{lines}: {error}");
    }
}
