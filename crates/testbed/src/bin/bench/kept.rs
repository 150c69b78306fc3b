//! Figures of what is kept: a large tree saved and restored through a real service and real runners, beside tar and zstd;
//! the store's parts beside the bare crates; artifacts listed; a large report read.

use super::measure::{end_of, median, ms, row, world};
use ordotaxis_content::{ChunkId, Packer, cut};
use ordotaxis_testbed::{RunnerOptions, World};
use serde_json::Value;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

const ROUNDS: u64 = 3;

/// A small, quick generator: the same seed makes the same tree.
struct Noise(u64);

impl Noise {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }
}

/// Text as build trees hold it: words that come again, which packs to about a quarter.
fn text(noise: &mut Noise, length: usize) -> Vec<u8> {
    const WORDS: [&str; 16] = [
        "gauge ",
        "station ",
        "north-pier\n",
        "lock-gate ",
        "int height(",
        "return ",
        "0x",
        "drift;\n",
        "    ",
        "static ",
        "datum ",
        "{\n",
        "}\n",
        "outer-buoy ",
        "tide ",
        "//",
    ];
    let mut bytes = Vec::with_capacity(length + 32);
    while bytes.len() < length {
        let next = noise.next();
        bytes.extend_from_slice(WORDS[usize::try_from(next % 16).unwrap_or(0)].as_bytes());
        if next & 0x30 == 0 {
            bytes.extend_from_slice(format!("{:x}", next >> 40).as_bytes());
        }
    }
    bytes.truncate(length);
    bytes
}

/// About 1.1 GB in 29,000 files, as they lie in work trees: what building this project has put on the machine. Sources,
/// object code and packages; made-up text packs otherwise than any of them.
fn plant(root: &Path) {
    std::fs::create_dir_all(root).expect("a folder");
    let home = std::env::var("CARGO_HOME").unwrap_or_else(|_| format!("{}/.cargo", std::env::var("HOME").expect("a home")));
    let sysroot = Command::new("rustc").args(["--print", "sysroot"]).output().expect("rustc").stdout;
    let packages = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules");
    let from = [
        (format!("{home}/registry/src"), "sources"),
        (format!("{}/lib", String::from_utf8_lossy(&sysroot).trim()), "libraries"),
        (format!("{packages}/antd"), "antd"),
        (format!("{packages}/echarts"), "echarts"),
    ];
    for (from, to) in from {
        shell(&format!("cp -a {from} {}/{to}", root.display()));
    }
}

/// How many files there are, and their bytes.
fn sums(root: &Path) -> (u64, u64) {
    let inside = std::fs::read_dir(root).expect("a folder").map(|entry| entry.expect("an entry"));
    inside.fold((0, 0), |(files, bytes), entry| match entry.metadata().expect("an entry") {
        meta if meta.is_dir() => {
            let (more, of) = sums(&entry.path());
            (files + more, bytes + of)
        }
        meta => (files + 1, bytes + meta.len()),
    })
}

/// Waits until what was written is on the disk: writing it beside what is measured would be measured too.
fn settle() {
    shell("sync");
}

fn shell(command: &str) -> f64 {
    let begin = Instant::now();
    let status = Command::new("sh").args(["-euc", command]).status();
    assert!(status.is_ok_and(|status| status.success()), "{command}");
    ms(begin.elapsed())
}

/// What the service says of a job's only cache.
async fn used(world: &World, pipeline: &str, runner: &str, repository: &ordotaxis_testbed::Repository) -> Value {
    repository.write("ordotaxis.toml", &pipeline.replace("RUNNER", runner));
    // The same file on the same runner is a commit nevertheless.
    repository.write("moment", &format!("{:?}", Instant::now()));
    repository.commit(runner);
    repository.push();
    let run = world.json(&["start", "bench"]).await;
    let ended = end_of(world, run["run"].as_str().unwrap_or_default()).await;
    assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
    let whole = world.json(&["show", run["run"].as_str().unwrap_or_default()]).await;
    whole["jobs"][0]["attempts"][0]["caches"][0].clone()
}

