//! Ways out of a fence, each tried for real: `attempts` has those that a job makes by itself, `links` those that need the
//! runner's help. `docs/security.md` lists them all, and a test holds the list.

mod attempts;
mod links;

use super::world;
use attempts::{ATTEMPTS, Attempt};
use ordotaxis_testbed::{Process, RunnerOptions, World};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Stands nowhere but outside.
const SECRET: &str = "salt-and-mud-outside-of-every-fence";
/// An ordinary user that no machine has.
const USER: u32 = 61_234;

/// How many attempts one job makes.
const TOGETHER: usize = 6;

/// The fences that attempts are made in, by what the guide calls them.
pub(super) const FENCES: [&str; 3] = ["sandbox", "sandbox, ordinary user", "container"];

pub(super) fn is_root() -> bool {
    nix::unistd::geteuid().is_root()
}

/// What lies outside: a folder that everybody may read, servers on the machine's loopback, a process.
struct Outside {
    folder: tempfile::TempDir,
    port: u16,
    /// Where a link-local address could be given to this machine.
    link_local: Option<&'static str>,
    process: std::process::Child,
}

const LINK_LOCAL: &str = "169.254.77.1";

impl Outside {
    fn new() -> Outside {
        let folder = tempfile::Builder::new().prefix("ordotaxis-outside-").tempdir_in("/var/tmp").expect("a folder");
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("its mode");
        std::fs::write(folder.path().join("secret"), SECRET).expect("a secret");
        std::fs::write(folder.path().join("victim"), "ebb and flood").expect("a file");
        let added = std::process::Command::new("ip").args(["addr", "add", &format!("{LINK_LOCAL}/32"), "dev", "lo"]).output();
        let link_local = added.is_ok_and(|output| output.status.success() || String::from_utf8_lossy(&output.stderr).contains("exists"));
        let listener = std::net::TcpListener::bind("0.0.0.0:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let mut stream = stream;
                let _ = stream.write_all(SECRET.as_bytes());
            }
        });
        abstract_socket();
        let process = std::process::Command::new("sleep").arg("600").spawn().expect("a process");
        Outside { folder, port, link_local: link_local.then_some(LINK_LOCAL), process }
    }

    fn is_untouched(&self) -> Result<(), String> {
        let mut names: Vec<String> = std::fs::read_dir(self.folder.path())
            .expect("the folder")
            .flatten()
            .map(|entry| entry.file_name().to_string_lossy().into_owned())
            .collect();
        let text = std::fs::read_to_string(self.folder.path().join("secret")).unwrap_or_default();
        names.sort();
        if names == ["secret", "victim"] && text == SECRET { Ok(()) } else { Err(format!("{names:?} {text}")) }
    }
}

/// One that the whole machine's network has.
fn abstract_socket() {
    use std::os::linux::net::SocketAddrExt;
    use std::os::unix::net::{SocketAddr, UnixListener};
    let address = SocketAddr::from_abstract_name("ordotaxis-escape").expect("a name");
    let Ok(listener) = UnixListener::bind_addr(&address) else { return };
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let _ = stream.write_all(SECRET.as_bytes());
        }
    });
}

impl Drop for Outside {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// A runner in this fence, and its folder; None where the fence cannot be tried here, with the reason.
pub(super) async fn runner_in(
    world: &World,
    fence: &str,
    slots: u32,
    homes: &mut Vec<tempfile::TempDir>,
) -> Result<(Process, PathBuf), &'static str> {
    let isolation = if fence == "container" { "container" } else { "sandbox" };
    let user = (fence == FENCES[1]).then_some(USER);
    if user.is_some() && !is_root() {
        return Err("only root can become another user");
    }
    // Neither below /tmp, which a job has one of its own of, nor behind a folder that its user may not pass.
    let home = tempfile::Builder::new().prefix("ordotaxis-runner-").tempdir_in("/var/tmp").expect("a folder");
    std::fs::set_permissions(home.path(), std::fs::Permissions::from_mode(0o711)).expect("its mode");
    let folder = home.path().join("runner");
    homes.push(home);
    let options = RunnerOptions { isolation, slots, user, folder: Some(folder.clone()), ..RunnerOptions::default() };
    Ok((world.runner(options).await, folder))
}

/// Why an attempt is not made in a fence.
fn exception(attempt: &Attempt, fence: &str) -> Option<&'static str> {
    attempt.except.iter().find(|(name, _)| fence.starts_with(name)).map(|(_, why)| *why)
}

/// Attempts that need a network of the job's own: an ordinary user makes one only where the device for it is open to all.
const OF_NETWORKS: [&str; 4] = ["loopback", "link-local", "change-network", "abstract-socket"];

