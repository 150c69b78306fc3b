//! What the guides say, done.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{RunnerOptions, World};
use std::path::Path;
use std::process::Command;

fn guide(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../docs/{name}", env!("CARGO_MANIFEST_DIR"))).expect("a guide")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guides_pipelines_pass() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    let guides =
        ["getting-started.md", "language.md", "running.md", "caching.md", "artifacts.md", "tests.md", "people.md", "repositories.md"];
    let all: String = guides.into_iter().map(guide).collect();
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud").await.code, 0);
    let examples = all.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next());
    // Those that run a project's own tools need that project; what calls the service is not reached from within this fence.
    for example in examples.filter(|example| !example.contains("./tools/") && !example.contains("curl")) {
        let commit = repository.push_pipeline(example);
        let run = world.verdict("tidegauge", &commit).await;
        if run["state"] != "passed" {
            let failed = run["jobs"].as_array().into_iter().flatten().find(|job| job["state"] == "failed");
            let job = failed.and_then(|job| job["id"].as_str()).unwrap_or_default();
            panic!("{example}\n{run}\nthe log of {job}: {}", world.log(&run, job).await);
        }
    }
}

/// Every command of the guide to rehearsing, on the demo project.
#[test]
fn the_guide_to_rehearsing_runs_as_printed() {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tidegauge");
    let folder = tempfile::tempdir().expect("a folder");
    assert!(Command::new("cp").args(["-a", &format!("{demo}/."), "."]).current_dir(folder.path()).status().expect("cp starts").success());
    for arguments in [vec!["init", "--quiet", "--initial-branch=main"], vec!["add", "--all"], vec!["commit", "--quiet", "-m", "One"]] {
        super::here::git(folder.path(), &arguments);
    }
    let text = guide("rehearse.md");
    let lines: Vec<&str> = text.lines().filter(|line| line.starts_with("ordotaxis ")).collect();
    assert!(lines.len() > 3, "{lines:?}");
    for line in lines {
        let words: Vec<&str> = line.split('#').next().unwrap_or_default().split_whitespace().skip(1).collect();
        let (code, out, err) = super::here::here(folder.path(), &words);
        assert_eq!(code, 0, "{line}: {out}{err}");
    }
}