/// Saved for the first time, saved again with 1% changed, restored where nothing is and where most is.
pub(super) async fn trees() {
    let (mut ours, mut theirs): (Vec<[f64; 4]>, Vec<[f64; 2]>) = (Vec::new(), Vec::new());
    let (mut sent, mut packed, mut files, mut size) = ([0.0; 4], 0.0, 0, 0);
    // Nothing is deleted before all is measured: file systems make files slowly for minutes after many were.
    let mut worlds = Vec::new();
    for round in 1..=ROUNDS {
        let world = world().await;
        let place = world.folder.path().to_owned();
        let tree = place.join("tree");
        plant(&tree);
        (files, size) = sums(&tree);
        settle();
        let archive = place.join("tree.tar.zst");
        let save = shell(&format!("tar -C {} -cf - . | zstd -q -T0 -3 -f -o {}", tree.display(), archive.display()));
        let into = place.join("unpacked");
        settle();
        let restore = shell(&format!("mkdir -p {0}; zstd -q -dc {1} | tar -x -C {0}", into.display(), archive.display()));
        packed = std::fs::metadata(&archive).map_or(0.0, |meta| meta.len() as f64);
        theirs.push([save, restore]);
        let repository = world.project("bench").await;
        let change = format!(
            "if test -d tree; then n=0; find tree -type f | LC_ALL=C sort | awk 'NR % 100 == 7' | while read f; do echo changed-$ORDOTAXIS_RUN >> $f; done; else cp -a {} tree; fi; sync",
            tree.display()
        );
        let pipeline = format!(
            "language = 1\n[starts]\npush = []\n[job.a.b]\nwhere = [\"RUNNER\"]\nsteps = ['''{change}''']\n[[job.a.b.cache]]\npaths = [\"tree\"]\nkey = \"tree-{{commit}}\"\nelse = [\"tree-\"]\n"
        );
        let runner = async |label: &str| world.runner(RunnerOptions { slots: 1, labels: &[label], ..RunnerOptions::default() }).await;
        let number = |use_of: &Value, key: &str| use_of[key].as_f64().unwrap_or(0.0);
        let one = runner("one").await;
        let first = used(&world, &pipeline, "one", &repository).await;
        let second = used(&world, &pipeline, "one", &repository).await;
        settle();
        // It has nothing, and saves what the first then has most of.
        let two = runner("two").await;
        let fresh = used(&world, &pipeline, "two", &repository).await;
        settle();
        let third = used(&world, &pipeline, "one", &repository).await;
        ours.push([number(&first, "save_ms"), number(&second, "save_ms"), number(&fresh, "restore_ms"), number(&third, "restore_ms")]);
        sent =
            [number(&first, "sent_bytes"), number(&second, "sent_bytes"), number(&fresh, "fetched_bytes"), number(&third, "fetched_bytes")];
        assert!(number(&second, "bytes") > 0.9 * size as f64, "{second}");
        worlds.push((world, one, two));
        eprintln!("round {round}: saves and restores {:.0?} ms; tar and zstd {:.0?} ms", ours[ours.len() - 1], theirs[theirs.len() - 1]);
    }
    let names = ["first save", "second save, 1% changed", "restore on a fresh runner", "restore where most of it is"];
    let aims = ["0.75", "0.05", "0.6", "0.1"];
    for at in 0..4 {
        let tool = usize::from(at >= 2);
        let ratio = median((0..ours.len()).map(|round| ours[round][at] / theirs[round][tool]).collect());
        let (mine, limit) = (median(ours.iter().map(|all| all[at]).collect()), median(theirs.iter().map(|all| all[tool]).collect()));
        let command = if tool == 0 { "`tar \\| zstd -T0 -3`" } else { "`zstd -d \\| tar -x`" };
        row(
            &format!("tree of {files} files, {:.2} GB: {}", size as f64 / 1e9, names[at]),
            &format!("{mine:.0} ms, {:.1} MB over the wire", sent[at] / 1e6),
            &format!("{command} {limit:.0} ms, {:.0} MB", packed / 1e6),
            &format!("{ratio:.3} of the time (aim {}), {:.4} of the bytes", aims[at], sent[at] / packed),
        );
    }
}

/// One core: cutting, naming, packing, each beside the bare crate.
pub(super) fn content() {
    let mut noise = Noise(42);
    let bytes = text(&mut noise, 256 * 1024 * 1024);
    let rate = |begin: Instant| bytes.len() as f64 / 1e6 / begin.elapsed().as_secs_f64();
    let mut rates: [Vec<f64>; 5] = Default::default();
    for _ in 0..5 {
        let begin = Instant::now();
        let pieces: Vec<_> = cut(&bytes).collect();
        rates[0].push(rate(begin));
        let begin = Instant::now();
        let ids: Vec<ChunkId> = pieces.iter().map(|piece| ChunkId::of(&bytes[piece.clone()])).collect();
        rates[1].push(rate(begin));
        let begin = Instant::now();
        std::hint::black_box(blake3::hash(&bytes));
        rates[2].push(rate(begin));
        let mut packer = Packer::new().expect("a packer");
        let begin = Instant::now();
        pieces.iter().zip(&ids).for_each(|(piece, id)| packer.add(*id, &bytes[piece.clone()]).expect("a chunk"));
        std::hint::black_box(packer.take().expect("a pack"));
        rates[3].push(rate(begin));
        let begin = Instant::now();
        for block in bytes.chunks(1 << 20) {
            std::hint::black_box(zstd::bulk::compress(block, 1).expect("a block"));
        }
        rates[4].push(rate(begin));
    }
    let [cut, name, bare_name, pack, bare_pack] = rates.map(median);
    row("cutting by content, one core", &format!("{cut:.0} MB/s"), "the bare crate is what is called", "FastCDC 2020, 64 to 1,024 KiB");
    row(
        "naming chunks, one core",
        &format!("{name:.0} MB/s"),
        &format!("`blake3::hash` of the whole {bare_name:.0} MB/s"),
        &format!("{:.2}", name / bare_name),
    );
    row(
        "packing chunks, one core",
        &format!("{pack:.0} MB/s"),
        &format!("`zstd` level 1 in 1 MiB blocks {bare_pack:.0} MB/s"),
        &format!("{:.2}", pack / bare_pack),
    );
}