fn ordinary_user_has_networks() -> bool {
    std::fs::metadata("/dev/net/tun").is_ok_and(|meta| meta.permissions().mode() & 0o006 == 0o006)
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_gets_out() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let outside = Outside::new();
    let mut homes = Vec::new();
    let other = runner_in(&world, "sandbox", 1, &mut homes).await;
    // It takes nothing: its credential is what matters.
    assert_eq!(world.run(&["runner", "drain", "runner-1"]).await.code, 0);
    repository.write("calls.py", include_str!("calls.py"));
    for fence in FENCES {
        let (runner, folder) = match runner_in(&world, fence, 3, &mut homes).await {
            Ok(runner) => runner,
            Err(why) => {
                eprintln!("{fence}: not tried here: {why}");
                continue;
            }
        };
        let missing = |attempt: &&Attempt| fence == FENCES[1] && OF_NETWORKS.contains(&attempt.name) && !ordinary_user_has_networks();
        let tried: Vec<&Attempt> = ATTEMPTS.iter().filter(|attempt| exception(attempt, fence).is_none() && !missing(attempt)).collect();
        let other_folder = homes[0].path().join("runner");
        let fill = |script: &str| {
            let words = [
                ("{OUT}", outside.folder.path().display().to_string()),
                ("{RUNNER}", folder.display().to_string()),
                ("{OTHER}", other_folder.display().to_string()),
                ("{SERVICE}", world.folder.path().join("service").display().to_string()),
                ("{PORT}", outside.port.to_string()),
                ("{LINKLOCAL}", outside.link_local.unwrap_or("169.254.169.254").to_owned()),
                ("{PID}", outside.process.id().to_string()),
                ("{MARK}", std::process::id().to_string()),
            ];
            words.iter().fold(script.to_owned(), |text, (word, value)| text.replace(word, value))
        };
        let image = if fence == "container" { format!("image = \"{}\"\n", super::contract::image()) } else { String::new() };
        // Several to a job, since a container takes its time; what finds something that another job left is tried twice.
        let step = |attempt: &&Attempt| {
            format!(
                "  {{ name = \"{0}\", shell = \"sh\", may_fail = true, run = '''\n{1}\necho tried {0}\n''' }},\n",
                attempt.name,
                fill(attempt.script)
            )
        };
        let job = |stage: &str, number: usize, attempts: &[&Attempt]| {
            let steps: String = attempts.iter().map(step).collect();
            format!("[job.{stage}.n{number}]\n{image}timeout = \"60s\"\nsteps = [\n{steps}]\n")
        };
        let again: Vec<&Attempt> = tried.iter().copied().filter(|attempt| attempt.name.starts_with("left-")).collect();
        let first: String = tried.chunks(TOGETHER).enumerate().map(|(number, some)| job("a", number, some)).collect();
        let commit = repository.push_pipeline(&format!("language = 1\n# {fence}\norder = \"a > b\"\n{first}{}", job("b", 0, &again)));
        let run = world.verdict("tidegauge", &commit).await;
        let jobs = tried
            .chunks(TOGETHER)
            .enumerate()
            .map(|(number, some)| (format!("a.n{number}"), some))
            .chain([("b.n0".to_owned(), &again[..])]);
        for (id, attempts) in jobs {
            let log = world.log(&run, &id).await;
            for attempt in attempts {
                let name = attempt.name;
                assert!(
                    log.contains(&format!("tried {name}\n")),
                    "{fence}: {name} did not come to its end: {} {log}",
                    World::job(&run, &id)
                );
            }
            assert!(!log.contains("ESCAPED") && !log.contains(SECRET), "{fence}: {id}: {log}");
        }
        outside.is_untouched().unwrap_or_else(|found| panic!("{fence}: something was written outside: {found}"));
        assert_eq!(super::contract::processes_with(&format!("97531{}", std::process::id())), 0, "{fence}: a daemon lives");
        drop(runner);
    }
    drop(other);
}

