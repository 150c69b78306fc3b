//! Real deliveries: to practice hosts that misbehave in every way that they can be told to, and over a real `sshd` with `rsync`.

use super::ORDOTAXIS;
use super::delivery::Delivery;
use ordotaxis_practice::{Host, Trouble};
use ordotaxis_testbed::{SshServer, World, free_port, until};
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// The stand-ins, built beside the client.
fn practice() -> PathBuf {
    Path::new(ORDOTAXIS).with_file_name("ordotaxis-practice")
}

/// A practice host called `pier`; gives its address.
async fn host(folder: &Path) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    let host = Host::open("pier", folder.to_owned(), practice(), Some("salt".into())).expect("a host");
    tokio::spawn(host.serve(listener));
    format!("http://{address}")
}

async fn now(host: &str) -> String {
    reqwest::get(format!("{host}/now")).await.expect("an answer").text().await.expect("a text")
}

async fn tell(host: &str, trouble: Trouble) {
    let told = reqwest::Client::new().put(format!("{host}/trouble")).json(&trouble).send().await.expect("an answer");
    assert!(told.status().is_success(), "{told:?}");
}

fn pipeline(host: &str, version: &str, environment: &str) -> String {
    format!(
        "language = 1\n[job.pack.gauge]\nsteps = [\"echo {version} $ORDOTAXIS_COMMIT > gauge\"]\ngives = {{ gauge = [\"gauge\"] }}\n\
         [job.ship.pier]\ncheckout = false\ntakes = [\"pack.gauge/gauge\"]\ndeploys = \"{environment}\"\n\
         env = {{ PRACTICE_HOST_KEY = \"salt\" }}\nsteps = [\"{} bundle gauge --host {host}\"]\n",
        practice().display()
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_misbehaves_is_found_out_and_said_as_it_is() {
    let folder = TempDir::new().expect("a folder");
    let host = host(folder.path()).await;
    let delivery = Delivery::new("rules = 1\n").await;
    let check = format!("check = {{ url = \"{host}/now\", says = \"{{commit}}\", within = \"700ms\" }}\n");
    let rules = format!("rules = 1\n[environment.pier]\n{check}[environment.quay]\non_failure = \"roll-back\"\n{check}");
    delivery.repository.write("ordotaxis/rules.toml", &rules);
    let good = delivery.repository.push_pipeline(&pipeline(&host, "1", "pier"));
    let run = delivery.world.verdict("stations", &good).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(now(&host).await.trim(), format!("pier runs\n1 {good}"));
    let there = delivery.environment("pier", "it is there", |one| one["present"]["commit"] == good.as_str()).await;
    assert!(there["present"]["answer"].as_str().is_some_and(|answer| answer.contains(&format!("pier runs 1 {good}"))), "{there}");
    for (at, (trouble, words)) in [
        (Trouble::Stays, "it does not say `COMMIT`: 200 `pier runs 1 "),
        (Trouble::Page, "it does not say `COMMIT`: 200 `<html><body>It works."),
        (Trouble::Half, "was not well within 700 ms"),
        (Trouble::Silent, "was not well within 700 ms"),
        (Trouble::Refuses, "exited with 1"),
        (Trouble::Dies, "exited with 1"),
    ]
    .into_iter()
    .enumerate()
    {
        tell(&host, trouble).await;
        let commit = delivery.repository.push_pipeline(&pipeline(&host, &format!("{trouble:?}"), "pier"));
        let run = delivery.world.verdict("stations", &commit).await;
        let why = World::job(&run, "ship.pier")["why"].as_str().unwrap_or_default().to_owned();
        let words = words.replace("COMMIT", &commit);
        assert!(run["state"] == "failed" && why.contains(&words), "{at} {trouble:?}: {why}");
        let doubt = delivery.environment("pier", "nobody knows", |one| one["doubt"]["run"] == run["run"]).await;
        assert_eq!(doubt["present"]["commit"], good.as_str(), "what was last put there well");
    }
    tell(&host, Trouble::None).await;
    assert!(now(&host).await.contains("nothing runs here"), "it died half way");
    // What stays with what it had is put back, and found well.
    let good = delivery.repository.push_pipeline(&pipeline(&host, "8", "quay"));
    assert_eq!(delivery.world.verdict("stations", &good).await["state"], "passed");
    tell(&host, Trouble::Stays).await;
    let bad = delivery.repository.push_pipeline(&pipeline(&host, "9", "quay"));
    let run = delivery.world.verdict("stations", &bad).await;
    let why = World::job(&run, "ship.pier")["why"].as_str().unwrap_or_default().to_owned();
    assert!(why.ends_with("; what was there before is there again"), "{why}");
    let quay = delivery.environment("quay", "it is there", |one| one["inside"].is_null()).await;
    assert!(quay["doubt"].is_null() && quay["present"]["commit"] == good.as_str(), "{quay}");
    // With another key nothing comes in.
    let wrong = reqwest::Client::new().put(format!("{host}/bundle")).bearer_auth("pepper").body("10").send().await.expect("an answer");
    assert_eq!(wrong.status().as_u16(), 401);
    assert!(now(&host).await.contains(&good));
}

/// Processes that a machine was told to start; they end with the test.
struct Started(Vec<PathBuf>);

impl Drop for Started {
    fn drop(&mut self) {
        for pid in self.0.iter().filter_map(|path| std::fs::read_to_string(path.join("pid")).ok()) {
            let _ = std::process::Command::new("kill").arg(pid.trim()).status();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn three_machines_are_reached_by_ssh_one_after_another_and_each_runs_what_was_built() {
    let folder = TempDir::new().expect("a folder");
    let machine = SshServer::machine(&folder.path().join("ssh"));
    let piers = ["north", "middle", "south"];
    let ports: Vec<u16> = piers.iter().map(|_| free_port()).collect();
    let place = folder.path().join("machines");
    let started = Started(piers.iter().map(|pier| place.join(pier)).collect());
    // Ends what runs, and starts a server of the files that came.
    let restart = "#!/bin/sh\nset -eu\ncd \"$(dirname \"$0\")/$1\"\n[ ! -f pid ] || kill \"$(cat pid)\" || true\n\
                   setsid python3 -m http.server --bind 127.0.0.1 --directory now \"$2\" < /dev/null > log 2>&1 &\necho $! > pid\n";
    for pier in piers {
        std::fs::create_dir_all(place.join(pier)).expect("a folder");
    }
    std::fs::write(place.join("restart.sh"), restart).expect("a script");
    let delivery = Delivery::new("rules = 1\n").await;
    let rules: String = piers
        .iter()
        .zip(&ports)
        .map(|(pier, port)| {
            format!("[environment.{pier}]\non_failure = \"roll-back\"\ncheck = {{ url = \"http://127.0.0.1:{port}/version\", says = \"{{commit}}\", within = \"20s\" }}\n")
        })
        .collect();
    delivery.repository.write("ordotaxis/rules.toml", &format!("rules = 1\n{rules}"));
    let cells: Vec<String> = piers
        .iter()
        .zip(&ports)
        .map(|(pier, port)| format!("{{ for = {{ pier = \"{pier}\" }}, env = {{ PORT = \"{port}\" }} }}"))
        .collect();
    let pipeline = format!(
        "language = 1\n[job.pack.gauge]\nsteps = [\"mkdir out; echo $ORDOTAXIS_COMMIT > out/version\"]\ngives = {{ site = [\"out/**\"] }}\n\
         [job.ship.pier]\ncheckout = false\neach = {{ pier = [\"north\", \"middle\", \"south\"] }}\ncell = [{}]\ntakes = [\"pack.gauge/site\"]\n\
         deploys = \"{{each.pier}}\"\nrollout = {{ way = \"one-by-one\" }}\nsteps = [\n\
         'rsync --archive --delete -e \"{ssh} -p {port}\" out/ {to}:{place}/$EACH_PIER/now/',\n\
         '{ssh} -p {port} {to} sh {place}/restart.sh $EACH_PIER $PORT',\n]\n",
        cells.join(", "),
        ssh = machine.command(),
        port = machine.port(),
        to = machine.place(),
        place = place.display(),
    );
    let answers = |port: u16| async move { reqwest::get(format!("http://127.0.0.1:{port}/version")).await.ok()?.text().await.ok() };
    for _ in 0..2 {
        let commit = delivery.repository.push_pipeline(&pipeline);
        let run = delivery.world.verdict("stations", &commit).await;
        assert_eq!(run["state"], "passed", "{run}");
        for port in &ports {
            let text = until("the machine to answer", || answers(*port)).await;
            assert_eq!(text.trim(), commit);
        }
    }
    let ended: Vec<String> = piers
        .iter()
        .map(|pier| {
            started
                .0
                .iter()
                .find(|path| path.ends_with(pier))
                .map(|path| std::fs::read_to_string(path.join("pid")).unwrap_or_default())
                .unwrap_or_default()
        })
        .collect();
    assert!(ended.iter().all(|pid| Path::new("/proc").join(pid.trim()).exists()), "each has its process: {ended:?}");
}
