//! A rehearsal: what it judges, sends, keeps and leaves.

use super::here::{contents, folder, git, here};
use super::{ORDOTAXIS, world};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use ordotaxis_testbed::RunnerOptions;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// A folder to rehearse, and a user's cache folder of its own.
struct Place {
    folder: TempDir,
    own: TempDir,
}

impl Place {
    fn new(files: &[(&str, &str)]) -> Place {
        Place { folder: folder(files), own: tempfile::tempdir().expect("a folder") }
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(ORDOTAXIS);
        command.args(arguments).current_dir(self.folder.path()).env("GIT_CEILING_DIRECTORIES", "/tmp");
        command.env("XDG_CACHE_HOME", self.own.path()).env("XDG_CONFIG_HOME", self.own.path());
        command.env_remove("ORDOTAXIS_URL").env_remove("ORDOTAXIS_TOKEN");
        command
    }

    fn run(&self, arguments: &[&str]) -> (i32, String, String) {
        let Output { status, stdout, stderr } = self.command(arguments).output().expect("the client starts");
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        (status.code().unwrap_or(-1), text(stdout), text(stderr))
    }

    /// The folders of rehearsals whose names begin so.
    fn left(&self, kind: &str) -> Vec<PathBuf> {
        let entries = std::fs::read_dir(self.own.path().join("ordotaxis/rehearsals")).into_iter().flatten().flatten();
        entries
            .map(|entry| entry.path())
            .filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(kind)))
            .collect()
    }
}