/// While a job runs, nobody else on the machine can use what it has made, least of all a file that would make them the job's user.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_job_makes_is_nobody_elses() {
    if !is_root() {
        return;
    }
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let mut homes = Vec::new();
    for fence in FENCES.into_iter().take(2) {
        let (runner, folder) = runner_in(&world, fence, 1, &mut homes).await.expect("a runner");
        let step = "cp /usr/bin/id id; chmod 4777 id; chmod 777 .; echo ready; sleep 60";
        let commit = repository.push_pipeline(&format!("language = 1\n# {fence}\n[job.a.b]\nsteps = [\"{step}\"]\n"));
        let run = world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "a.b")["state"] == "running").await;
        let name = run["run"].as_str().unwrap_or_default().to_owned();
        ordotaxis_testbed::until("the file", || async { world.run(&["logs", &name, "a.b"]).await.out.contains("ready").then_some(()) })
            .await;
        let made = ["work/0/upper/id", "work/0/job/id"].map(|path| folder.join(path));
        assert!(made.iter().any(|path| path.exists()), "{fence}: the file lies somewhere else");
        for path in made.iter().filter(|path| path.exists()) {
            let stranger = |program: &Path| {
                let mut command = std::process::Command::new("setpriv");
                // Through a shell: what setpriv itself starts is still looked up with root's rights.
                command.args(["--reuid", "62345", "--regid", "62345", "--clear-groups", "--", "sh", "-c", "exec \"$0\""]).arg(program);
                command.output().expect("setpriv runs").status.success()
            };
            assert!(stranger(Path::new("/usr/bin/id")), "a stranger runs programs");
            assert!(!stranger(path), "{fence}: {} can be run by anybody", path.display());
        }
        for (path, mode) in [(folder.clone(), 0o700), (folder.join("runner.toml"), 0o600), (world.folder.path().join("service"), 0o700)] {
            let found = std::fs::metadata(&path).expect("its mode").permissions().mode() & 0o777;
            assert_eq!(found, mode, "{}", path.display());
        }
        world.run(&["stop", &name]).await;
        world.verdict("tidegauge", &commit).await;
        drop(runner);
    }
}

/// Ordinary building still works: compilers, package tools of the job's own folder, archives.
#[tokio::test(flavor = "multi_thread")]
async fn real_projects_still_build() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let mut homes = Vec::new();
    for fence in FENCES.into_iter().take(2) {
        let Ok((runner, _)) = runner_in(&world, fence, 2, &mut homes).await else { continue };
        let text = r#"language = 1
# FENCE
[job.a.make]
steps = [
  "printf '#include <stdio.h>\nint main(void) { puts(\"tide\"); }\n' > gauge.c && printf 'gauge: gauge.c\n\tcc -O1 -g -fsanitize=address -o gauge gauge.c\n' > Makefile && make && ./gauge",
  "tar cf gauge.tar gauge.c && mkdir out && tar xf gauge.tar -C out && ls out/gauge.c",
]
[job.a.rust]
steps = ["if cargo --version > /dev/null 2>&1; then cargo new --quiet --vcs none tide && cd tide && cargo run --quiet --offline; else echo 'Hello, world!'; fi"]
[job.a.node]
steps = ["mkdir -p tool && echo '{\"name\":\"tool\",\"version\":\"1.0.0\",\"main\":\"i.js\"}' > tool/package.json && echo 'module.exports = 42' > tool/i.js && npm init -y > /dev/null && npm install --silent --offline ./tool && node -e 'console.log(require(\"tool\"))'"]
[job.a.python]
steps = ["/usr/bin/python3 -m venv venv && venv/bin/python -c 'import sys; print(sys.prefix)' && ls -l venv/bin/python3"]
gives = { venv = ["venv"] }
[job.b.venv]
checkout = false
takes = ["a.python/venv"]
steps = ["venv/bin/python -c 'print(6 * 7)'"]
"#;
        let commit = repository.push_pipeline(&text.replace("FENCE", fence));
        let run = world.verdict("tidegauge", &commit).await;
        for (job, words) in [("a.make", "tide"), ("a.rust", "Hello, world!"), ("a.node", "42"), ("a.python", "/job/venv"), ("b.venv", "42")]
        {
            let log = world.log(&run, job).await;
            assert!(World::job(&run, job)["state"] == "passed" && log.contains(words), "{fence}: {job}: {log}");
        }
        drop(runner);
    }
}

/// The guide's table is this table.
#[test]
fn the_guide_lists_every_attempt() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/security.md");
    let guide = std::fs::read_to_string(path).expect("the guide");
    let row = |attempt: &Attempt| {
        let shut = |fence: &str| exception(attempt, fence).map_or("shut".to_owned(), |why| format!("does not apply: {why}"));
        format!("| {} | {} | {} | {} | {} |", attempt.name, attempt.tries, shut(FENCES[0]), shut(FENCES[1]), shut(FENCES[2]))
    };
    let links = links::TRIED.iter().map(|(name, tries)| format!("| {name} | {tries} | shut | shut | shut |"));
    let missing: Vec<String> = ATTEMPTS.iter().map(row).chain(links).filter(|row| !guide.contains(row.as_str())).collect();
    assert!(missing.is_empty(), "docs/security.md lacks these rows:\n{}", missing.join("\n"));
    assert!(ATTEMPTS.len() + links::TRIED.len() >= 60, "{} attempts", ATTEMPTS.len());
}
