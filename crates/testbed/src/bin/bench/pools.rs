//! Machines on demand: how soon one is asked for, and is at work; and what a cloud of five hundred costs that goes wrong now and
//! then, beside the best that could be.

use super::measure::{median, ms, now_ns, ordotaxis, percentile, row, world};
use ordotaxis_practice::{Boot, Cloud, Console, Order, Weather};
use ordotaxis_testbed::{Answer, Node, Simulated, Slurm, World, leased, until};
use serde_json::Value;
use std::pin::Pin;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;

const ROUNDS: usize = 30;

/// Starts a run, and waits until it has passed.
async fn one_run(world: &World) -> Value {
    let begun = world.json(&["start", "bench"]).await;
    let name = begun["run"].as_str().unwrap_or_default();
    until("it has passed", || async {
        let run = world.json(&["show", name]).await;
        (run["state"] == "passed").then_some(run)
    })
    .await
}

/// A project whose pipeline is there, and the run that its push began has passed: that is no round.
async fn pushed(world: &World, pipeline: &str) {
    world.project("bench").await.push_pipeline(pipeline);
    until("it has passed", || async { (world.json(&["runs", "bench"]).await[0]["state"] == "passed").then_some(()) }).await;
}

/// One job after another, each of which a process is made for.
pub(super) async fn processes() {
    let world = world().await;
    let set = ["pool", "set", "desk", "--provider", "process", "--most", "4", "--jobs", "1", "--label", "desk"];
    assert_eq!(world.run(&set).await.code, 0);
    pushed(&world, "language = 1\n[job.a.x]\ncheckout = false\nwhere = [\"desk\"]\nsteps = [\"true\"]\n").await;
    let (mut asked, mut first, mut bare) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let run = one_run(&world).await;
        let attempt = &World::job(&run, "a.x")["attempts"][0];
        let machine = world.json(&["pool", "machine", attempt["runner"].as_str().unwrap_or_default()]).await;
        let queued = moment(&run["created_at"]);
        asked.push(moment(&machine["wanted_at"]) - queued);
        first.push(moment(&attempt["phases"][0]["started_at"]) - queued);
        let begin = Instant::now();
        let version = Command::new(ordotaxis()).arg("--version").stdout(Stdio::null()).status();
        assert!(version.is_ok_and(|status| status.success()));
        bare.push(ms(begin.elapsed()));
    }
    let whole = format!("p50 {:.0} ms, p99 {:.0} ms", median(asked.clone()), percentile(&asked, 0.99));
    row("run begun → machine asked for", &whole, "–", "aim: p99 100 ms");
    let whole = format!("p50 {:.0} ms, p99 {:.0} ms", median(first.clone()), percentile(&first, 0.99));
    row(
        "run begun → first step, on a process made for it",
        &whole,
        &format!("the client's own start {:.0} ms", median(bare)),
        "aim: 300 ms",
    );
}

fn moment(value: &Value) -> f64 {
    let at = value.as_str().and_then(|text| text.parse::<jiff::Timestamp>().ok()).map(jiff::Timestamp::as_millisecond);
    #[expect(clippy::cast_precision_loss, reason = "differences of it are small")]
    let ms = at.unwrap_or_default() as f64;
    ms
}

/// What machines did with their time, in milliseconds over all of them.
#[derive(Default)]
struct Spent {
    /// From the moment they were up until they were signed on.
    registering: AtomicU64,
    working: AtomicU64,
    /// With nothing to do.
    waiting: AtomicU64,
}

impl Spent {
    fn add(to: &AtomicU64, since: Instant) {
        to.fetch_add(u64::try_from(since.elapsed().as_millis()).unwrap_or(0), Ordering::Relaxed);
    }

    fn seconds(of: &AtomicU64) -> u64 {
        of.load(Ordering::Relaxed) / 1_000
    }
}

/// Machines whose runners are simulated: real protocol, no process.
struct SimulatedMachines(Arc<Spent>);