fn wait(what: &str, done: impl Fn() -> bool) {
    let until = Instant::now() + ordotaxis_testbed::PATIENCE;
    while !done() {
        assert!(Instant::now() < until, "waited for {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn is_running(mark: &str) -> bool {
    Command::new("pgrep").args(["-f", &format!("^sleep {mark}")]).output().is_ok_and(|output| output.status.success())
}

/// However it is ended, its steps and folders go, and what was asked for is kept. What a killed one left goes with the next.
#[test]
fn however_it_ends_nothing_stays() {
    for (at, isolation) in ["host", "sandbox"].into_iter().enumerate() {
        let mark = format!("6{at}0.{}", std::process::id());
        let text = format!(
            "language = 1\n[job.a.first]\nsteps = [\"echo made > out\"]\ngives = {{ o = [\"out\"] }}\n\
             [job.a.long]\nafter = [\"a.first\"]\nsteps = [\"echo begun; mkdir shut; chmod 000 shut .; sleep {mark}\"]\n"
        );
        let place = Place::new(&[("ordotaxis.toml", &text)]);
        let begun = |keep: &str| -> Child {
            let mut command = place.command(&["rehearse", "--isolation", isolation, "--keep", keep]);
            let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
            wait("the step to run", || is_running(&mark));
            child
        };
        let end = |child: &mut Child, signal: Signal| {
            kill(Pid::from_raw(i32::try_from(child.id()).expect("an id")), signal).expect("a signal");
            child.wait().expect("an end").code()
        };
        for signal in [Signal::SIGINT, Signal::SIGTERM, Signal::SIGHUP] {
            let keep = place.own.path().join(signal.as_str()).display().to_string();
            let mut child = begun(&keep);
            assert_eq!(end(&mut child, signal), Some(130), "{signal}");
            wait("the step to be gone", || !is_running(&mark));
            assert!(place.left("live-").is_empty(), "{isolation} {signal}: {:?}", place.left("live-"));
            assert_eq!(std::fs::read_to_string(format!("{keep}/a.first/o/out")).expect("the artifact"), "made\n");
            assert!(std::fs::read_to_string(format!("{keep}/logs/a.long.log")).expect("the log").contains("begun"));
        }
        let mut child = begun("/dev/null/none");
        assert_eq!(end(&mut child, Signal::SIGKILL), None);
        assert_eq!(place.left("live-").len(), 1);
        let (code, out, err) = place.run(&["rehearse", "a.first", "--isolation", isolation]);
        assert_eq!(code, 0, "{out}{err}");
        wait("the killed one's step to be gone", || !is_running(&mark));
        assert!(place.left("live-").is_empty(), "{:?}", place.left("live-"));
    }
}

/// Whether a file below the folder holds these bytes.
fn holds(folder: &Path, bytes: &[u8]) -> bool {
    contents(folder).values().any(|content| content.windows(bytes.len()).any(|window| window == bytes))
}

#[test]
fn caches_are_kept_for_the_next_rehearsal_and_nothing_else() {
    let text = "language = 1\n[job.a.warm]\nsecrets = [\"GAUGE_KEY\"]\nsteps = [\"test -e c/f && echo warm || echo cold; mkdir -p c; echo kept-by-cache > c/f; echo said-in-log; echo given > g\"]\n\
                cache = [{ paths = [\"c\"], key = \"c-1\" }]\ngives = { g = [\"g\"] }\n";
    let place = Place::new(&[("ordotaxis.toml", text)]);
    let log = |more: &[&str]| {
        let keep = place.own.path().join("out").display().to_string();
        let arguments = [&["rehearse", "--isolation", "host", "--keep", &keep], more].concat();
        let mut command = place.command(&arguments);
        let output = command.env("GAUGE_KEY", "never-on-the-disk-8841").output().expect("it runs");
        assert!(output.status.success(), "{output:?}");
        std::fs::read_to_string(format!("{keep}/logs/a.warm.log")).expect("a log")
    };
    assert!(log(&[]).contains("cold"));
    assert!(log(&[]).contains("warm"));
    let kept = place.left("kept-");
    assert_eq!(kept.len(), 1);
    let names: Vec<String> = contents(&kept[0]).keys().map(|path| path.display().to_string()).collect();
    assert!(names.iter().all(|name| name == "lock" || name == "caches.db" || name.starts_with("blobs/packs/")), "{names:?}");
    let first: u64 = contents(&kept[0]).values().map(|content| content.len() as u64).sum();
    for words in ["never-on-the-disk", "said-in-log", "a.warm.log"] {
        assert!(!holds(&kept[0], words.as_bytes()), "{words}");
    }
    assert!(log(&["--fresh"]).contains("cold"));
    assert!(log(&[]).contains("warm"));
    let later: u64 = contents(&kept[0]).values().map(|content| content.len() as u64).sum();
    assert!(later <= first + 4096, "what jobs gave and said does not pile up: {first}, then {later}");
    // What cannot be read is as nothing.
    std::fs::write(kept[0].join("caches.db"), "no database").expect("a file");
    assert!(log(&[]).contains("cold"));
    assert!(log(&[]).contains("warm"));
    assert!(place.left("live-").is_empty());
}

#[test]
fn a_job_by_hand_runs_when_it_is_named_and_what_would_be_is_said() {
    let text = "language = 1\norder = \"build > ship\"\n[starts.inputs.station]\ndefault = \"lock-gate\"\n[job.build.a]\nsteps = [\"echo x > x\"]\ngives = { x = [\"x\"] }\n\
                [job.ship.it]\nby_hand = true\ntakes = [\"build.a/x\"]\nenv = { WHERE = \"{input.station}\" }\nsteps = [\"echo sent $(cat x) to $WHERE\"]\n\
                gives = { y = [\"x\"] }\nidentity = { WHO = \"https://cloud.example\" }\npublish = [{ artifact = \"y\", to = \"oci://127.0.0.1:9/y:1\" }]\n";
    let place = Place::new(&[("ordotaxis.toml", text)]);
    let (code, _, err) = place.run(&["rehearse", "--isolation", "host"]);
    assert!(code == 2 && err.contains("[starts] does not start this pipeline on a push to main"), "{err}");
    let (code, out, err) = place.run(&["rehearse", "--event", "by_hand", "--isolation", "host"]);
    assert!(code == 0 && out.contains("1 waits for someone to start it") && !out.contains("would"), "{out}{err}");
    assert!(!out.contains("ordotaxis start") && !err.contains("ordotaxis logs"), "no advice for a run that is gone: {out}{err}");
    let keep = place.own.path().join("kept").display().to_string();
    let arguments = ["rehearse", "ship.it", "--event", "by_hand", "--input", "station=north-pier", "--isolation", "host", "--keep", &keep];
    let (code, out, err) = place.run(&arguments);
    assert!(code == 0 && out.contains("Passed: 2 jobs"), "{out}{err}");
    assert!(std::fs::read_to_string(format!("{keep}/logs/ship.it.log")).expect("a log").contains("sent x to north-pier"));
    let would = [
        "ship.it would have an identity for https://cloud.example in WHO; here nobody believes it",
        "ship.it would publish y to oci://127.0.0.1:9/y:1 as artifact",
    ];
    would.iter().for_each(|line| assert!(out.contains(line), "{out}"));
    let (_, json, _) = place.run(&["--json", "rehearse", "ship", "--event", "by_hand", "--isolation", "host"]);
    let json: Value = serde_json::from_str(&json).expect("JSON");
    assert_eq!((json["state"].as_str(), json["would"].as_array().map(Vec::len)), (Some("passed"), Some(2)), "{json}");
    let (code, out, err) = place.run(&["-q", "rehearse", "ship.it", "--event", "by_hand", "--isolation", "host"]);
    assert!(code == 0 && out.lines().count() == 1 && out.contains("Passed: 2 jobs") && err.is_empty(), "{out}{err}");
}

#[test]
fn what_cannot_begin_here_is_said_at_once() {
    let text = "language = 1\n[job.a.boxed]\nimage = \"debian:12\"\nsteps = [\"echo ran\"]\n[job.a.shut]\nnetwork = false\nsteps = [\"echo ran\"]\n\
                [job.a.tool]\ntools = { sh-of-the-sea = \"*\" }\nsteps = [\"echo ran\"]\n[job.a.far]\nwhere = [\"windows\"]\nsteps = [\"echo ran\"]\n";
    let place = Place::new(&[("ordotaxis.toml", text)]);
    let (code, _, err) = place.run(&["rehearse", "--isolation", "host"]);
    assert_eq!(code, 1, "{err}");
    for words in [
        "3 jobs would not begin",
        "a.boxed: it runs in an image, and no containers are made here",
        "a.shut: it says network = false",
        "a.tool: it asks for the tool sh-of-the-sea *, and it is not here",
        "whether a runner has windows is not known",
        "--anyway",
    ] {
        assert!(err.contains(words), "{words} is missing in {err}");
    }
    let (code, out, err) = place.run(&["rehearse", "--anyway", "--isolation", "host"]);
    assert!(code == 0 && out.contains("Passed: 4 jobs"), "{out}{err}");
    let (code, out, err) = place.run(&["rehearse", "a.far", "--isolation", "host"]);
    assert!(code == 0 && out.contains("Passed: 1 job"), "others are not judged: {out}{err}");
    let mut command = place.command(&["rehearse", "a.far", "--isolation", "host"]);
    let output = command.env("ORDOTAXIS_URL", "http://127.0.0.1:1").env("ORDOTAXIS_TOKEN", "oxu_none").output().expect("it runs");
    let err = String::from_utf8_lossy(&output.stderr);
    let (code, _, unasked) = place.run(&["check", "--runners"]);
    assert!(code == 2 && unasked.contains("no service is known whose runners could be asked"), "{unasked}");
    assert!(output.status.success() && err.contains("whether runners would take these jobs is not known: the service at"), "{err}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_signed_in_is_told_what_the_runners_there_lack() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions { labels: &["usb"], ..RunnerOptions::default() }).await;
    let repository = world.project("tidegauge").await;
    let text =
        "language = 1\n[job.a.quay]\nwhere = [\"usb\"]\nsteps = [\"true\"]\n[job.a.far]\nwhere = [\"windows\"]\nsteps = [\"true\"]\n";
    repository.write("ordotaxis.toml", text);
    let ran = world.run_in(&repository.folder, &["rehearse", "--isolation", "host"]).await;
    assert!(ran.code == 1 && ran.err.contains("a.far: no connected runner has the label windows; there are: "), "{ran:?}");
    assert!(ran.err.contains(&format!("(at {})", world.url)) && !ran.err.contains("a.quay"), "{ran:?}");
    let ran = world.run_in(&repository.folder, &["rehearse", "a.quay", "--isolation", "host"]).await;
    assert!(ran.code == 0 && ran.err.contains("judged by the 1 runner connected at"), "{ran:?}");
    assert!(ran.out.contains("the verdict would be reported on the commit, for project tidegauge"), "{ran:?}");
    let ran = world.run_in(&repository.folder, &["rehearse", "--anyway", "--isolation", "host"]).await;
    assert!(ran.code == 0, "{ran:?}");
    let _other = world.project("stations").await;
    // The same is told of the file, at the job's own place.
    let checked = world.run_in(&repository.folder, &["check", "--runners", "--format", "json"]).await;
    let found: Value = serde_json::from_str(&checked.out).expect("JSON");
    let told = &found["diagnostics"][0];
    assert_eq!((told["code"].as_str(), told["line"].as_u64(), checked.code), (Some("no-runner"), Some(5), 0), "{found}");
    assert!(told["message"].as_str().is_some_and(|words| words.starts_with("job a.far would not begin: no connected runner")), "{found}");
    assert_eq!(found["diagnostics"].as_array().map(Vec::len), Some(1), "{found}");
    let bare = world.run_in(&repository.folder, &["runner", "set", "runner-1", "--project", "stations"]).await;
    assert_eq!(bare.code, 0, "{bare:?}");
    let ran = world.run_in(&repository.folder, &["rehearse", "a.quay", "--isolation", "host"]).await;
    assert!(ran.code == 1 && ran.err.contains("no connected runner takes jobs of tidegauge"), "{ran:?}");
}

/// Large files, uncommitted ones too, are as they would be after a push; and the repository is as it was.
#[test]
fn a_rehearsal_sees_large_files_as_a_run_would() {
    let text = "language = 1\n[job.a.without]\nsteps = [\"grep -q oid old.bin && grep -q oid new.bin\"]\n\
                [job.a.with]\ncheckout = { lfs = true }\nsteps = [\"grep -q old old.bin && grep -q new new.bin\"]\n";
    let place =
        Place::new(&[("ordotaxis.toml", text), (".gitattributes", "*.bin filter=lfs diff=lfs merge=lfs -text\n"), ("old.bin", "old\n")]);
    let path = place.folder.path();
    git(path, &["init", "--quiet", "--initial-branch=main"]);
    git(path, &["lfs", "install", "--local", "--skip-repo"]);
    git(path, &["add", "--all"]);
    git(path, &["commit", "--quiet", "-m", "Old"]);
    std::fs::write(path.join("new.bin"), "new\n").expect("a file");
    std::fs::write(path.join(".git/info/exclude"), "secret\n").expect("a file");
    std::fs::write(path.join("secret"), "not to be seen\n").expect("a file");
    let before = contents(&path.join(".git"));
    let (code, out, err) = place.run(&["rehearse", "--isolation", "host"]);
    assert!(code == 0 && out.contains("(with 1 uncommitted change)"), "{out}{err}");
    assert!(contents(&path.join(".git")) == before, "nothing in the repository was changed");
}

/// What a job publishes stays here when it is rehearsed: nothing is called, and what would be sent is said.
#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_sends_nothing() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.set_nonblocking(true).expect("a listener");
    let address = listener.local_addr().expect("an address");
    let text = format!(
        "language = 1\n[job.pack.it]\nsteps = [\"echo a > a; echo b > b\"]\ngives = {{ both = [\"a\", \"b\"] }}\npublish = [\n\
         {{ artifact = \"both\", to = \"http://{address}/both.tar\", with = \"STORE\", fact = \"digest\" }},\n\
         {{ artifact = \"both\", to = \"oci://{address}/both:1\" }},\n]\n\
         [job.ship.it]\nafter = [\"pack.it\"]\nenv = {{ DIGEST = \"{{fact.pack.it.digest}}\" }}\nsteps = [\"echo digest $DIGEST\"]\n"
    );
    let folder = folder(&[("ordotaxis.toml", &text)]);
    let keep = folder.path().join("kept").display().to_string();
    let (code, out, err) = here(folder.path(), &["rehearse", "--isolation", "host", "--keep", &keep]);
    assert_eq!(code, 0, "{out} {err}");
    let log = std::fs::read_to_string(folder.path().join("kept/logs/pack.it.log")).expect("a log");
    assert!(
        log.contains("would publish both (2 files) to http://") && log.contains("with connection STORE") && log.contains("oci://"),
        "{log}"
    );
    assert!(std::fs::read_to_string(folder.path().join("kept/logs/ship.it.log")).expect("a log").contains("digest rehearsed"));
    let called = listener.accept();
    assert!(called.is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock), "nobody was called");
}
