//! Steps: fenced in, ended whole, and their output kept byte for byte.

use super::contract::image;
use super::escape::{FENCES, runner_in};
use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{RunnerOptions, World, free_port, until};
use serde_json::Value;
use std::os::unix::fs::PermissionsExt;

const ISOLATIONS: [&str; 2] = ["host", "sandbox"];

fn processes_with(mark: &str) -> usize {
    let entries = std::fs::read_dir("/proc").expect("/proc").flatten();
    let line = |entry: std::fs::DirEntry| std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
    entries.map(line).filter(|line| String::from_utf8_lossy(line).contains(mark)).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn stop_ends_the_whole_tree_even_what_ignores_it() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    for (number, isolation) in ISOLATIONS.into_iter().enumerate() {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        let mark = format!("98765{number}{}", std::process::id());
        // One ignores SIGTERM, one has left the process group, one is plain.
        let step = format!("setsid sleep {mark} & (trap '' TERM; sleep {mark}) & trap '' TERM; echo ready; sleep {mark}; sleep {mark}");
        let commit = repository.push_pipeline(&format!("language = 1\n[job.a.b]\nsteps = [\"\"\"{step}\"\"\"]\n"));
        let run = world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.b")["state"] == "running").await;
        until("the step's processes", || async { (processes_with(&mark) >= 3).then_some(()) }).await;
        let name = run["run"].as_str().unwrap_or_default();
        let stopped = world.run(&["stop", name]).await;
        assert_eq!(stopped.code, 0, "{stopped:?}");
        let run = world.verdict("tidegauge", &commit).await;
        assert_eq!(run["state"], "stopped", "{isolation}: {run}");
        assert_eq!(World::job(&run, "a.b")["why"], "stopped by owner");
        until("all processes to be gone", || async { (processes_with(&mark) == 0).then_some(()) }).await;
        drop(runner);
    }
}

