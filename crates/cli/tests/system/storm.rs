//! Everything at once, breaking: a pool in a cloud that lies, a landing queue, deployments, notices, the backup that the service
//! keeps, ages, and all the troubles of `faults`. Then all calms down, and what is on disk is read for what must never be.
//!
//! Some seconds here; for minutes with `cargo xtask soak`. The seed is printed: ORDOTAXIS_SEED brings the same troubles.

mod history;
mod troubles;

use super::{ORDOTAXIS, faults};
use base64::Engine;
use history::{Book, dump};
use ordotaxis_practice::{Cloud, Weather};
use ordotaxis_testbed::{Process, Repository, RunnerOptions, World};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::{Duration, Instant};
use troubles::{Board, Trouble, calm};

const CONFIG: &str = "lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"5s\"\nfetch_tries = 12\nretry_pause = \"50ms\"\nhook_grace = \"1s\"\n";
/// Machines of the pool at the same time, as the pool wants it.
const MOST: i64 = 4;
/// Proposals that stand in the queue at the same time.
const OFFERED: usize = 4;
/// After the storm, how long all may take to come to its end: pauses between tries have grown meanwhile.
const CALM: Duration = Duration::from_secs(300);

/// A file that ends in `-a` and one that ends in `-b` exclude each other; `bad` is bad by itself. What passed goes into two places.
const PIPELINE: &str = r#"language = 1
order = "test > trial > pier"
[starts]
push = ["main"]
proposal = ["main"]
overtake = false
[job.test.together]
where = ["heavy"]
retry = { times = 10, on = ["lost"] }
steps = ["test ! -e bad", "for a in *-a; do test ! -e \"${a%-a}-b\" || exit 1; done", "git rev-parse HEAD > gauge"]
gives = { gauge = ["gauge"] }
[job.test.quick]
checkout = false
where = ["real"]
retry = { times = 10, on = ["lost"] }
steps = ["echo low water"]
[job.trial.put]
if = 'event == "push"'
checkout = false
where = ["real"]
takes = ["test.together/gauge"]
deploys = "trial"
steps = ["cp gauge PLACE/trial"]
[job.pier.put]
if = 'event == "push"'
checkout = false
where = ["real"]
takes = ["test.together/gauge"]
deploys = "pier"
steps = ["cp gauge PLACE/pier"]
"#;

/// The world in the storm.
struct Storm {
    world: World,
    repository: Repository,
    cloud: Cloud,
    board: Board,
    runners: Vec<(String, Option<Process>)>,
    random: StdRng,
    /// How many proposals were offered, and which of them are asked to land.
    offered: usize,
    asked: Vec<bool>,
    met: BTreeMap<Trouble, u32>,
}

fn real() -> RunnerOptions<'static> {
    RunnerOptions { labels: &["real"], ..RunnerOptions::default() }
}

impl Storm {
    async fn gather(seed: u64) -> Storm {
        let mut world = World::start_with(ORDOTAXIS, CONFIG).await;
        let backups = world.folder.path().join("backups");
        world.configure(&format!(
            "[notices]\nnear = true\npause = \"1s\"\n[backup]\nto = {backups:?}\nevery = \"500ms\"\nkeep = 3\nkeys = true\n[ages]\nlogs = \"10s\"\n"
        ));
        world.stop_service();
        world.start_service();
        let (cloud, url) = world.cloud(Weather { start_ms: 100, ..Weather::default() }).await;
        let most = MOST.to_string();
        let set = ["pool", "set", "heavy", "--label", "heavy", "--provider", "practice", "--cloud", &url, "--most", &most, "--jobs", "1"];
        let set = world.run(&[&set[..], &["--start", "8s", "--idle", "1s", "--isolation", "host"]].concat()).await;
        assert_eq!(set.code, 0, "{set:?}");
        let board = Board::start().await;
        let repository = world.project("tidegauge").await;
        let mut runners = Vec::new();
        for number in 1..=2 {
            runners.push((format!("runner-{number}"), Some(world.runner(real()).await)));
        }
        std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
        let told = "[notice.board]\non = [\"broke\", \"fixed\", \"landed\", \"left\", \"deployed\"]";
        let rules =
            format!("rules = 1\n[branch.main]\nland = \"queue\"\n[environment.trial]\n[environment.pier]\nafter = [\"trial\"]\n{told}\n");
        repository.write("ordotaxis/rules.toml", &format!("{rules}url = \"{}\"\nsecret = \"BOARD_KEY\"\n", board.url));
        let key = format!("whsec_{}", base64::engine::general_purpose::STANDARD.encode([7; 24]));
        assert_eq!(world.run_with(&["secret", "set", "tidegauge", "BOARD_KEY"], &key).await.code, 0);
        let first = repository.push_pipeline(&PIPELINE.replace("PLACE", &world.folder.path().display().to_string()));
        assert_eq!(world.verdict("tidegauge", &first).await["state"], "passed");
        let random = StdRng::seed_from_u64(seed);
        Storm { world, repository, cloud, board, runners, random, offered: 0, asked: Vec::new(), met: BTreeMap::new() }
    }

