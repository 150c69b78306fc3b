//! From inside a job: cells that choose their runner and tools, and the client with the job's own token.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{RunnerOptions, World, until};

/// Each cell is done by the runner with its label, with its version of a tool; nothing of either is in a step.
#[tokio::test(flavor = "multi_thread")]
async fn cells_choose_their_runner_and_their_tools() {
    use std::os::unix::fs::PermissionsExt;
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let tools = world.folder.path().join("tides");
    for version in ["3.11.4", "3.12.1"] {
        let bin = tools.join(version).join("bin");
        std::fs::create_dir_all(&bin).expect("a folder");
        std::fs::write(bin.join("tide"), format!("#!/bin/sh\necho tide {version}\n")).expect("a tool");
        std::fs::set_permissions(bin.join("tide"), std::fs::Permissions::from_mode(0o755)).expect("a tool");
    }
    let config = format!("probe = false\n[[tool]]\nname = \"tide\"\nfolders = [\"{}/*/bin\"]\n", tools.display());
    let _quay = world.runner(RunnerOptions { labels: &["quay"], config: Some(&config), ..RunnerOptions::default() }).await;
    let _pier = world.runner(RunnerOptions { labels: &["pier"], config: Some(&config), ..RunnerOptions::default() }).await;
    let commit = repository.push_pipeline(
        "language = 1\n[job.test.unit]\ncheckout = false\neach = { at = [\"quay\", \"pier\"], tide = [\"3.11\", \"3.12\"] }\nwhere = [\"{each.at}\"]\n\
         tools = { tide = \"~{each.tide}\" }\nsteps = [\"tide; echo rounds ${ROUNDS:-1}\"]\n\
         cell = [{ for = { at = \"pier\", tide = \"3.12\" }, env = { ROUNDS = \"7\" }, tools = { tide = \"~3.11\" } }]\n",
    );
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    for (cell, runner, said) in [
        ("quay,3.11", "runner-1", "tide 3.11.4"),
        ("quay,3.12", "runner-1", "tide 3.12.1"),
        ("pier,3.11", "runner-2", "tide 3.11.4"),
        ("pier,3.12", "runner-2", "tide 3.11.4\nrounds 7"),
    ] {
        let id = format!("test.unit[{cell}]");
        assert_eq!(World::job(&run, &id)["attempts"][0]["runner"], runner, "{id}");
        assert!(world.log(&run, &id).await.contains(said), "{id}");
    }
}

/// The run's page and the service are told apart, so that the client works in a step as anywhere.
#[tokio::test(flavor = "multi_thread")]
async fn a_step_starts_another_project() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let stations = world.project("stations").await;
    stations.push_pipeline("language = 1\n[starts]\npush = []\n[starts.inputs.station]\ndefault = \"lock-gate\"\n[job.a.b]\ncheckout = false\nsteps = [\"echo to $ORDOTAXIS_INPUT_STATION\"]\n");
    let repository = world.project("tidegauge").await;
    let pipeline = |allows: &str| {
        format!(
            "language = 1\n[job.a.b]\ncheckout = false\n{allows}\nsteps = [\"echo page $ORDOTAXIS_RUN_URL\", \"{ORDOTAXIS} start stations --input station=outer-buoy\"]\n"
        )
    };
    let commit = repository.push_pipeline(&pipeline("allows = [\"start:stations\"]"));
    let run = world.verdict("tidegauge", &commit).await;
    let log = world.log(&run, "a.b").await;
    assert!(run["state"] == "passed" && log.contains(&format!("page {}/runs/tidegauge/1", world.url)), "{run} {log}");
    let started = until("the other project's run", || async {
        let runs = world.json(&["runs", "stations"]).await;
        runs.as_array()?.iter().find(|run| !run["ended_at"].is_null()).cloned()
    })
    .await;
    assert!(world.log(&started, "a.b").await.contains("to outer-buoy"), "{started}");
    // Without `allows` a job has neither the token nor the address.
    let commit = repository.push_pipeline(&pipeline(""));
    assert_eq!(world.verdict("tidegauge", &commit).await["state"], "failed");
}

/// A link is data, wherever it leads: a real environment of Python and real packages of Node are kept and come back whole.
#[tokio::test(flavor = "multi_thread")]
async fn environments_whose_links_lead_outside_are_kept() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let pipeline = |round: u32| {
        format!(
            "language = 1\n# {round}\n[job.a.python]\ncheckout = false\nsteps = [\n\
             \"test -x .venv/bin/python3 && echo warm || python3 -m venv --without-pip .venv\",\n\
             \".venv/bin/python3 -c 'import sys; print(sys.prefix)'\",\n]\ncache = [{{ paths = [\".venv\"], key = \"venv\" }}]\n\
             [job.a.node]\ncheckout = false\nsteps = [\n\
             \"test -x node_modules/.bin/tide && echo warm || (mkdir -p tide && cd tide && printf '#!/usr/bin/env node\\\\nconsole.log(7 * 6)\\\\n' > tide.js && chmod +x tide.js && printf '{{\\\"name\\\":\\\"tide\\\",\\\"version\\\":\\\"1.0.0\\\",\\\"bin\\\":{{\\\"tide\\\":\\\"tide.js\\\"}}}}' > package.json && cd .. && echo '{{}}' > package.json && npm install --offline --no-audit --no-fund ./tide && ln -s /usr node_modules/machine)\",\n\
             \"node_modules/.bin/tide; ls -l node_modules/machine\",\n]\ncache = [{{ paths = [\"node_modules\", \"tide\"], key = \"node\" }}]\n"
        )
    };
    for isolation in ["host", "sandbox"] {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        assert_eq!(world.run(&["cache", "drop", "tidegauge", "venv"]).await.code.clamp(0, 2) % 2, 0);
        assert_eq!(world.run(&["cache", "drop", "tidegauge", "node"]).await.code.clamp(0, 2) % 2, 0);
        for warm in [false, true] {
            let round = u32::from(warm) + if isolation == "host" { 0 } else { 2 };
            let commit = repository.push_pipeline(&pipeline(round));
            let run = world.verdict("tidegauge", &commit).await;
            let logs = [world.log(&run, "a.python").await, world.log(&run, "a.node").await];
            assert_eq!(run["state"], "passed", "{isolation} {warm}: {run} {logs:?}");
            assert!(logs.iter().all(|log| log.contains("warm") == warm && !log.contains("not saved")), "{isolation} {warm}: {logs:?}");
            assert!(logs[0].contains(".venv") && logs[1].contains("42") && logs[1].contains("machine -> /usr"), "{isolation}: {logs:?}");
        }
        runner.kill();
    }
}