impl Boot for SimulatedMachines {
    fn boot(&self, order: Order, _: Console, _: CancellationToken) -> Pin<Box<dyn Future<Output = ()> + Send>> {
        let spent = self.0.clone();
        Box::pin(async move {
            let up = Instant::now();
            let said = |name: &str| order.environment.get(name).cloned().unwrap_or_default();
            let (url, invitation) = (said("ORDOTAXIS_URL"), said("ORDOTAXIS_INVITATION"));
            let Some(runner) = Simulated::enrol(&url, &url, &invitation, &order.name).await else { return };
            if !matches!(runner.sign_on(1).await, Answer::Is(_)) {
                return;
            }
            Spent::add(&spent.registering, up);
            let alive = runner.clone();
            let beats = async {
                loop {
                    alive.beat(&[]).await;
                    tokio::time::sleep(Duration::from_secs(2)).await;
                }
            };
            tokio::select! {
                () = beats => {}
                () = work(runner, &spent) => {}
            }
        })
    }
}

/// Does what it is leased, for as long as its step says, until nobody knows it any more.
async fn work(runner: Simulated, spent: &Spent) {
    let mut next = None;
    loop {
        let answer = match next.take() {
            Some(answer) => answer,
            None => {
                let since = Instant::now();
                let answer = runner.claim(0).await.0;
                Spent::add(&spent.waiting, since);
                answer
            }
        };
        let Some(attempt) = leased(&answer) else {
            if matches!(answer, Answer::Is(_)) {
                continue;
            }
            return;
        };
        let Answer::Is(value) = &answer else { return };
        let seconds = value["lease"]["steps"][0]["run"].as_str().and_then(|run| run.strip_prefix("sleep ")?.parse::<f64>().ok());
        let since = Instant::now();
        // The service holds a beat's answer until the next is due: the job ends whether or not it has come.
        let beats = async {
            loop {
                runner.beat(std::slice::from_ref(&attempt)).await;
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
        };
        let _: Result<(), _> = tokio::time::timeout(Duration::from_secs_f64(seconds.unwrap_or(0.0)), beats).await;
        Spent::add(&spent.working, since);
        let since = Instant::now();
        next = Some(runner.finish(&attempt, 0, true).await);
        Spent::add(&spent.waiting, since);
    }
}

/// Five thousand jobs of one to seven seconds, on up to five hundred machines that take two seconds to come; one in twenty never
/// does, and one in twenty is taken away while it works.
pub(super) async fn cloud() {
    const MOST: u32 = 500;
    const JOBS: u32 = 5_000;
    let world = world().await;
    let spent = Arc::new(Spent::default());
    let cloud = Cloud::new(Box::new(SimulatedMachines(spent.clone())));
    let start = Duration::from_secs(2);
    let start_ms = u64::try_from(start.as_millis()).unwrap_or(0);
    cloud.set_weather(Weather { start_ms, never_each: 20, taken_each: 21, taken_after_ms: 9_000, ..Weather::default() });
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let url = format!("http://{}", listener.local_addr().expect("an address"));
    tokio::spawn(cloud.clone().serve(listener));
    let most = MOST.to_string();
    let set = [
        "pool",
        "set",
        "sky",
        "--provider",
        "practice",
        "--cloud",
        &url,
        "--most",
        &most,
        "--start",
        "15s",
        "--idle",
        "3s",
        "--label",
        "sky",
    ];
    assert_eq!(world.run(&set).await.code, 0);
    let repository = world.project("bench").await;
    let seconds = |n: u32| f64::from(1 + n % 7);
    let job = |n: u32| {
        format!(
            "[job.a.j{n}]\ncheckout = false\nwhere = [\"sky\"]\nretry = {{ times = 9, on = [\"lost\"] }}\nsteps = [\"sleep {}\"]\n",
            seconds(n)
        )
    };
    let text: String = (0..JOBS).map(job).collect();
    repository.push_pipeline(&format!("language = 1\n{text}"));
    let begin = Instant::now();
    let (mut most_there, mut run) = (0, Value::Null);
    while run["state"] != "passed" {
        tokio::time::sleep(Duration::from_millis(500)).await;
        most_there = most_there.max(cloud.names().len());
        let runs = world.json(&["runs", "bench"]).await;
        run = runs[0].clone();
        assert!(run["state"] != "failed" && begin.elapsed() < Duration::from_secs(900), "{run}");
    }
    let took = begin.elapsed().as_secs_f64();
    until("no machine is left", || async { cloud.names().is_empty().then_some(()) }).await;
    let counts = cloud.counts();
    let work: f64 = (0..JOBS).map(seconds).sum();
    #[expect(clippy::cast_precision_loss, reason = "a few hours")]
    let paid = counts.paid_ms as f64 / 1000.0;
    let best = work + f64::from(MOST) * start.as_secs_f64();
    let fastest = work / f64::from(MOST) + start.as_secs_f64();
    row(
        &format!("{JOBS} jobs on up to {MOST} machines of a cloud: machine time"),
        &format!("{paid:.0} s, {:.2} of the best", paid / best),
        &format!("all busy from coming to going: {best:.0} s"),
        &format!(
            "aim: 1.2; {} made, {} never came, {} taken away, at most {most_there} there, none left; {} s registering, {} s at work, {} s waiting",
            counts.made,
            counts.never_came,
            counts.taken,
            Spent::seconds(&spent.registering),
            Spent::seconds(&spent.working),
            Spent::seconds(&spent.waiting),
        ),
    );
    row("… and how long it took", &format!("{took:.0} s, {:.2} of the best", took / fastest), &format!("{fastest:.0} s"), "");
}

/// One job after another on a cluster of one simulated node, beside what the cluster's own commands take to the same: the one
/// that waits for its job, and the one that leaves it with the cluster.
pub(super) async fn slurm() {
    const COUNT: u64 = 20;
    if !Slurm::works() {
        return row("run begun → first step, on a cluster", "no cluster can be made here", "", "");
    }
    let slurm = Slurm::start(&[Node { name: "ebb", cores: 8, memory_mib: 8192 }]);
    until("the node is up", || async { slurm.said("sinfo", &["--noheader", "--format=%t"]).trim().starts_with("idle").then_some(()) })
        .await;
    let mut world = world().await;
    world.environment.push(("SLURM_CONF".into(), slurm.configuration().display().to_string()));
    let scratch = world.folder.path().join("scratch");
    std::fs::create_dir(&scratch).expect("a folder");
    world.configure(&format!(
        "\n[pool.tide]\nprovider = \"slurm\"\nlabels = [\"tide\"]\noffers = {{ cores = 8, memory = \"8GiB\" }}\nmost = 4\njobs = 1\nisolation = \"host\"\n\
         slurm = {{ partition = \"tide\", folder = {scratch:?} }}\n"
    ));
    world.stop_service();
    world.start_service();
    pushed(&world, "language = 1\n[job.a.x]\ncheckout = false\nwhere = [\"tide\"]\ncores = 1\nsteps = [\"true\"]\n").await;
    let (mut first, mut waited, mut left) = (Vec::new(), Vec::new(), Vec::new());
    let printed = world.folder.path().join("printed");
    // The one measurement is not to wait until the other's job has left its node.
    let idle =
        async || until("the cluster has no job", || async { slurm.said("squeue", &["--noheader"]).trim().is_empty().then_some(()) }).await;
    for round in 0..COUNT {
        // The cluster starts what was left with it once a second: each round begins at another moment of that.
        idle().await;
        let pause = Duration::from_millis(round * 137 % 1_000);
        tokio::time::sleep(pause).await;
        let run = one_run(&world).await;
        let attempt = &World::job(&run, "a.x")["attempts"][0];
        first.push(moment(&attempt["phases"][0]["started_at"]) - moment(&run["created_at"]));
        idle().await;
        let begin = now_ns();
        let said = slurm.said("srun", &["--partition=tide", "--ntasks=1", "date", "+%s%N"]);
        let moment = |said: &str| said.lines().find_map(|line| line.trim().parse::<f64>().ok());
        waited.push((moment(&said).unwrap_or_else(|| panic!("`srun` says: {said}")) - begin) / 1e6);
        idle().await;
        tokio::time::sleep(pause).await;
        let begin = now_ns();
        slurm.said("sbatch", &["--partition=tide", "--ntasks=1", &format!("--output={}", printed.display()), "--wrap=date +%s%N"]);
        let begun = until("it was begun", || async { moment(&std::fs::read_to_string(&printed).ok()?) }).await;
        left.push((begun - begin) / 1e6);
        std::fs::remove_file(&printed).expect("it is there");
    }
    let (ours, srun, sbatch) = (median(first.clone()), median(waited), median(left));
    row(
        "run begun → first step, on a cluster",
        &format!("p50 {ours:.0} ms, p99 {:.0} ms", percentile(&first, 0.99)),
        &format!("`srun` of the same p50 {srun:.0} ms; `sbatch` p50 {sbatch:.0} ms"),
        &format!("{:.0} ms more than 1.5 times `srun` (aim: 200); than `sbatch`: {:.0} ms more", ours - srun * 1.5, ours - sbatch),
    );
}