/// On the machine itself an ordinary step's shell puts itself under the limits, and one that holds a turn is put there by
/// another. A step must not be able to tell which.
#[tokio::test(flavor = "multi_thread")]
async fn a_step_on_the_machine_is_the_same_whichever_way_it_is_put_under_its_limits() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let whole = r#"echo core $(ulimit -c), $0, $#, $-
echo "groups $(grep -c ordotaxis /proc/self/cgroup || true), of its child $(sh -c 'grep -c ordotaxis /proc/self/cgroup || true')"
if true; then nosuchprogram || echo it continues; fi
cat <<END
two
END
(exit 3) || echo and on
false
echo never"#;
    let shapes = [whole, "# a comment first\necho x # and last", "", "echo \"a b\"; echo $UNSET", "echo )", "exit 7"];
    let mut pipeline = "language = 1\n".to_owned();
    for (stage, extra) in [("plain", ""), ("turned", "turn = \"quay\"\n")] {
        for (number, shape) in shapes.iter().enumerate() {
            pipeline += &format!("[job.{stage}.shape{number}]\n{extra}steps = ['''\n{shape}''']\n");
        }
    }
    let run = world.verdict("tidegauge", &repository.push_pipeline(&pipeline)).await;
    let mut seen = String::new();
    for number in 0..shapes.len() {
        let (plain, turned) = (format!("plain.shape{number}"), format!("turned.shape{number}"));
        let said = world.log(&run, &plain).await;
        assert_eq!(said, world.log(&run, &turned).await, "{plain}");
        for datum in ["state", "why"] {
            assert_eq!(World::job(&run, &plain)[datum], World::job(&run, &turned)[datum], "{plain}");
        }
        seen += &said;
    }
    assert!(seen.contains("core 0, /bin/sh, 0, ") && seen.contains("and on\n") && !seen.contains("never\n"), "{seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn time_limits_end_steps_and_jobs() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", ..RunnerOptions::default() }).await;
    let pipeline = "language = 1\n[job.a.step]\nsteps = [{ run = \"sleep 60\", timeout = \"300ms\" }]\n\
        [job.a.job]\ntimeout = \"2s\"\nsteps = [\"true\", \"sleep 60\"]\n\
        [job.a.forgiven]\nsteps = [{ run = \"exit 9\", may_fail = true }, \"true\"]\n";
    let commit = repository.push_pipeline(pipeline);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(World::job(&run, "a.step")["why"], "step `sleep 60` went past its time limit of 300 ms");
    assert_eq!(World::job(&run, "a.job")["why"], "step `sleep 60` went past the job's time limit of 2.0 s");
    assert_eq!(World::job(&run, "a.forgiven")["state"], "passed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sandbox_writes_only_its_own_folder() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", ..RunnerOptions::default() }).await;
    let outside = world.folder.path().join("outside");
    let attempts = format!(
        "echo x > {0}; for place in /etc/x /usr/x /root/x; do if echo x > $place 2>/dev/null; then echo wrote $place; fi; done\n\
         echo x > /tmp/mine; echo x > here; ls -A {1}; ps_count=$(ls -d /proc/[0-9]* | wc -l); echo processes $ps_count",
        outside.display(),
        world.folder.path().join("runner-1").display()
    );
    repository.write("try.sh", &attempts);
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"sh try.sh\", \"cat /tmp/mine here\"]\n");
    let run = world.verdict("tidegauge", &commit).await;
    let log = world.log(&run, "a.b").await;
    assert_eq!(run["state"], "passed", "{log}");
    assert!(!log.contains("wrote"), "{log}");
    assert!(!log.contains("runner.toml"), "the credential is to be hidden: {log}");
    assert!(!outside.exists() && !std::path::Path::new("/tmp/mine").exists());
    let processes: u32 = log.lines().find_map(|line| line.strip_prefix("processes ")?.parse().ok()).expect("a count");
    assert!(processes < 10, "it sees other processes: {log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_job_has_a_clean_folder() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    for isolation in ISOLATIONS {
        let runner = world.runner(RunnerOptions { isolation, slots: 1, ..RunnerOptions::default() }).await;
        repository.write("src/gauge.c", isolation);
        let job = "steps = [\"ls | sort | tr '\\n' ' '; cat src/gauge.c; echo dirt > dirt; echo more >> src/gauge.c\"]\n";
        let commit = repository.push_pipeline(&format!("language = 1\norder = \"a > b\"\n[job.a.x]\n{job}[job.b.x]\n{job}"));
        let run = world.verdict("tidegauge", &commit).await;
        for id in ["a.x", "b.x"] {
            assert_eq!(world.log(&run, id).await, format!("ordotaxis.toml src {isolation}"), "{isolation} {id}");
        }
        drop(runner);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_keeps_every_byte() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let pipeline = "language = 1\n[job.a.bytes]\nsteps = [\"printf 'h\\\\303\\\\270yvann \\\\377\\\\376 end\\\\n'\"]\n\
        [job.a.much]\nsteps = [\"head -c 20000000 /dev/zero | tr '\\\\0' x; echo; echo last\"]\n";
    let commit = repository.push_pipeline(pipeline);
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{run}");
    let name = run["run"].as_str().unwrap_or_default();
    let read = |job: &'static str| world.http(reqwest::Method::GET, &format!("/api/v1/runs/{name}/jobs/{job}/log")).send();
    let bytes = read("a.bytes").await.expect("an answer").bytes().await.expect("bytes");
    assert_eq!(bytes.as_ref(), b"h\xc3\xb8yvann \xff\xfe end\n");
    let whole = world.log(&run, "a.much").await;
    assert_eq!(whole.len(), 20_000_000 + 6);
    assert!(whole.ends_with("\nlast\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_can_be_followed_while_it_grows() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let go = world.folder.path().join("go");
    let step = format!("echo first; while ! [ -e {} ]; do sleep 0.05; done; echo second", go.display());
    let commit = repository.push_pipeline(&format!("language = 1\n[job.a.b]\nsteps = [\"{step}\"]\n"));
    let run = world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.b")["state"] == "running").await;
    let name = run["run"].as_str().unwrap_or_default().to_owned();
    until("the first line while it runs", || async {
        let log: String =
            world.http(reqwest::Method::GET, &format!("/api/v1/runs/{name}/jobs/a.b/log")).send().await.ok()?.text().await.ok()?;
        (log == "first\n").then_some(())
    })
    .await;
    std::fs::write(&go, "").expect("a file");
    let followed = world.run(&["logs", "--follow", &name, "a.b"]).await;
    assert_eq!(followed.out, "first\nsecond\n", "{followed:?}");
    let run: Value = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed");
}

/// Found by use: a runner whose program was replaced by an upgrade failed each job from then on, since what jobs are given of it
/// was gone. Its jobs have the program that runs, and not the new one.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_whose_program_is_replaced_goes_on() {
    let place = tempfile::Builder::new().prefix("ordotaxis-program-").tempdir_in("/var/tmp").expect("a folder");
    std::fs::set_permissions(place.path(), std::fs::Permissions::from_mode(0o755)).expect("its mode");
    let program = place.path().join("ordotaxis");
    std::fs::hard_link(ORDOTAXIS, &program).or_else(|_| std::fs::copy(ORDOTAXIS, &program).map(drop)).expect("the program");
    let world = World::start(program.clone()).await;
    let repository = world.project("tidegauge").await;
    for fence in FENCES {
        let mut homes = Vec::new();
        let (runner, folder) = match runner_in(&world, fence, 1, &mut homes).await {
            Ok(runner) => runner,
            Err(why) => {
                println!("{fence}: not tried, since {why}");
                continue;
            }
        };
        let (busybox, image) = match fence {
            "container" => ("", format!("image = \"{}\"\n", image())),
            _ => ("/bin/busybox ", String::new()),
        };
        let verdict = async |round: &str| {
            // What it is given is a program; and it is sent to look whether a server answers.
            let port = free_port();
            let commit = repository.push_pipeline(&format!(
                "language = 1\n# {fence}, {round}\n[job.a.b]\n{image}checkout = false\n\
                 beside = [{{ name = \"gauge\", run = \"exec {busybox}httpd -f -p 127.0.0.1:{port}\", ready = \"tcp:{port}\", within = \"10s\" }}]\n\
                 steps = [\"head -c 4 $(command -v ordotaxis) | grep ELF\"]\n"
            ));
            let run = world.verdict("tidegauge", &commit).await;
            assert_eq!(run["state"], "passed", "{fence}, {round}: {} {}", run["sentence"], world.log(&run, "a.b").await);
        };
        verdict("as it was started").await;
        std::fs::remove_file(&program).expect("the program goes");
        let newer = format!("#!/bin/sh\nexec {ORDOTAXIS} \"$@\"\n");
        std::fs::write(&program, newer).expect("another one");
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).expect("its mode");
        verdict("replaced").await;
        verdict("and once more").await;
        assert!(folder.join("program").is_file(), "{fence}: a copy of what runs");
        drop(runner);
        std::fs::remove_file(&program).expect("the other one goes");
        std::fs::hard_link(ORDOTAXIS, &program).or_else(|_| std::fs::copy(ORDOTAXIS, &program).map(drop)).expect("the program");
    }
    // The service was started from there, too: its pools go on.
    let pool = ["pool", "set", "heavy", "--label", "heavy", "--provider", "process", "--most", "1"];
    assert_eq!(world.run(&pool).await.code, 0);
    let commit =
        repository.push_pipeline("language = 1\n[job.a.b]\ncheckout = false\nwhere = [\"heavy\"]\nsteps = [\"ordotaxis --version\"]\n");
    let run = world.verdict("tidegauge", &commit).await;
    assert_eq!(run["state"], "passed", "{} {}", run["sentence"], world.log(&run, "a.b").await);
}
