//! One suite for all three kinds of isolation: what a job may count on is the same in each.

use super::world;
use ordotaxis_testbed::{RunnerOptions, World, until};
use serde_json::Value;
use std::process::Command;

/// The test's own image, from nothing but a static busybox: nothing is fetched.
pub(super) fn image() -> &'static str {
    static IMAGE: std::sync::OnceLock<()> = std::sync::OnceLock::new();
    const NAME: &str = "localhost/ordotaxis-test:1";
    IMAGE.get_or_init(|| {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path().join("root");
        for name in ["bin", "tmp", "etc", "proc", "dev", "sys"] {
            std::fs::create_dir_all(root.join(name)).expect("a folder");
        }
        std::fs::copy("/bin/busybox", root.join("bin/busybox")).expect("busybox-static is installed");
        let sh = "cd bin && for tool in sh sleep ls cat echo test mkdir touch rm env id wc head tr grep cut dd ps kill nc wget httpd setsid seq mkfifo ln chmod find dmesg mount umount unshare nsenter chroot ip readlink cp mknod dd chown su date; do ln -s busybox $tool; done";
        assert!(Command::new("sh").args(["-c", sh]).current_dir(&root).status().expect("a shell").success());
        let tar = folder.path().join("image.tar");
        assert!(Command::new("tar").arg("-cf").arg(&tar).arg("-C").arg(&root).arg(".").status().expect("tar").success());
        let made = Command::new("podman").args(["import", "--quiet"]).arg(&tar).arg(NAME).output().expect("podman is installed");
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    });
    NAME
}

/// Each isolation with the lines that a job needs to run in it.
fn kinds() -> [(&'static str, String); 3] {
    [("host", String::new()), ("sandbox", String::new()), ("container", format!("image = \"{}\"\n", image()))]
}

fn state<'r>(run: &'r Value, job: &str) -> &'r str {
    World::job(run, job)["state"].as_str().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn steps_artifacts_environment_and_helpers_are_the_same_in_all() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    repository.write("data/tide.txt", "high water\n");
    for (number, (isolation, lines)) in kinds().into_iter().enumerate() {
        let runner = world.runner(RunnerOptions { isolation, slots: 3, ..RunnerOptions::default() }).await;
        let commit = repository.push_pipeline(&format!(
            "language = 1\n# {isolation}\norder = \"a > b\"\n[env]\nUNITS = \"mm\"\n\
             [job.a.make]\n{lines}steps = [\"cat data/tide.txt; echo $UNITS $ORDOTAXIS_JOB; mkdir out; echo firm > out/ware; echo x > /tmp/kept\", \"cat /tmp/kept\"]\ngives = {{ fw = [\"out/**\"] }}\n\
             [job.a.keep]\n{lines}checkout = false\nsteps = [\"cat keep/old || true; mkdir -p keep; echo old >> keep/old; rm -rf keep/gone; echo 3 > $ORDOTAXIS_FACTS/level\"]\nfacts = [\"level\"]\n\
             [[job.a.keep.cache]]\npaths = [\"keep\"]\nkey = \"keep-{isolation}\"\nelse = [\"keep-\"]\n\
             [job.b.see]\n{lines}checkout = false\nsteps = [\"echo level $LEVEL\"]\nenv = {{ LEVEL = \"{{fact.a.keep.level}}\" }}\n\
             [job.b.take]\n{lines}takes = [\"a.make/fw\"]\nsteps = [\"cat out/ware\"]\nafterwards = {{ always = [\"echo tidied\"] }}\n\
             [job.b.serve]\n{lines}checkout = false\nbeside = [{{ name = \"gauge\", run = \"echo up > here; while :; do sleep 0.05; done\", ready = \"test -e here\" }}]\nsteps = [\"cat here\"]\n\
             [job.b.fails]\n{lines}checkout = false\nsteps = [\"exit 7\"]\n\
             [job.b.slow]\n{lines}checkout = false\ntimeout = \"1500ms\"\nsteps = [\"echo begun; sleep 60\"]\n"
        ));
        let run = world.verdict("tidegauge", &commit).await;
        let all = run.to_string();
        assert_eq!(world.log(&run, "a.make").await, "high water\nmm a.make\nx\nordotaxis: gave fw: 1 file, 5 B\n", "{isolation}: {all}");
        // What one isolation saved the next restores, and adds to.
        let restored = world.log(&run, "a.keep").await.lines().filter(|line| *line == "old").count();
        assert_eq!(restored, number, "{isolation}: {}", World::job(&run, "a.keep"));
        assert_eq!(world.log(&run, "b.see").await, "level 3\n", "{isolation}: {all}");
        assert_eq!(world.log(&run, "b.take").await, "firm\ntidied\n", "{isolation}: {all}");
        assert_eq!(world.log(&run, "b.serve").await, "up\n", "{isolation}: {all}");
        assert_eq!(World::job(&run, "b.fails")["why"], "step `exit 7` exited with 7", "{isolation}");
        let slow = World::job(&run, "b.slow")["why"].as_str().unwrap_or_default().to_owned();
        assert!(slow.ends_with("went past the job's time limit of 1.5 s"), "{isolation}: {slow}");
        drop(runner);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stop_ends_everything_in_all() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    for (number, (isolation, lines)) in kinds().into_iter().enumerate() {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        let mark = format!("8765{number}{}", std::process::id());
        let step = format!("setsid sleep {mark} & (trap '' TERM; sleep {mark}) & echo ready; sleep {mark}; sleep {mark}");
        let text = format!(
            "language = 1\n[job.a.b]\n{lines}checkout = false\nsteps = [\"\"\"{step}\"\"\"]\nafterwards = {{ always = [\"echo tidied\"] }}\n"
        );
        let commit = repository.push_pipeline(&text);
        let run = world.run_of("tidegauge", &commit, "a running job", |run| state(run, "a.b") == "running").await;
        until("its processes", || async { (processes_with(&mark) >= 3).then_some(()) }).await;
        assert_eq!(world.run(&["stop", run["run"].as_str().expect("a name")]).await.code, 0);
        let run = world.verdict("tidegauge", &commit).await;
        assert_eq!(state(&run, "a.b"), "stopped", "{isolation}");
        assert!(world.log(&run, "a.b").await.ends_with("tidied\n"), "{isolation}");
        until("all processes to be gone", || async { (processes_with(&mark) == 0).then_some(()) }).await;
        drop(runner);
    }
}