/// The commands of a guide, each as it is printed.
fn commands(name: &str) -> Vec<String> {
    let is_command = |line: &&str| line.starts_with("ordotaxis ") || line.starts_with("printf ");
    guide(name).lines().filter(is_command).map(str::to_owned).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_notices_runs_as_printed() {
    let setting = super::notices::setting("", "", &[]).await;
    assert_eq!(setting.world.run(&["person", "set", "owner", "--mail", "owner@saltmarsh.example"]).await.code, 0);
    let lines = commands("notices.md");
    assert!(lines.len() > 5, "{lines:?}");
    for line in lines {
        let ran = setting.world.shell(&line).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_pools_runs_as_printed() {
    let mut world = world().await;
    let text = guide("pools.md");
    let blocks: Vec<&str> = text.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next()).collect();
    let (pipelines, settings): (Vec<&str>, Vec<&str>) = blocks.into_iter().partition(|block| block.starts_with("language"));
    let lines = commands("pools.md");
    let about_one = |line: &String| line.contains("desk-k3f9w2pq07xh");
    assert!(lines.len() > 7 && pipelines.len() == 2 && settings.len() == 3, "{lines:?}");
    let repository = world.project("tidegauge").await;
    for line in lines.iter().filter(|line| !about_one(line) && !line.contains("try")) {
        let ran = world.shell(line).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
    let commit = repository.push_pipeline(pipelines[0]);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!((run["state"].as_str(), world.log(&run, "test.tables").await.as_str()), (Some("passed"), "1 core\n"));
    // The machine that has done it is looked at as the guide does, while it has nothing to do.
    let kept = world.run(&["pool", "set", "desk", "--least", "1", "--idle", "1h"]).await;
    assert_eq!(kept.code, 0, "{kept:?}");
    let one = ordotaxis_testbed::until("a machine waits", || async {
        let all = world.json(&["pool", "show", "desk"]).await;
        let waits = all["machines"].as_array().into_iter().flatten().find(|machine| machine["stage"] == "registered");
        waits.and_then(|machine| machine["id"].as_str().map(str::to_owned))
    })
    .await;
    for line in lines.iter().filter(|line| about_one(line)) {
        let ran = world.shell(&line.replace("desk-k3f9w2pq07xh", &one)).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", ..RunnerOptions::default() }).await;
    let second = world.verdict("tidegauge", &repository.push_pipeline(pipelines[1])).await;
    assert_eq!(second["state"], "passed", "{second}");
    // What the guide puts into a configuration is one; a key of the whole comes before its tables.
    let mut settings = settings;
    settings.sort_by_key(|block| !block.starts_with("pool_programs"));
    world.configure(&format!("\n{}", settings.concat()));
    world.kill_service();
    world.start_service();
    let pools = world.json(&["pool", "list"]).await;
    let names: Vec<&str> = pools.as_array().into_iter().flatten().filter_map(|pool| pool["name"].as_str()).collect();
    assert_eq!(names, ["cloud", "desk", "heavy", "sky"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_landing_runs_as_printed() {
    let setting = super::landing::Setting::new("rules = 1\n[branch.main]\nland = \"queue\"\n").await;
    let (world, repository) = (&setting.world, &setting.repository);
    // What is in the queue waits there, so that every command finds it.
    setting.hold();
    for number in 1..=7 {
        setting.offer(number, &format!("file-{number}"), "1\n").await;
    }
    std::fs::write(world.folder.path().join("more.toml"), "rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"main\"]\n")
        .expect("written");
    let bare = world.folder.path().join("gauge.git").display().to_string();
    repository.git(&["clone", "--quiet", "--bare", ".", &bare]);
    repository.git(&["push", "--quiet", &bare, "topic/7:refs/heads/topic/neap"]);
    world.json(&["project", "add", "gauge", "--git", &bare]).await;
    let head = repository.git(&["rev-parse", "topic/7"]);
    let lines = commands("landing.md");
    assert!(lines.len() > 10, "{lines:?}");
    for line in lines {
        let ran = world.shell(&line.replace("1a2b3c4d", &head[..8])).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
}

/// A job's own token, used as the guide uses it.
#[tokio::test(flavor = "multi_thread")]
async fn the_guides_job_leaves_its_note() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let people = guide("people.md");
    let example = people.split("```toml\n").filter_map(|rest| rest.split("```").next()).find(|example| example.contains("curl"));
    let run = world.verdict("tidegauge", &repository.push_pipeline(example.expect("the example"))).await;
    assert_eq!(run["state"], "passed", "{run}");
    let noted = world.json(&["journal", "tidegauge", "--action", "note.add"]).await;
    assert_eq!((noted[0]["who"].as_str(), noted[0]["after"].as_str()), (Some("tidegauge/1 ship.tell"), Some("the datum was checked")));
}

#[test]
fn every_command_in_the_guide_is_there() {
    let text = guide("commands.md");
    let rows: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("| `ordotaxis ")?.split('`').next()).collect();
    assert!(rows.len() > 15, "{rows:?}");
    for row in rows {
        let output = Command::new(ORDOTAXIS).args(row.split(' ')).arg("--help").output().expect("the client starts");
        assert!(output.status.success(), "ordotaxis {row} --help");
    }
}

/// A worked project of the guides: its files, and that the guide shows its pipeline as it is.
fn worked(name: &str) -> String {
    let text = std::fs::read_to_string(format!("{GUIDES}/{name}/ordotaxis.toml")).expect("a pipeline");
    assert!(guide(&format!("guides/{name}.md")).contains(&format!("```toml\n{text}```")), "{name}.md shows another pipeline");
    text
}

const GUIDES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guides");

/// Pushes a worked project, with this pipeline, and waits for its verdict.
async fn pushed(world: &World, name: &str, text: &str) -> serde_json::Value {
    let repository = world.project("tidegauge").await;
    let copied = Command::new("cp").arg("-a").arg(format!("{GUIDES}/{name}/.")).arg(&repository.folder).status().expect("cp starts");
    assert!(copied.success());
    let commit = repository.push_pipeline(text);
    let begun = world.run_of("tidegauge", &commit, "a run", |_| true).await;
    // Longer than a verdict is waited for elsewhere: four environments are made.
    let ended = world.run(&["watch", begun["run"].as_str().expect("a name")]).await;
    assert!(!ended.out.is_empty(), "{ended:?}");
    let run = world.json(&["show", begun["run"].as_str().expect("a name")]).await;
    let failed = run["jobs"].as_array().into_iter().flatten().find(|job| job["state"] == "failed");
    if let Some(job) = failed.and_then(|job| job["id"].as_str()) {
        panic!("{name}: {run}\nthe log of {job}: {}", world.log(&run, job).await);
    }
    assert_eq!(run["state"], "passed", "{run}");
    run
}

fn write_program(path: &Path, text: &str) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
    std::fs::write(path, text).expect("a file");
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).expect("a mode");
}

/// Four versions are played by one interpreter, each saying that it is another; packages come from a folder.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_python_passes() {
    let world = world().await;
    let versions = world.folder.path().join("versions");
    for version in ["3.10.4", "3.11.2", "3.12.1", "3.13.0"] {
        let text = format!("#!/bin/sh\n[ \"$*\" = --version ] && {{ echo Python {version}; exit; }}\nexec python3 \"$@\"\n");
        write_program(&versions.join(version).join("bin/python"), &text);
    }
    let config = format!("[[tool]]\nname = \"python\"\nfolders = [\"{}/*/bin\"]\n", versions.display());
    let _runner = world.runner(RunnerOptions { slots: 2, config: Some(&config), ..RunnerOptions::default() }).await;
    let wheels = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/tools/wheels");
    let index = format!("[env]\nPIP_NO_INDEX = \"1\"\nPIP_FIND_LINKS = \"{wheels}\"\nPIP_NO_COMPILE = \"1\"\n\n[job.test.unit]");
    let run = pushed(&world, "python", &worked("python").replace("[job.test.unit]", &index)).await;
    assert_eq!(run["numbers"]["coverage.lines"], 100.0, "{}", run["numbers"]);
    let wheel = world.json(&["artifacts", run["run"].as_str().expect("a name")]).await;
    assert_eq!(wheel[0]["name"], "wheel", "{wheel}");
    let asked: Vec<&str> = run["jobs"].as_array().into_iter().flatten().filter_map(|job| job["id"].as_str()).collect();
    assert_eq!(asked.len(), 5, "{asked:?}");
    // With what was kept the next run installs nothing anew.
    assert!(run["uncached"].as_array().is_some_and(Vec::is_empty), "{run}");
}

/// The compilers for other machines are played by this machine's.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_a_c_library_passes() {
    let world = world().await;
    let tools = world.folder.path().join("cross");
    for host in ["aarch64-linux-gnu", "riscv64-linux-gnu"] {
        for (tool, real) in [("gcc", "gcc"), ("ar", "ar"), ("ranlib", "ranlib"), ("strip", "strip")] {
            write_program(&tools.join(format!("{host}-{tool}")), &format!("#!/bin/sh\nexec {real} \"$@\"\n"));
        }
    }
    let _runner = world.runner(RunnerOptions { slots: 2, ..RunnerOptions::default() }).await;
    let path = format!("language = 1\n[env]\nPATH = \"{}:/usr/local/bin:/usr/bin:/bin\"\n", tools.display());
    let run = pushed(&world, "c-library", &worked("c-library").replace("language = 1\n", &path)).await;
    let all = world.json(&["artifacts", run["run"].as_str().expect("a name")]).await;
    let packages = all.as_array().into_iter().flatten().filter(|artifact| artifact["name"] == "deb").count();
    assert_eq!(packages, 3, "{all}");
    let to = world.folder.path().join("got").display().to_string();
    std::fs::create_dir_all(&to).expect("a folder");
    let name = "pack.deb[riscv64-linux-gnu]/deb";
    let got = world.run(&["artifacts", run["run"].as_str().expect("a name"), "get", name, "--to", &to]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let found =
        Command::new("sh").args(["-c", "dpkg-deb --contents $(find . -name '*riscv64.deb')"]).current_dir(&to).output().expect("sh starts");
    let listed = String::from_utf8_lossy(&found.stdout).into_owned();
    assert!(listed.contains("./usr/lib/libtide.a") && listed.contains("./usr/include/tide.h"), "{listed}");
}

/// The site as it is, in a fence, with a real browser.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_a_site_passes() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", slots: 2, ..RunnerOptions::default() }).await;
    let run = pushed(&world, "site", &worked("site")).await;
    let to = world.folder.path().join("got").display().to_string();
    std::fs::create_dir_all(&to).expect("a folder");
    let got = world.run(&["artifacts", run["run"].as_str().expect("a name"), "get", "test.browser/picture", "--to", &to]).await;
    assert_eq!(got.code, 0, "{got:?}");
    let picture = std::fs::read(format!("{to}/out/page.png")).expect("a picture");
    assert!(picture.starts_with(b"\x89PNG"));
    let server = world.run(&["logs", run["run"].as_str().expect("a name"), "test.browser", "--beside", "server"]).await;
    assert_eq!(server.code, 0, "{server:?}");
    let again = world.run(&["again", run["run"].as_str().expect("a name"), "--watch"]).await;
    assert!(again.code == 0 && again.out.contains("reused"), "the modules are not installed twice: {again:?}");
}

/// Every command of the guide to delivery as printed, with the guide's pipeline, and its rules read.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_delivery_runs_as_printed() {
    let text = guide("delivery.md");
    let example = |begin: &str| text.split(begin).nth(1).and_then(|rest| rest.split("```").next()).expect("an example").to_owned();
    let (_, found) = ordotaxis_core::rules::read(&example("```toml rules\n"));
    assert!(found.is_empty(), "{found:?}");
    let delivery = super::delivery::Delivery::new(
        "rules = 1\n[environment.pier]\nafter = [\"trial\"]\napprove = { of = 2, by = [\"owner\", \"mara\"] }\n",
    )
    .await;
    delivery.person("mara", "operator").await;
    let pipeline = example("```toml\n").replace("pier.put", "ship.pier").replace("> pier", "> ship");
    let commit = delivery.repository.push_pipeline(&pipeline);
    delivery.waits("pier", "2 approvals").await;
    // What the guide goes back to must have been there before.
    delivery.repository.write("more", "1");
    let changed = pipeline.replace("echo gauge >", "echo another gauge >");
    let second = delivery.repository.push_pipeline(&changed);
    delivery.environment("trial", "the second", |one| one["present"]["commit"] == second.as_str()).await;
    assert_ne!(commit, second);
    let lines = commands("delivery.md");
    assert!(lines.len() > 7, "{lines:?}");
    for line in lines {
        // The newer one waits in the older one's place; and nobody is there to watch for approvals.
        let line = line.replace("approve stations/1", "approve stations/2").replace(" --watch", "");
        let ran = delivery.world.shell(&line).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
}

/// Every command of the guide to tracing as printed, with the guide's pipeline.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_tracing_runs_as_printed() {
    let text = guide("tracing.md");
    let example = text.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).expect("an example");
    let delivery = super::delivery::Delivery::new("rules = 1\n").await;
    let commit = delivery.repository.push_pipeline(example);
    delivery.holds("trial", &commit).await;
    let lines = commands("tracing.md");
    assert!(lines.len() > 10, "{lines:?}");
    for line in lines {
        let ran = delivery.world.shell(&line).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
}

/// Every command of the guide to releases as printed, with the guide's pipeline.
#[tokio::test(flavor = "multi_thread")]
async fn the_guide_to_releases_runs_as_printed() {
    let text = guide("releases.md");
    let example = text.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).expect("an example");
    let delivery = super::delivery::Delivery::new("rules = 1\n").await;
    delivery.repository.write("CHANGES.md", "# 1.0.0\n\nThe first.\n");
    delivery.repository.push_pipeline(example);
    delivery.repository.git(&["tag", "v1.0.0"]);
    delivery.repository.git(&["push", "--quiet", "origin", "v1.0.0"]);
    ordotaxis_testbed::until("it is released", || async {
        let list = delivery.world.json(&["release", "list", "stations"]).await;
        (list["releases"].as_array()?.len() == 1).then_some(())
    })
    .await;
    let lines = commands("releases.md");
    assert!(lines.len() > 8, "{lines:?}");
    for line in lines {
        let ran = delivery.world.shell(&line).await;
        assert_eq!(ran.code, 0, "{line}: {ran:?}");
    }
}
