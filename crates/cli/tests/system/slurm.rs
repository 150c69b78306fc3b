//! A real cluster of two simulated nodes: machines come for sixty jobs, as large as each asks, up to the most, and go; a node that
//! fails in the middle costs no job. What the jobs give each other lies in object storage, which machines reach themselves.

use super::world;
use ordotaxis_testbed::{Node, ObjectStorage, Slurm, World, until};
use serde_json::Value;

const NODES: [Node; 2] = [Node { name: "ebb", cores: 8, memory_mib: 8192 }, Node { name: "flood", cores: 8, memory_mib: 8192 }];

/// A service that has a pool of this cluster.
async fn on(slurm: &Slurm) -> World {
    let mut world = world().await;
    world.environment.push(("SLURM_CONF".into(), slurm.configuration().display().to_string()));
    let scratch = world.folder.path().join("scratch");
    std::fs::create_dir(&scratch).expect("a folder");
    world.configure(&format!(
        "\n[pool.tide]\nprovider = \"slurm\"\nlabels = [\"tide\"]\noffers = {{ cores = 8, memory = \"8GiB\" }}\nmost = 6\njobs = 1\nstart = \"2m\"\nisolation = \"host\"\n\
         slurm = {{ partition = \"tide\", folder = {scratch:?} }}\n"
    ));
    world.kill_service();
    world.start_service();
    world
}

async fn machines(world: &World) -> Vec<Value> {
    let all = world.json(&["pool", "show", "tide"]).await;
    all["machines"].as_array().cloned().unwrap_or_default()
}