pub(super) fn processes_with(mark: &str) -> usize {
    let entries = std::fs::read_dir("/proc").expect("/proc").flatten();
    let line = |entry: std::fs::DirEntry| std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
    // Whatever carries the number as an argument of its own: the sleeps, not the shells around them.
    entries.map(line).filter(|line| line.split(|byte| *byte == 0).any(|part| part == mark.as_bytes())).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_are_lent_and_never_seen_in_all() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let secret = "salt&'mud' 42/x";
    let set = world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], &format!("{secret}\n")).await;
    assert_eq!(set.code, 0, "{set:?}");
    let listed = world.run(&["secret", "list", "tidegauge"]).await;
    assert!(listed.out.contains("STATION_KEY") && !listed.out.contains("salt"), "{listed:?}");
    let database = std::fs::read(world.folder.path().join("service/ordotaxis.db")).expect("the database");
    assert!(!database.windows(8).any(|part| part == b"salt&'mu"), "it is sealed at rest");
    for (isolation, lines) in kinds() {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        let step = "[ ${#STATION_KEY} = 15 ] && echo its length is right; echo \\\"key $STATION_KEY end\\\"; printf salt; sleep 0.1; echo \\\"&'mud' 42/x\\\"; ls -A /tmp | grep -c lent || true";
        let text = format!(
            "language = 1\n# {isolation}\n[job.a.named]\n{lines}checkout = false\nsecrets = [\"STATION_KEY\"]\nsteps = [\"{step}\", {{ name = \"say\", run = \"exit $(echo 3; : $STATION_KEY)\" }}]\n\
             [job.a.plain]\n{lines}checkout = false\nsteps = [\"echo key ${{STATION_KEY-none}}\"]\n"
        );
        let commit = repository.push_pipeline(&text);
        let run = world.verdict("tidegauge", &commit).await;
        let log = world.log(&run, "a.named").await;
        assert_eq!(log, "its length is right\nkey *** end\n***\n0\nordotaxis: step `say` exited with 3\n", "{isolation}: {run}");
        assert_eq!(world.log(&run, "a.plain").await, "key none\n", "{isolation}");
        drop(runner);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_network_there_is_none_and_helpers_are_still_reached() {
    let world = world().await;
    let repository = world.project("almanac").await;
    let port = ordotaxis_testbed::free_port();
    // Something outside that would answer.
    let outside = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let reach = outside.local_addr().expect("an address").port();
    for (isolation, lines) in kinds().into_iter().skip(1) {
        let runner = world.runner(RunnerOptions { isolation, ..RunnerOptions::default() }).await;
        let busybox = if isolation == "container" { "" } else { "busybox " };
        let text = format!(
            "language = 1\n# {isolation}\n[job.a.closed]\n{lines}checkout = false\nnetwork = false\n\
             beside = [{{ name = \"gauge\", run = \"echo tide > now; exec {busybox}httpd -f -p 127.0.0.1:{port}\", ready = \"http://127.0.0.1:{port}/now\", within = \"10s\" }}]\n\
             steps = [\"{busybox}wget -q -O - http://127.0.0.1:{port}/now\", \"if {busybox}nc -w 1 127.0.0.1 {reach} < /dev/null 2> /dev/null; then echo reached; else echo closed; fi\"]\n"
        );
        let commit = repository.push_pipeline(&text);
        let run = world.verdict("almanac", &commit).await;
        let log = world.log(&run, "a.closed").await;
        assert!(log.starts_with("tide\n") && log.ends_with("closed\n"), "{isolation}: {log} {run}");
        drop(runner);
    }
    let commit = repository.push_pipeline("language = 1\n[job.a.closed]\nnetwork = false\nsteps = [\"true\"]\n");
    let _host = world.runner(RunnerOptions::default()).await;
    let told = |run: &Value| {
        World::job(run, "a.closed")["why"].as_str().is_some_and(|why| why.starts_with("it says network = false, and no connected runner"))
    };
    world.run_of("almanac", &commit, "the reason", told).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn no_escape_attempt_works_in_a_sandbox() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let outside = std::path::PathBuf::from(format!("/var/tmp/ordotaxis-outside-{}", std::process::id()));
    let config = "[limits]\nprocesses = 64\nmemory_mib = 64\ndisk_mib = 16\n";
    let _runner = world.runner(RunnerOptions { isolation: "sandbox", slots: 8, config: Some(config), ..RunnerOptions::default() }).await;
    let victim = std::process::Command::new("sleep").arg("600").spawn().expect("a process");
    let victim = Ended(victim);
    let mark = format!("7654{}", std::process::id());
    let jobs = [
        ("write", format!("for place in {} /etc/x /usr/x /root/x /var/x /run/../etc/x; do (echo x > $place) 2>/dev/null && echo ESCAPED $place; done; echo tried", outside.display())),
        ("remount", "mount -o remount,rw / 2>/dev/null && echo ESCAPED; mount -t tmpfs x /mnt 2>/dev/null && echo ESCAPED; umount /tmp 2>/dev/null && echo ESCAPED; echo tried".into()),
        ("device", "mknod disk b 254 0 2>/dev/null && echo ESCAPED; chroot / true 2>/dev/null && echo ESCAPED; echo tried".into()),
        ("kill", format!("kill -0 {0} 2>/dev/null && echo ESCAPED; ls -d /proc/{0} 2>/dev/null && echo ESCAPED; ls /proc | grep -c '^[0-9]' | (read n; [ $n -lt 12 ] || echo ESCAPED $n); echo tried", victim.0.id())),
        ("others", format!("ls -A {0}/runner-1 2>/dev/null | grep . && echo ESCAPED; cat {0}/runner-1/runner.toml 2>/dev/null && echo ESCAPED; echo tried", world.folder.path().display())),
        ("daemon", format!("setsid sh -c 'trap \"\" TERM HUP; exec sleep {mark}' > /dev/null 2>&1 & echo tried")),
        ("fork", "for n in $(seq 200); do sleep 20 & done; echo ESCAPED".into()),
        ("memory", "x=$(head -c 300000000 /dev/zero | tr '\\0' a); echo ${#x}; echo tried".into()),
        ("disk", "i=0; while [ $i -lt 400 ]; do head -c 1000000 /dev/zero > fill$i; i=$((i+1)); sleep 0.02; done; echo ESCAPED".into()),
    ];
    let text: String = jobs
        .iter()
        .map(|(name, step)| format!("[job.a.{name}]\ncheckout = false\nsteps = [{{ name = \"try\", run = '''\n{step}\n''' }}]\n"))
        .collect();
    let commit = repository.push_pipeline(&format!("language = 1\n{text}"));
    let run = world.verdict("tidegauge", &commit).await;
    for (name, _) in &jobs {
        let log = world.log(&run, &format!("a.{name}")).await;
        assert!(!log.contains("ESCAPED"), "{name}: {log}");
    }
    for name in ["write", "remount", "device", "kill", "others", "daemon"] {
        assert_eq!(state(&run, &format!("a.{name}")), "passed", "{name}: {}", World::job(&run, &format!("a.{name}")));
    }
    assert!(!outside.exists());
    assert_eq!(processes_with(&mark), 0, "the daemon lives");
    assert_eq!(state(&run, "a.fork"), "failed");
    let why = |name: &str| World::job(&run, name)["why"].as_str().unwrap_or_default().to_owned();
    assert!(why("a.disk").starts_with("the job wrote more than the runner's limit of 16 MiB"), "{}", why("a.disk"));
    assert_eq!(why("a.memory"), "step `try` used more memory than the runner's limit of 64 MiB a job");
}

struct Ended(std::process::Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_from_outside_gets_no_secret_and_an_unset_one_is_told() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    assert_eq!(world.run(&["project", "outside", "tidegauge", "run"]).await.code, 0);
    let _runner = world.runner(RunnerOptions { outside: "yes", ..RunnerOptions::default() }).await;
    let text = "language = 1\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n[job.a.b]\ncheckout = false\nsecrets = [\"STATION_KEY\"]\nsteps = [\"echo key ${STATION_KEY:+there}\"]\n";
    let commit = repository.push_pipeline(text);
    let run = world.verdict("tidegauge", &commit).await;
    let why = "secret STATION_KEY is not set for tidegauge; `ordotaxis secret set tidegauge STATION_KEY` sets it";
    assert_eq!(World::job(&run, "a.b")["why"], why);
    assert_eq!(
        world
            .run_with(&["secret", "set", "tidegauge", "STATION_KEY", "--branch", "main", "--branch", "topic/*"], "salt and mud\n")
            .await
            .code,
        0
    );
    for (outside, source) in [(true, "topic/theirs"), (false, "topic/ours")] {
        repository.git(&["checkout", "--quiet", "-b", source, "main"]);
        repository.write("note", source);
        repository.commit("A change");
        repository.push();
        world.propose("tidegauge", source, outside).await;
        let ended = until("the proposal's run", || async {
            let runs = world.json(&["runs", "tidegauge"]).await;
            let run = runs
                .as_array()?
                .iter()
                .find(|run| run["occasion"]["event"] == "proposal" && !run["ended_at"].is_null() && run["again_of"].is_null())?
                .clone();
            let run = world.json(&["show", run["run"].as_str()?]).await;
            let given = World::job(&run, "a.b")["state"] == "passed";
            (given != outside).then_some(run)
        })
        .await;
        if outside {
            assert_eq!(World::job(&ended, "a.b")["why"], "secret STATION_KEY is not given to a proposal from outside");
        }
    }
    for (name, value, words) in
        [("1X", "long enough", "called like a variable"), ("X", "abc", "4 to 65536 bytes"), ("ORDOTAXIS_X", "long enough", "are kept for")]
    {
        let refused = world.run_with(&["secret", "set", "tidegauge", name], value).await;
        assert!(refused.code == 2 && refused.err.contains(words), "{refused:?}");
    }
    assert_eq!(world.run(&["secret", "remove", "tidegauge", "STATION_KEY"]).await.code, 0);
    assert_eq!(world.run(&["secret", "remove", "tidegauge", "STATION_KEY"]).await.code, 2);
}
