//! Machines on demand, through the real interfaces: they come when jobs queue, do them, and go; and whatever their provider does,
//! none is left, none is doubled, and no job is lost.

use super::world;
use ordotaxis_practice::Weather;
use ordotaxis_testbed::{Browser, Proxy, RunnerOptions, Simulated, World, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

/// Jobs that only a pool's machines take.
fn pipeline(jobs: usize, step: &str) -> String {
    let job = |n: usize| {
        format!("[job.a.j{n}]\ncheckout = false\nwhere = [\"heavy\"]\nretry = {{ times = 5, on = [\"lost\"] }}\nsteps = [{step:?}]\n")
    };
    format!("language = 1\n{}", (0..jobs).map(job).collect::<String>())
}

async fn set(world: &World, options: &[&str]) {
    let mut line = vec!["pool", "set", "heavy", "--label", "heavy"];
    line.extend(options);
    let ran = world.run(&line).await;
    assert_eq!(ran.code, 0, "{ran:?}");
}

async fn machines(world: &World) -> Vec<Value> {
    let all: Value = world.http(Method::GET, "/api/v1/machines").send().await.expect("an answer").json().await.expect("JSON");
    all.as_array().cloned().unwrap_or_default()
}

/// The machines, once they are as wanted.
async fn machines_until(world: &World, what: &str, fits: impl Fn(&[Value]) -> bool) -> Vec<Value> {
    until(what, || async {
        let all = machines(world).await;
        fits(&all).then_some(all)
    })
    .await
}

fn all_gone(all: &[Value]) -> bool {
    all.iter().all(|machine| machine["stage"] == "gone")
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_comes_for_a_job_does_it_and_goes() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    set(&world, &["--provider", "process", "--most", "2", "--jobs", "1", "--cores", "2", "--memory", "1GiB", "--price", "3.6"]).await;
    assert!(machines(&world).await.is_empty(), "no runner stands idle");
    let file = "language = 1\n[job.a.x]\ncheckout = false\nwhere = [\"heavy\"]\ncores = 2\nmemory = \"64MiB\"\n\
                steps = [\"echo $ORDOTAXIS_CORES cores, $ORDOTAXIS_MEMORY_MIB MiB\", \"sleep 0.3\"]\n[job.a.big]\ncheckout = false\nwhere = [\"heavy\"]\ncores = 3\nsteps = [\"true\"]\n";
    let commit = repository.push_pipeline(file);
    let run = world.run_of("tidegauge", &commit, "one of two", |run| World::job(run, "a.x")["state"] == "passed").await;
    let job = World::job(&run, "a.x");
    let id = text(&job["attempts"][0]["runner"]).to_owned();
    assert!(id.starts_with("heavy-"), "{job}");
    assert_eq!(world.log(&run, "a.x").await, "2 cores, 64 MiB\n");
    let gone = machines_until(&world, "it goes", all_gone).await;
    let machine = gone.iter().find(|machine| machine["id"] == *id).expect("it is told of");
    assert_eq!((text(&machine["why"]), machine["jobs"].as_u64()), ("it has done what it was made for", Some(1)), "{machine}");
    assert!(machine["cost"].as_f64().is_some_and(|cost| (0.0001..0.2).contains(&cost)), "{machine}");
    // Leaving takes it off the list, its credential ends, and nothing of it is left.
    let runners: Value = world.json(&["runner", "list"]).await;
    assert_eq!(runners, json!([]), "{runners}");
    until("its process and its folder are gone", || async { world.pool_processes().is_empty().then_some(()) }).await;
    // What no machine of the pool has room for is said as such, and asks for none.
    let why = world.run(&["why", "tidegauge", "a.big"]).await;
    assert!(why.out.contains("no runner is connected"), "{why:?}");
    assert!(all_gone(&machines(&world).await), "a machine that would not do is not made");
    let shown = world.run(&["pool", "show", "heavy"]).await;
    assert!(shown.out.contains("nothing that it could do queues") && shown.out.contains(&id), "{shown:?}");
    let journal = world.run(&["journal"]).await;
    assert!(journal.out.contains("pool.set") && journal.out.contains("runner.enrol"), "{}", journal.out);
}

/// A service whose configuration has this pool.
async fn configured(pool: &str) -> World {
    let mut world = world().await;
    world.configure(&format!("\n[pool.heavy]\nlabels = [\"heavy\"]\n{pool}\n"));
    world.kill_service();
    world.start_service();
    world
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_service_finds_its_machines_again() {
    let mut world = configured("provider = 'process'\nmost = 3\nidle = '2s'\nisolation = 'host'").await;
    let repository = world.project("tidegauge").await;
    let go = world.folder.path().join("go");
    let commit = repository.push_pipeline(&pipeline(3, &format!("while ! [ -e {} ]; do sleep 0.02; done", go.display())));
    let busy = |all: &[Value]| all.iter().filter(|machine| machine["stage"] == "busy").count() == 3;
    let before = machines_until(&world, "three work", busy).await;
    world.kill_service();
    world.start_service();
    let after = machines_until(&world, "three work again", busy).await;
    let ids = |all: &[Value]| {
        let mut ids: Vec<String> = all.iter().map(|machine| text(&machine["id"]).to_owned()).collect();
        ids.sort();
        ids
    };
    assert_eq!(ids(&before), ids(&after), "they are the same, and there are no others");
    std::fs::write(&go, "").expect("a file");
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    let attempts = run["jobs"].as_array().into_iter().flatten().map(|job| job["attempts"].as_array().map_or(0, Vec::len));
    assert_eq!(attempts.sum::<usize>(), 3, "nothing was done twice: {run}");
    machines_until(&world, "they go when there is nothing to do", all_gone).await;
    // A pool of the configuration is changed there alone.
    let set = world.run(&["pool", "set", "heavy", "--most", "9"]).await;
    assert!(set.code == 3 && set.err.contains("set in the service's configuration"), "{set:?}");
    assert_eq!(world.run(&["pool", "remove", "heavy"]).await.code, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cloud_that_goes_wrong_leaves_no_machine_and_loses_no_job() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let weather = Weather {
        quota: Some(4),
        start_ms: 100,
        refuses_each: 5,
        silent_each: 3,
        never_each: 4,
        twice_each: 7,
        taken_each: 6,
        taken_after_ms: 900,
        ..Weather::default()
    };
    let (cloud, url) = world.cloud(weather).await;
    let options =
        ["--provider", "practice", "--cloud", &url, "--most", "6", "--jobs", "1", "--start", "6s", "--idle", "1s", "--isolation", "host"];
    set(&world, &options).await;
    let commit = repository.push_pipeline(&pipeline(14, "sleep 0.2"));
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    let all = machines_until(&world, "all go", all_gone).await;
    until("and the cloud has none", || async { cloud.names().is_empty().then_some(()) }).await;
    let counts = cloud.counts();
    assert!(counts.refused > 0 && counts.never_came > 0 && counts.most <= 5, "what goes wrong did, and the quota held: {counts:?}");
    let whys: Vec<&str> = all.iter().map(|machine| text(&machine["why"])).collect();
    assert!(whys.contains(&"its runner did not come in time"), "{whys:?}");
    assert!(whys.iter().any(|why| why.starts_with("the provider refused it: ")), "{whys:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_keeps_a_pool_from_helping_is_said_to_who_waits() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let (cloud, url) = world.cloud(Weather { quota: Some(0), ..Weather::default() }).await;
    set(&world, &["--provider", "practice", "--cloud", &url, "--most", "1", "--jobs", "1", "--isolation", "host"]).await;
    let go = world.folder.path().join("go");
    repository.push_pipeline(&pipeline(2, &format!("while ! [ -e {} ]; do sleep 0.02; done", go.display())));
    let why = |words: &'static str| {
        let world = &world;
        async move {
            until(words, || async {
                let said = world.run(&["why", "tidegauge"]).await.out;
                said.contains(words).then_some(said)
            })
            .await
        }
    };
    why("pool heavy could not make a machine: the quota of 0 machines is used up; it is tried again at").await;
    let listed = world.run(&["pool", "list"]).await.out;
    assert!(listed.contains("it could not make a machine: the quota of 0 machines is used up"), "{listed}");
    cloud.set_weather(Weather { start_ms: 1_500, ..Weather::default() });
    why("pool heavy is making a machine").await;
    why("pool heavy is at its most of 1").await;
    // What it wrote can be looked at, and one that is kept stays.
    let all = machines_until(&world, "it works", |all| all.iter().any(|machine| machine["stage"] == "busy")).await;
    let id = text(&all.iter().find(|machine| machine["stage"] == "busy").expect("one")["id"]).to_owned();
    let console = world.run(&["pool", "console", &id]).await;
    assert!(console.out.contains("it has started") && console.out.contains(&format!("machine {id} works at")), "{console:?}");
    let kept = world.run(&["pool", "keep", &id, "--for", "1h"]).await;
    assert!(kept.code == 0 && kept.out.contains("kept for 1h"), "{kept:?}");
    std::fs::write(&go, "").expect("a file");
    let shown = until("it has done its job and stays", || async {
        let shown = world.run(&["pool", "machine", &id]).await.out;
        (!shown.contains("doing")).then_some(shown)
    })
    .await;
    assert!(shown.contains("kept until") && cloud.names() == [id.clone()], "{shown}");
    why("pool heavy is at its most of 1").await;
    assert_eq!(world.run(&["pool", "machine", &id, "--remove"]).await.code, 0);
    machines_until(&world, "it goes, and another does the rest", all_gone).await;
    assert_eq!(world.run(&["pool", "keep", &id]).await.code, 2, "what is gone cannot be kept");
    let unknown = world.run(&["pool", "machine", "heavy-no"]).await;
    assert!(unknown.code == 2 && unknown.err.contains("there is no machine heavy-no"), "{unknown:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_saves_what_it_has_done_when_its_machine_is_taken_away() {
    job_is_saved(&world().await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_that_is_taken_away_says_so_however_slow_the_way_is() {
    let mut world = world().await;
    let (proxy, url) = Proxy::start(&world.url, 1).await;
    proxy.calm();
    // Longer than jobs wait for it before they save what they have.
    proxy.hold("/taken-away", Duration::from_secs(3));
    world.configure(&format!("public_url = \"{url}\"\n"));
    world.stop_service();
    world.start_service();
    job_is_saved(&world).await;
}

/// A machine is taken away while its job works: another goes on where that one was, and why it went is known.
async fn job_is_saved(world: &World) {
    let repository = world.project("tidegauge").await;
    let (cloud, url) = world.cloud(Weather::default()).await;
    set(world, &["--provider", "practice", "--cloud", &url, "--most", "1", "--jobs", "1", "--isolation", "host"]).await;
    let saved = world.folder.path().join("saved");
    let file = format!(
        "language = 1\n[job.a.long]\ncheckout = false\nwhere = [\"heavy\"]\nretry = {{ times = 1, on = [\"lost\"] }}\n\
         steps = [\"if [ -e {0} ]; then echo goes on at $(cat {0}); else echo begins; sleep 60; fi\"]\ncheckpoint = [\"echo 40 > {0}\"]\n",
        saved.display()
    );
    let commit = repository.push_pipeline(&file);
    let run = world.run_of("tidegauge", &commit, "it works", |run| World::job(run, "a.long")["state"] == "running").await;
    let first = text(&World::job(&run, "a.long")["attempts"][0]["runner"]).to_owned();
    until("its first step has begun", || async { (world.log(&run, "a.long").await == "begins\n").then_some(()) }).await;
    assert!(cloud.take(&first, Duration::from_secs(30)));
    let run = world.verdict("tidegauge", &commit).await;
    let job = World::job(&run, "a.long");
    assert_eq!(job["state"], "passed", "{job}");
    let lost = &job["attempts"][0];
    assert_eq!((text(&lost["state"]), text(&lost["why"])), ("lost", format!("the machine of {first} was taken away").as_str()), "{job}");
    let kinds: Vec<&str> = lost["phases"].as_array().into_iter().flatten().map(|phase| text(&phase["kind"])).collect();
    assert_eq!(kinds, ["step", "checkpoint"], "{lost}");
    assert!(job["attempts"][1]["runner"] != job["attempts"][0]["runner"], "another machine came: {job}");
    assert_eq!(world.log(&run, "a.long").await, "goes on at 40\n");
    let all = machines_until(world, "both go", all_gone).await;
    let why = all.iter().find(|machine| machine["id"] == *first).map(|machine| text(&machine["why"]));
    assert!(why.is_some_and(|why| why.contains("taken away") || why.contains("takes it away")), "{why:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_is_for_one_machine_once_and_in_time() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    // A cloud whose machines run nothing: what they were to run with is taken from them.
    let (cloud, url) = world.cloud(Weather { never_each: 1, ..Weather::default() }).await;
    set(&world, &["--provider", "practice", "--cloud", &url, "--most", "1", "--start", "1h", "--jobs", "1"]).await;
    repository.push_pipeline(&pipeline(1, "true"));
    let order = until("a machine is ordered", || async { cloud.orders().into_iter().next() }).await;
    let invitation = &order.environment["ORDOTAXIS_INVITATION"];
    let enrol = async |name: &str| Simulated::enrol(&world.url, &world.url, invitation, name).await;
    assert!(enrol("another").await.is_none(), "for another name it is worth nothing");
    assert!(enrol(&order.name).await.is_some());
    assert!(enrol(&order.name).await.is_none(), "and used it is worth nothing");
    let named = world.json(&["runner", "invite"]).await["token"].as_str().unwrap_or_default().to_owned();
    let taken = world.run(&["runner", "enrol", "--invitation", &named, "--name", &order.name, "--dir", "x"]).await;
    assert!(taken.code == 3 && taken.err.contains("there is already a runner"), "{taken:?}");
    // One that was given up does not come in any more: neither enrolled before that, nor after.
    assert_eq!(world.run(&["pool", "machine", &order.name, "--remove"]).await.code, 0);
    let next = until("another is ordered", || async { cloud.orders().into_iter().find(|next| next.name != order.name) }).await;
    assert_eq!(world.run(&["pool", "remove", "heavy"]).await.code, 0);
    machines_until(&world, "the pool goes with its machines", all_gone).await;
    let late = &next.environment["ORDOTAXIS_INVITATION"];
    assert!(Simulated::enrol(&world.url, &world.url, late, &next.name).await.is_none(), "it registers after it was given up");
    until("nothing of the pool is left", || async { (world.json(&["pool", "list"]).await == json!([])).then_some(()) }).await;
    let mut secrets = String::new();
    for name in ["service.out", "service/ordotaxis.db", "service/ordotaxis.db-wal"] {
        let bytes = std::fs::read(world.folder.path().join(name)).unwrap_or_default();
        secrets.push_str(&String::from_utf8_lossy(&bytes));
    }
    assert!(!secrets.contains(invitation.as_str()) && !secrets.contains(late.as_str()), "neither is kept or told anywhere");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_makes_machines_and_what_it_does_wrong_is_found() {
    let mut world = world().await;
    let programs = world.folder.path().join("programs");
    std::fs::create_dir(&programs).expect("a folder");
    let example = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/pool-program.py");
    let text_of = std::fs::read_to_string(&example).expect("the example");
    let home = world.folder.path().join("machines");
    let own = text_of.replace("pathlib.Path(tempfile.gettempdir()) / f\"pool-machines-{os.getuid()}\"", &format!("pathlib.Path({home:?})"));
    let own = own.replace("os.environ.get(\"ORDOTAXIS\", \"ordotaxis\")", &format!("{:?}", super::ORDOTAXIS));
    assert_ne!(own, text_of);
    let write = |name: &str, text: &str| {
        use std::os::unix::fs::PermissionsExt;
        let path = programs.join(name);
        std::fs::write(&path, text).expect("a program");
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).expect("its mode");
        path.display().to_string()
    };
    let good = write("good.py", &own);
    let tried = world.run(&["pool", "try", &good]).await;
    assert!(tried.code == 0 && tried.out.contains("makes and removes machines as it should"), "{tried:?}");
    // What a program can do wrong is found before it costs something.
    for (name, wrong, says) in [
        ("garbage", "#!/bin/sh\necho hello\n", "its answer is not understood"),
        ("old", "#!/bin/sh\necho '{\"version\": 0, \"machines\": []}'\n", "it answers in version 0 of the protocol"),
        ("fails", "#!/bin/sh\necho 'no key is set' >&2\nexit 3\n", "no key is set"),
        ("refuses", "#!/bin/sh\necho '{\"version\": 1, \"refused\": \"quota of 0\"}'\n", "quota of 0"),
        ("forgets", &own.replace("yield {", "continue\n        yield {"), "list after make: it does not name"),
        ("stays", &own.replace("        shutil.rmtree(folder)\n", ""), "is there still"),
        ("silent", &own.replace("{\"removed\": True}", "{}"), "its answer has no `removed`"),
    ] {
        let tried = world.run(&["pool", "try", &write(name, wrong)]).await;
        assert!(tried.code == 1 && tried.err.contains(says), "{name}: {tried:?}");
        let _ = std::fs::remove_dir_all(&home);
    }
    // No program is named through the API that the configuration does not allow.
    let set_good =
        ["pool", "set", "heavy", "--provider", "command", "--program", "good.py", "--most", "2", "--jobs", "1", "--label", "heavy"];
    let refused = world.run(&set_good).await;
    assert!(refused.code == 2 && refused.err.contains("names no folder `pool_programs`"), "{refused:?}");
    world.configure(&format!("\npool_programs = {programs:?}\n"));
    world.kill_service();
    world.start_service();
    for bad in ["../good.py", "/bin/sh", ".hidden", ""] {
        let set = world.run(&["pool", "set", "heavy", "--provider", "command", "--program", bad, "--most", "2"]).await;
        assert_eq!(set.code, 2, "{bad}: {set:?}");
    }
    let repository = world.project("tidegauge").await;
    let file = "provider = 'command'\nmost = 2\njobs = 1\nlabels = ['heavy']\ncommand = { program = 'good.py', settings = { key = 'salt-and-mud' } }\n";
    std::fs::write(world.folder.path().join("heavy.toml"), file).expect("settings");
    let ran = world.run(&["pool", "set", "heavy", "--file", "heavy.toml"]).await;
    assert_eq!(ran.code, 0, "{ran:?}");
    // What is handed to the program is for who may set it.
    let odd = super::rights::person(&world, "odd").await;
    let seen = world.run(&["--token", &odd, "--json", "pool", "list"]).await.out;
    assert!(seen.contains("good.py") && !seen.contains("salt-and-mud"), "{seen}");
    assert!(world.run(&["--json", "pool", "list"]).await.out.contains("salt-and-mud"));
    assert_eq!(world.run(&["--token", &odd, "pool", "set", "heavy", "--most", "9"]).await.code, 3);
    let commit = repository.push_pipeline(&pipeline(3, "true"));
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    machines_until(&world, "all go", all_gone).await;
    until("and nothing of them is left", || async {
        let left = std::fs::read_dir(&home).map_or(0, Iterator::count);
        (left == 0).then_some(())
    })
    .await;
}

/// What cannot be set is said by field, and changes nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_pool_that_cannot_be_is_not_set() {
    let mut world = world().await;
    for (options, says) in [
        (&["--most", "2"][..], "who makes its machines is not said"),
        (&["--provider", "process", "--most", "0"], "`most` is a number of machines"),
        (&["--provider", "process", "--most", "2", "--least", "3"], "`least` is more than `most`"),
        (&["--provider", "process", "--start", "soon"], "`start` is a length of time"),
        (&["--provider", "process", "--memory", "8G"], "`memory` is a whole number and a unit"),
        (&["--provider", "process", "--label", "a b"], "is no label"),
        (&["--provider", "process", "--project", "nowhere"], "there is no project nowhere"),
        (&["--provider", "process", "--isolation", "host"], "can only be set in the service's configuration"),
        (&["--provider", "practice", "--cloud", "http://10.1.2.3/"], "the practice cloud's address on this machine"),
        (&["--provider", "slurm", "--partition=-x"], "`partition` is letters"),
        (&["--provider", "process", "--partition", "tide"], "`slurm` is for pools whose provider is slurm"),
        (&["--provider", "process", "--price=-1"], "`price` is what a machine costs"),
    ] {
        let mut line = vec!["pool", "set", "heavy"];
        line.extend(options);
        let ran = world.run(&line).await;
        assert!(ran.code == 2 && ran.err.contains(says), "{options:?}: {ran:?}");
    }
    assert_eq!(world.run(&["pool", "set", "Heavy", "--provider", "process"]).await.code, 2);
    assert_eq!(world.json(&["pool", "list"]).await, json!([]));
    for (pool, says) in [
        ("[pool.Heavy]\nprovider = 'process'\nmost = 1", "its name is to be lower-case"),
        ("[pool.heavy]\nprovider = 'process'\nmost = 0", "`[pool.heavy]` in the configuration: `most`"),
        ("[pool.heavy]\nprovider = 'process'\nmost = 1\nlest = 1", "unknown field `lest`"),
    ] {
        let path = world.folder.path().join("wrong.toml");
        std::fs::write(&path, pool).expect("a configuration");
        let ran = world.run(&["serve", "--data", "nowhere", "--listen", "127.0.0.1:0", "--config", "wrong.toml"]).await;
        assert!(ran.code == 2 && ran.err.contains(says), "{pool}: {ran:?}");
    }
    world.kill_service();
}

/// The two protocol versions before this one are spoken still; one that is older is told so.
#[tokio::test(flavor = "multi_thread")]
async fn runners_of_two_versions_back_work_and_older_ones_are_told() {
    let world = world().await;
    let version = ordotaxis_wire::runner::VERSION;
    let client = reqwest::Client::new();
    for (said, good) in [(version, true), (version - 1, true), (version - 2, true), (version - 3, false), (version + 1, false)] {
        let invitation = world.json(&["runner", "invite"]).await["token"].as_str().unwrap_or_default().to_owned();
        let post = |path: &str, body: Value| client.post(format!("{}/runner/v1/{path}", world.url)).json(&body);
        let enrol = json!({ "token": invitation, "name": format!("quay-{said}") });
        let enrolled: Value = post("enrol", enrol).send().await.expect("an answer").json().await.expect("JSON");
        // As an older runner says it: it knows nothing of what was added since.
        let sign_on = json!({ "version": said, "session": "s", "slots": 1, "system": ["linux"], "isolation": "host" });
        let answer = post("sign-on", sign_on).bearer_auth(text(&enrolled["credential"])).send().await.expect("an answer");
        assert_eq!(answer.status().is_success(), good, "version {said}");
        if !good {
            let problem: Value = answer.json().await.expect("JSON");
            let says = if said > version { "update the service first" } else { "too old" };
            assert!(text(&problem["detail"]).contains(says), "{problem}");
        }
    }
}

/// A runner whose machine has fewer cores than a job asks for does not get it, and two jobs share no core that both have.
#[tokio::test(flavor = "multi_thread")]
async fn jobs_have_what_they_ask_for_to_themselves() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let config = "[offers]\ncores = 3\nmemory_mib = 1000\ngpus = 1\n";
    let _runner = world.runner(RunnerOptions { slots: 4, config: Some(config), ..RunnerOptions::default() }).await;
    let go = world.folder.path().join("go");
    let wait = format!("while ! [ -e {} ]; do sleep 0.02; done", go.display());
    let job = |name: &str, asks: &str| format!("[job.a.{name}]\ncheckout = false\n{asks}\nsteps = [{wait:?}]\n");
    let file =
        [("two", "cores = 2"), ("three", "cores = 3"), ("graphic", "gpus = 1\ncores = 1"), ("memory", "memory = \"2GiB\""), ("plain", "")];
    let file: String = file.iter().map(|(name, asks)| job(name, asks)).collect();
    let commit = repository.push_pipeline(&format!("language = 1\n{file}"));
    let running = |run: &Value| ["a.two", "a.graphic", "a.plain"].iter().all(|id| World::job(run, id)["state"] == "running");
    let run = world.run_of("tidegauge", &commit, "three run", running).await;
    assert_eq!(World::job(&run, "a.three")["state"], "queued", "{run}");
    let why = world.run(&["why", "tidegauge"]).await.out;
    assert!(why.contains("it asks for 2 GiB of memory, and no connected runner has so much; the largest is runner-1 with 3 cores, 1000 MiB of memory, 1 gpu"), "{why}");
    assert!(why.contains("runner-1, the only runner that fits, has not 3 cores left"), "{why}");
    std::fs::write(&go, "").expect("a file");
    world.run_of("tidegauge", &commit, "the large one, too", |run| World::job(run, "a.three")["state"] == "passed").await;
}

/// The page of pools: what is there and why, a machine's console, and what can be done with it, by keyboard and for everybody.
#[tokio::test(flavor = "multi_thread")]
async fn machines_are_seen_and_kept_on_their_page() {
    let world = configured("provider = 'process'\nmost = 2\nisolation = 'host'\nprice = 0.12").await;
    let repository = world.project("tidegauge").await;
    let browser = Browser::start(1280, 800).await;
    let link = text(&world.json(&["sign-in", "--link"]).await["url"]).to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("tidegauge").await;
    browser.client.goto(&format!("{}/pools", world.url)).await.expect("the page");
    browser.see("1 pool: no machine is there, nothing needs one").await;
    super::console::accessible(&browser).await;
    let go = world.folder.path().join("go");
    repository.push_pipeline(&pipeline(1, &format!("while ! [ -e {} ]; do sleep 0.02; done", go.display())));
    browser.see("1 pool: 1 machine, 1 at work").await;
    browser.see("a.j0 of tidegauge/1").await;
    super::console::accessible(&browser).await;
    browser.click("button[aria-expanded=false]").await;
    browser.see("works at http://127.0.0.1").await;
    browser.click(".acts button:nth-child(2)").await;
    browser.see("kept for a look by owner, until").await;
    super::console::accessible(&browser).await;
    std::fs::write(&go, "").expect("a file");
    browser.click(".acts button:nth-child(2)").await;
    browser.click(".acts button:nth-child(3)").await;
    browser.see("what it does is lost and done again elsewhere").await;
    browser.click("dialog.ask button[type=submit]").await;
    browser.see("removed by owner").await;
    browser.end().await;
}

/// Whoever sets a pool breaks off nothing that another one has under way.
#[tokio::test(flavor = "multi_thread")]
async fn setting_one_pool_leaves_the_others_at_work() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let (cloud, url) = world.cloud(Weather { slow_ms: 1_500, ..Weather::default() }).await;
    // So long a start that a machine whose order was broken off would not be made anew in this test.
    set(&world, &["--provider", "practice", "--cloud", &url, "--most", "1", "--jobs", "1", "--start", "1h", "--isolation", "host"]).await;
    let commit = repository.push_pipeline(&pipeline(1, "true"));
    machines_until(&world, "a machine is being ordered", |all| all.iter().any(|machine| machine["stage"] == "wanted")).await;
    assert!(cloud.names().is_empty(), "the cloud has not answered yet");
    assert_eq!(world.run(&["pool", "set", "other", "--provider", "process", "--most", "1"]).await.code, 0);
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "passed");
    cloud.set_weather(Weather::default());
    machines_until(&world, "it goes", all_gone).await;
}