fn there(all: &[Value]) -> Vec<&Value> {
    all.iter().filter(|machine| machine["stage"] != "gone").collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn sixty_jobs_on_a_cluster_whose_node_fails() {
    if !Slurm::works() {
        panic!("a cluster needs root and Debian's munge, slurmctld, slurmd and slurm-client: `cargo xtask test` installs them");
    }
    let mut slurm = Slurm::start(&NODES);
    until("both nodes are up", || async {
        let nodes = slurm.said("sinfo", &["--noheader", "--format=%t %D"]);
        nodes.trim().starts_with("idle 2").then_some(())
    })
    .await;
    let mut world = on(&slurm).await;
    let storage = ObjectStorage::start(&world.folder.path().join("storage"));
    world.configure(&format!("\n[store]\n{}direct = \"{}\"\n", storage.settings(), storage.gate_url()));
    world.kill_service();
    world.start_service();
    let repository = world.project("tidegauge").await;
    assert!(machines(&world).await.is_empty(), "nothing is there");
    let job = |n: usize| {
        let (cores, memory) = (1 + n % 3, 256 + 256 * (n % 4));
        format!(
            "[job.a.j{n}]\ncheckout = false\nwhere = [\"tide\"]\ncores = {cores}\nmemory = \"{memory}MiB\"\ntimeout = \"3m\"\n\
             retry = {{ times = 5, on = [\"lost\"] }}\ngives = {{ n{n} = [\"n{n}\"] }}\n\
             steps = [\"test $ORDOTAXIS_CORES = {cores}; echo $ORDOTAXIS_MEMORY_MIB; head -c 300000 /dev/urandom > n{n}\"]\n"
        )
    };
    let mut file: String = (0..60).map(job).collect();
    let takes: Vec<String> = (0..60).map(|n| format!("\"a.j{n}/n{n}\"")).collect();
    let all = "where = [\"tide\"]\ncores = 2\nretry = { times = 5, on = [\"lost\"] }\nsteps = [\"cat n* | wc -c\"]\n";
    file += &format!("[job.b.all]\ncheckout = false\ntakes = [{}]\n{all}", takes.join(", "));
    let commit = repository.push_pipeline(&format!("language = 1\n{file}"));
    // Up to the most, each as large as its job asks.
    until("six machines are there", || async { (there(&machines(&world).await).len() == 6).then_some(()) }).await;
    let passed = |run: &Value| run["jobs"].as_array().into_iter().flatten().filter(|job| job["state"] == "passed").count();
    world.run_of("tidegauge", &commit, "some have passed", |run| passed(run) > 8).await;
    slurm.fail_node("flood");
    let run = world.run_of("tidegauge", &commit, "most have passed", |run| passed(run) > 30).await;
    assert!(there(&machines(&world).await).len() <= 6, "never more than the most: {run}");
    slurm.start_node("flood");
    slurm.said("scontrol", &["update", "nodename=flood", "state=resume"]);
    let run = until("all have passed", || async {
        let run = world.json(&["show", "tidegauge"]).await;
        (passed(&run) == 61).then_some(run)
    })
    .await;
    assert_eq!(world.log(&run, "b.all").await.trim(), (60 * 300_000).to_string());
    let (into, out) = super::direct::went(&world).await;
    // What goes wrong on this way goes by the service instead: on a machine that is busy that may be one or two.
    assert!(into >= 15e6 && out >= 15e6, "nearly all of it went without the service: {into} {out}");
    for n in [0, 7, 59] {
        let memory = 256 + 256 * (n % 4);
        assert_eq!(world.log(&run, &format!("a.j{n}")).await.lines().next(), Some(memory.to_string().as_str()));
    }
    let all = until("all machines are gone", || async {
        let all = machines(&world).await;
        there(&all).is_empty().then_some(all)
    })
    .await;
    assert!(all.iter().all(|machine| machine["gone_at"].is_string()), "{all:?}");
    let of = |cores: u32| all.iter().any(|machine| machine["cores"] == cores);
    assert!(of(1) && of(2) && of(3), "each is as large as its job asks: {all:?}");
    until("and the cluster has no job", || async { slurm.said("squeue", &["--noheader"]).trim().is_empty().then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_cluster_says_is_told_on() {
    let mut slurm = Slurm::start(&NODES[..1]);
    let world = on(&slurm).await;
    let repository = world.project("tidegauge").await;
    slurm.said("scontrol", &["update", "nodename=ebb", "state=drain", "reason=painted"]);
    repository.push_pipeline("language = 1\n[job.a.x]\ncheckout = false\nwhere = [\"tide\"]\ncores = 4\nsteps = [\"true\"]\n");
    let words = |wanted: &'static str| {
        let world = &world;
        async move {
            until(wanted, || async {
                let all = machines(world).await;
                let said = there(&all).first().map(|machine| machine["words"].as_str().unwrap_or_default().to_owned());
                said.filter(|said| said.contains(wanted))
            })
            .await
        }
    };
    words("is waiting: the nodes that it needs are down or drained").await;
    let id = there(&machines(&world).await)[0]["id"].as_str().unwrap_or_default().to_owned();
    slurm.said("scontrol", &["update", "nodename=ebb", "state=resume"]);
    let run = until("it passes", || async {
        let run = world.json(&["show", "tidegauge"]).await;
        (run["state"] == "passed").then_some(run)
    })
    .await;
    assert_eq!(World::job(&run, "a.x")["attempts"][0]["runner"], id.as_str(), "the machine that waited did it");
    // A cluster that does not answer: nobody is told that there is nothing, and it is tried again.
    slurm.stop_controller();
    repository.push_pipeline("language = 1\n[job.a.y]\ncheckout = false\nwhere = [\"tide\"]\nsteps = [\"true\"]\n");
    until("the pool says what is wrong", || async {
        let pools = world.json(&["pool", "list"]).await;
        let why = pools[0]["why"].as_str().unwrap_or_default().to_owned();
        (pools[0]["troubled"] == true && why.contains("squeue")).then_some(())
    })
    .await;
    slurm.start_controller();
    until("and it goes on", || async { (world.json(&["show", "tidegauge"]).await["state"] == "passed").then_some(()) }).await;
}
