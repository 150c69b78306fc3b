//! Links that a job, a commit or an artifact puts in the runner's way: nothing behind one is read or written, whoever is asked
//! to.

use super::{FENCES, Outside, SECRET, runner_in};
use crate::world;
use ordotaxis_testbed::{RunnerOptions, World};
use std::sync::{Arc, Mutex};

/// What is tried, for the guide.
pub(super) const TRIED: &[(&str, &str)] = &[
    ("take-to-link", "lay an artifact into a folder that the commit has as a link"),
    ("take-below-link", "lay an artifact into a folder below such a link"),
    ("take-over-link", "take an artifact whose first folder the commit has as a link"),
    ("cache-over-link", "restore a cache whose folder the commit has as a link"),
    ("checkout-climbing", "check out into a folder that a fact names with `..`"),
    ("give-through-link", "give a file that lies behind a link"),
    ("give-link", "give a link, and have what it leads to read"),
    ("fact-folder", "put a link in the place of the folder of facts"),
    ("fact-link", "write a fact as a link to the runner's environment"),
    ("fact-pipe", "write a fact as a pipe that nobody ever writes to"),
    ("report-link", "leave a report that is a link"),
    ("report-behind-link", "leave a report in a folder that is a link"),
    ("report-pipe", "leave a report that is a pipe"),
    ("publish-chain", "publish an artifact through a chain of links"),
    ("hash-through-link", "have files behind a link read for a cache's key"),
    ("step-in-link", "run a step in a folder that is a link out of here"),
    ("swap-while-read", "put a link in a file's place while it is read"),
    ("swap-before-kept", "put a link in a cached folder's place after it was saved"),
];

/// Takes whatever is sent to it and says yes.
fn server() -> (u16, Arc<Mutex<Vec<u8>>>) {
    use std::io::{Read, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    let seen = Arc::new(Mutex::new(Vec::new()));
    let kept = seen.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let _ = stream.set_read_timeout(Some(std::time::Duration::from_millis(300)));
            let mut bytes = Vec::new();
            let _ = stream.read_to_end(&mut bytes);
            kept.lock().expect("a lock").extend(bytes);
            let _ = stream.write_all(b"HTTP/1.1 201 Created\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
        }
    });
    (port, seen)
}

/// Jobs that must fail are told with the words that their reason holds.
const MUST_FAIL: &[(&str, &str)] = &[
    ("b.to", "leads through a link"),
    ("b.below", "leads through a link"),
    ("c.climbing", "leads through a link or outside"),
    ("b.through", "leads through a link"),
    ("b.folder", "it is a link, or lies behind one"),
    ("b.fact", "it is a link, or lies behind one"),
    ("b.pipe", "fact level: "),
];

fn pipeline(out: &str, port: u16, fence: &str, image: &str) -> String {
    let text = r#"language = 1
# FENCE
order = ["a > b", "a > c"]
[job.a.make]
IMAGEcheckout = false
steps = ["mkdir -p plain exit; echo x > plain/f; echo x > exit/f; echo ../../../../../../tmp/climbed > $ORDOTAXIS_FACTS/where"]
gives = { plain = ["plain"], over = ["exit"] }
facts = ["where"]
[[job.a.make.cache]]
paths = ["exit"]
key = "exit-FENCE"
[job.b.to]
IMAGEtakes = [{ from = "a.make/plain", to = "exit" }]
steps = ["true"]
[job.b.below]
IMAGEtakes = [{ from = "a.make/plain", to = "exit/deep" }]
steps = ["true"]
[job.b.over]
IMAGEtakes = ["a.make/over"]
steps = ["cat exit/f; test ! -L exit"]
[job.b.cached]
IMAGEsteps = ["cat exit/f; test ! -L exit"]
[[job.b.cached.cache]]
paths = ["exit"]
key = "exit-FENCE"
[job.b.through]
IMAGEsteps = ["true"]
gives = { x = ["exit/secret"] }
[job.b.link]
IMAGEsteps = ["true"]
gives = { x = ["exit"] }
[job.b.folder]
IMAGEcheckout = false
steps = ["rm -rf $ORDOTAXIS_FACTS; ln -s OUT $ORDOTAXIS_FACTS"]
facts = ["secret"]
[job.b.fact]
IMAGEcheckout = false
steps = ["ln -s /proc/self/environ $ORDOTAXIS_FACTS/level"]
facts = ["level"]
[job.b.pipe]
IMAGEcheckout = false
steps = ["mkfifo $ORDOTAXIS_FACTS/level"]
facts = ["level"]
[job.b.report]
IMAGEsteps = ["ln -s OUT/secret out.xml; mkfifo pipe.xml || true"]
reports = { junit = ["*.xml", "exit/secret"] }
[job.b.publish]
IMAGEsteps = ["mkdir p; ln -s ../exit p/q; ln -s q/secret p/f"]
gives = { p = ["p"] }
publish = [{ artifact = "p", to = "http://127.0.0.1:PORT/p" }]
[job.b.hash]
IMAGEsteps = ["mkdir -p kept; echo x > kept/f"]
[[job.b.hash.cache]]
paths = ["kept"]
key = "hash-FENCE-{hash:exit/**}"
[job.b.step]
IMAGEsteps = [{ run = "cat secret", dir = "exit", may_fail = true }]
[job.b.swap]
IMAGEbeside = [{ name = "swap", run = "while :; do rm -rf s; mkdir s; echo fine > s/secret; rm -rf s; ln -s OUT s; done" }]
steps = ["true"]
gives = { s = { paths = ["s/**"], none = "ignore" } }
[job.b.kept]
IMAGEsteps = ["mkdir kept; printf 'ebb and flood' > kept/victim; chmod 644 kept/victim; touch -r OUT/victim kept/victim 2>/dev/null || true"]
afterwards = { always = ["rm -rf kept; ln -s OUT kept"] }
[[job.b.kept.cache]]
paths = ["kept"]
key = "kept-FENCE"
[job.c.climbing]
IMAGEcheckout = { dir = "{fact.a.make.where}" }
steps = ["true"]
"#;
    let word = fence.replace([',', ' '], "-");
    let text = text.replace("FENCE", &word).replace("IMAGE", image).replace("OUT", out);
    text.replace("PORT", &port.to_string())
}