    fn at(&self, name: &str) -> PathBuf {
        self.world.folder.path().join(name)
    }

    /// Offers one more change: of each pair only one can land, and some are bad.
    async fn offer(&mut self) {
        self.offered += 1;
        let (number, branch) = (self.offered, format!("topic/{}", self.offered));
        let file = match number % 5 {
            4 => "bad".to_owned(),
            side => format!("{}-{}", number / 5 * 2 + side / 2, if side % 2 == 0 { "a" } else { "b" }),
        };
        let git = |arguments: &[&str]| self.repository.git(arguments);
        git(&["checkout", "--quiet", "-B", &branch, "main"]);
        self.repository.write(&file, &format!("{number}\n"));
        self.repository.commit(&format!("Change {number}"));
        git(&["push", "--quiet", "origin", "HEAD"]);
        git(&["checkout", "--quiet", "main"]);
        self.world.propose("tidegauge", &branch, false).await;
        self.asked.push(false);
    }

    /// Asks for what was not yet taken into the queue: once more, where the answer was lost.
    async fn ask(&mut self) {
        for at in 0..self.asked.len() {
            if !self.asked[at] {
                let said = self.world.run(&["land", &format!("tidegauge/{}", at + 1)]).await;
                self.asked[at] = said.code == 0 || said.err.contains("already") || said.err.contains("landed");
            }
        }
    }

    /// Runners that were killed are there again.
    fn bring_back(&mut self) {
        for (name, process) in &mut self.runners {
            if process.is_none() {
                *process = Some(self.world.start_runner(name, &self.world.folder.path().join(&*name), &real()));
            }
        }
    }

    /// One round: something is offered, and something goes wrong.
    async fn round(&mut self, ended: usize) {
        if self.offered < ended + OFFERED {
            self.offer().await;
        }
        self.ask().await;
        for _ in 0..3 {
            let moment = Duration::from_millis(self.random.random_range(100..600));
            tokio::time::sleep(moment).await;
            let trouble = Trouble::any(&mut self.random);
            *self.met.entry(trouble).or_default() += 1;
            self.meet(trouble).await;
        }
    }

    /// Fair weather: whatever is under way comes to its end.
    async fn settle(&mut self) {
        calm(self);
        self.bring_back();
        let data = self.at("service");
        let begun = Instant::now();
        loop {
            self.ask().await;
            let open = history::open(&data).await;
            if open.is_empty() && self.asked.iter().all(|asked| *asked) && self.cloud.names().is_empty() {
                return;
            }
            if begun.elapsed() > CALM {
                let not_taken = self.asked.iter().position(|asked| !asked).map(|at| format!("tidegauge/{}", at + 1)).unwrap_or_default();
                let said = [self.world.run(&["why", "tidegauge"]).await, self.world.run(&["land", &not_taken]).await];
                panic!("after {} s this is left: {open:?}, {:?}; {said:?}", CALM.as_secs(), self.cloud.names());
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_breaks_everything_comes_to_a_good_end() {
    let seed = faults::number("ORDOTAXIS_SEED").unwrap_or_else(|| u64::from(rand::random::<u32>()));
    let seconds = faults::number("ORDOTAXIS_SOAK").unwrap_or(15);
    println!("seed {seed}, {seconds} s");
    let mut storm = Storm::gather(seed).await;
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(seconds) {
        let ended = history::ended_proposals(&storm.at("service")).await;
        storm.round(ended).await;
    }
    storm.settle().await;
    let world = &storm.world;
    assert!(world.run(&["store", "verify"]).await.out.contains("all of it sound"), "{:?}", world.run(&["store", "verify"]).await);
    assert_eq!(world.run(&["journal", "verify"]).await.code, 0);
    storm.world.stop_service();
    let data = storm.at("service");
    let book = Book::read(&data).await;
    let told = [book.runs(), book.machines(MOST), book.deployments(), book.landings(&storm), book.notices(&storm.board)].join("; ");
    storm.backup_is_the_same().await;
    println!("{told}; {:?}; {:?}", storm.met, storm.cloud.counts());
}

impl Storm {
    /// What the service sent to its backup by the end is all that it had.
    async fn backup_is_the_same(&self) {
        let (config, to) = (self.at("service.toml").display().to_string(), self.at("restored").display().to_string());
        let back = self.world.run(&["restore", "--config", &config, "--data", &to]).await;
        assert_eq!(back.code, 0, "{back:?}");
        let (there, restored) = (dump(&self.at("service")).await, dump(&self.at("restored")).await);
        let other: Vec<&String> = there.keys().filter(|table| there.get(*table) != restored.get(*table)).collect();
        assert!(other.is_empty(), "these tables are otherwise in the backup: {other:?}");
    }
}