/// A JUnit file of 100,000 cases.
pub(super) fn report() {
    let case = |n: usize| match n % 50 {
        0 => format!(
            "  <testcase classname=\"org.saltmarsh.Gauge{}\" name=\"height at {n} mm &amp; more\" time=\"0.0{n}\"><failure message=\"expected:&lt;{n}&gt;\"><![CDATA[at gauge.c:{n}\nstack of some lines that a runner prints]]></failure></testcase>\n",
            n % 300
        ),
        _ => format!(
            "  <testcase classname=\"org.saltmarsh.Gauge{}\" name=\"height at {n} mm above the datum\" time=\"0.0{n}\" file=\"tests/gauge_{}.c\"/>\n",
            n % 300,
            n % 300
        ),
    };
    let text = format!("<testsuites><testsuite name=\"gauge\">\n{}</testsuite></testsuites>", (0..100_000).map(case).collect::<String>());
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for _ in 0..7 {
        let begin = Instant::now();
        let cases = ordotaxis_core::report::junit_cases(text.as_bytes()).expect("it is well-formed");
        assert_eq!(cases.len(), 100_000);
        ours.push(text.len() as f64 / 1e6 / begin.elapsed().as_secs_f64());
        let begin = Instant::now();
        let mut reader = quick_xml::Reader::from_reader(text.as_bytes());
        while !matches!(reader.read_event().expect("an event"), quick_xml::events::Event::Eof) {}
        bare.push(text.len() as f64 / 1e6 / begin.elapsed().as_secs_f64());
    }
    let (ours, bare) = (median(ours), median(bare));
    let size = text.len() as f64 / 1e6;
    row(
        &format!("JUnit XML of 100,000 cases ({size:.0} MB), read"),
        &format!("{ours:.0} MB/s"),
        &format!("the parser's events alone {bare:.0} MB/s"),
        "aim: 100 MB/s",
    );
}

/// 10,000 artifacts of one run, listed.
pub(super) async fn artifacts() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    ten_thousand(&world).await;
    let mut times = Vec::new();
    let mut bytes = 0;
    for _ in 0..15 {
        let begin = Instant::now();
        let answer = world.http(reqwest::Method::GET, "/api/v1/runs/bench/1/artifacts").send().await.expect("an answer");
        bytes = answer.bytes().await.expect("a body").len();
        times.push(ms(begin.elapsed()));
    }
    row(
        "10,000 artifacts of one run, listed over HTTP",
        &format!("{:.1} ms", median(times)),
        &format!("{:.1} MB of JSON", bytes as f64 / 1e6),
        "aim: 50 ms",
    );
}

/// One run of 100 jobs, each of which gives 100 artifacts of a file each, as it has ended.
pub(super) async fn ten_thousand(world: &World) -> Value {
    let repository = world.project("bench").await;
    let gives: String = (0..100).map(|n| format!("g{n} = [\"f{n}\"], ")).collect();
    let files = "for n in $(seq 0 99); do echo $ORDOTAXIS_JOB $n > f$n; done";
    let jobs: String = (0..100)
        .map(|n| format!("[job.a.j{n}]\ncheckout = false\nsteps = [\"{files}\"]\ngives = {{ {} }}\n", gives.trim_end_matches(", ")))
        .collect();
    repository.write("ordotaxis.toml", &format!("language = 1\n[starts]\npush = []\n{jobs}"));
    repository.commit("many artifacts");
    repository.push();
    let run = world.json(&["start", "bench"]).await;
    let ended = end_of(world, run["run"].as_str().unwrap_or_default()).await;
    assert_eq!(ended["state"], "passed", "{}", ended["sentence"]);
    ended
}