async fn tried(world: &World, repository: &ordotaxis_testbed::Repository, outside: &Outside, fence: &str, image: &str) {
    let (port, seen) = server();
    let out = outside.folder.path().display().to_string();
    let exit = repository.folder.join("exit");
    if !exit.is_symlink() {
        std::os::unix::fs::symlink(outside.folder.path(), &exit).expect("a link");
    }
    let commit = repository.push_pipeline(&pipeline(&out, port, fence, image));
    let run = world.verdict("tidegauge", &commit).await;
    outside.is_untouched().unwrap_or_else(|found| panic!("{fence}: something was written outside: {found}"));
    for (job, words) in MUST_FAIL {
        let job = World::job(&run, job);
        let why = job["why"].as_str().unwrap_or_default();
        assert!(job["state"] == "failed" && why.contains(words), "{fence}: {job}");
    }
    for job in ["b.over", "b.cached", "b.link", "b.report", "b.hash", "b.step", "b.publish"] {
        let log = world.log(&run, job).await;
        assert_eq!(World::job(&run, job)["state"], "passed", "{fence}: {job}: {log}");
    }
    assert!(!std::path::Path::new("/tmp/climbed").exists(), "{fence}");
    // Whatever a person could get of it: logs, artifacts, what was sent away.
    let name = run["run"].as_str().unwrap_or_default();
    let mut all = run.to_string();
    for job in run["jobs"].as_array().into_iter().flatten() {
        let id = job["id"].as_str().unwrap_or_default();
        // On the host a step reads what it likes: what counts is what the runner does.
        if !(fence == "host" && id == "b.step") {
            all += &world.run(&["logs", name, id]).await.out;
        }
    }
    for artifact in world.json(&["artifacts", name]).await.as_array().into_iter().flatten() {
        let of = format!("{}/{}", artifact["job"].as_str().unwrap_or_default(), artifact["name"].as_str().unwrap_or_default());
        let to = world.folder.path().join("got").join(fence).join(&of);
        let got = world.run(&["artifacts", name, "get", &of, "--to", &to.display().to_string()]).await;
        assert_eq!(got.code, 0, "{fence}: {got:?}");
        for entry in std::fs::read_dir(&to).into_iter().flatten().flatten().filter(|entry| !entry.path().is_symlink()) {
            all += &std::fs::read_to_string(entry.path()).unwrap_or_default();
            let inside = std::fs::read_dir(entry.path()).into_iter().flatten().flatten().filter(|entry| !entry.path().is_symlink());
            all.extend(inside.map(|entry| std::fs::read_to_string(entry.path()).unwrap_or_default()));
        }
    }
    assert!(!all.contains(SECRET), "{fence}: what lies outside was told: {all}");
    let sent = seen.lock().expect("a lock").clone();
    assert!(!sent.is_empty() && !sent.windows(SECRET.len()).any(|part| part == SECRET.as_bytes()), "{fence}: it was published");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_behind_a_link_is_read_or_written() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let mut homes = Vec::new();
    for fence in FENCES {
        let Ok((runner, _)) = runner_in(&world, fence, 2, &mut homes).await else { continue };
        let image = if fence == "container" { format!("image = \"{}\"\n", crate::contract::image()) } else { String::new() };
        tried(&world, &repository, &Outside::new(), fence, &image).await;
        drop(runner);
        repository.git(&["rm", "--quiet", "--cached", "exit"]);
        std::fs::remove_file(repository.folder.join("exit")).expect("the link");
    }
    // The same with a runner that fences nobody in: its own hands follow no link either.
    let _runner = world.runner(RunnerOptions::default()).await;
    tried(&world, &repository, &Outside::new(), "host", "").await;
}
