//! What is given to people who install, made as `cargo xtask dist` makes it (of the program that is tested here): it is
//! installed by dpkg, started by systemd in a system of its own, loaded as an image, unpacked.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{Process, World, free_port, until};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::{Duration, Instant};

const BOOT: &str = include_str!("shipped/boot.sh");

fn ran(command: &mut Command) -> Output {
    let done = command.output().expect("it starts");
    assert!(done.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    done
}

fn said(command: &mut Command) -> String {
    String::from_utf8_lossy(&ran(command).stdout).into_owned()
}

/// The three of them, in a folder.
fn made(to: &Path) -> [PathBuf; 3] {
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let mut dist = Command::new(cargo);
    dist.current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    dist.args(["run", "--quiet", "--package", "xtask", "--", "dist", "--of", ORDOTAXIS, "--to"]).arg(to);
    ran(&mut dist);
    let all: Vec<PathBuf> = std::fs::read_dir(to).expect("a folder").flatten().map(|entry| entry.path()).collect();
    [".tar.gz", ".deb", ".oci.tar"].map(|end| {
        let found = all.iter().find(|path| path.to_string_lossy().ends_with(end));
        found.unwrap_or_else(|| panic!("no {end} among {all:?}")).clone()
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_shipped_is_installed_and_started() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().expect("a folder");
    let [archive, package, image] = made(folder.path());
    unpacked(&archive, folder.path());
    loaded(&image, folder.path()).await;
    installed(&package, folder.path()).await;
}

/// The archive holds the program with all that belongs to it, in one folder.
fn unpacked(archive: &Path, folder: &Path) {
    ran(Command::new("tar").arg("-xzf").arg(archive).arg("-C").arg(folder));
    let name = archive.file_name().expect("a name").to_string_lossy().trim_end_matches(".tar.gz").to_owned();
    let root = folder.join(name);
    assert!(said(Command::new(root.join("usr/bin/ordotaxis")).arg("--version")).starts_with("ordotaxis "));
    for path in [
        "usr/share/man/man1/ordotaxis-serve.1.gz",
        "usr/share/bash-completion/completions/ordotaxis",
        "usr/share/zsh/vendor-completions/_ordotaxis",
        "usr/share/fish/vendor_completions.d/ordotaxis.fish",
        "usr/lib/systemd/system/ordotaxis.service",
        "usr/share/doc/ordotaxis/install.md",
    ] {
        assert!(root.join(path).is_file(), "{path}");
    }
    let owners = said(Command::new("tar").arg("--numeric-owner").arg("-tvzf").arg(archive));
    assert!(owners.lines().all(|line| line.contains(" 0/0 ")), "all of it is root's");
}

/// The image is loaded by podman; the service in it answers, as a user that is not root, and git finds its parts.
async fn loaded(image: &Path, folder: &Path) {
    // With the storage of images that other tests use, too: one of its own would think that the machine was started anew, and
    // take their containers' locks for its own.
    let podman = |arguments: &[&str]| {
        let mut command = Command::new("podman");
        command.args(["--runtime", "runc", "--cgroup-manager=cgroupfs"]).args(arguments);
        command
    };
    let own = format!("ordotaxis-shipped-{}", std::process::id());
    let limits = ["--rm", "--ulimit", "nofile=1024:1024", "--ulimit", "nproc=1024:1024", "--network", "host"];
    let loaded = said(podman(&["load", "-i"]).arg(image));
    let name = loaded.trim().rsplit(' ').next().expect("a name").to_owned();
    let git =
        podman(&["run"]).args(limits).args(["--entrypoint", "git", &name, "ls-remote", "http://127.0.0.1:1/x"]).output().expect("podman");
    let error = String::from_utf8_lossy(&git.stderr).into_owned();
    assert!(error.contains("Failed to connect"), "git speaks HTTP in it: {error}");
    let port = free_port().to_string();
    let (listen, url) = (format!("127.0.0.1:{port}"), format!("http://127.0.0.1:{port}/healthz"));
    let mut serve = podman(&["run", "--name", &own]);
    serve.args(limits).args([&name, "serve", "--data", "/data", "--listen", &listen]);
    let _gone = Gone(podman(&["kill", &own]));
    let _serving = Process::start(&mut serve, folder, "image", "serves at");
    until("it answers", || async { reqwest::get(&url).await.ok()?.status().is_success().then_some(()) }).await;
    let status = said(podman(&["exec", &own]).args([
        "sh",
        "-c",
        "while read key value rest; do [ $key = Uid: ] && echo $value; done < /proc/1/status; true",
    ]));
    assert_eq!(status.trim(), "64000");
    ran(&mut podman(&["stop", "--time", "10", &own]));
    ran(&mut podman(&["rmi", &name]));
}

/// Runs a command at its end, whatever happened.
struct Gone(Command);

impl Drop for Gone {
    fn drop(&mut self) {
        let _ = self.0.output();
    }
}

/// A folder that looks like this machine; what is changed there stays there, in memory.
struct System {
    at: PathBuf,
    group: PathBuf,
    booted: Option<Process>,
}

impl System {
    fn new(at: &Path) -> System {
        std::fs::create_dir_all(at).expect("a folder");
        ran(Command::new("mount").args(["-t", "tmpfs", "-o", "size=1g", "tmpfs"]).arg(at));
        let part = |name: &str| {
            std::fs::create_dir(at.join(name)).expect("a folder");
            at.join(name).display().to_string()
        };
        let options = format!("lowerdir=/,upperdir={},workdir={}", part("upper"), part("work"));
        ran(Command::new("mount").args(["-t", "overlay", "overlay", "-o", &options, &part("root")]));
        // A control group of its own, so that nothing of it stays.
        let groups = Path::new("/sys/fs/cgroup");
        let groups = if groups.join("unified").is_dir() { groups.join("unified") } else { groups.to_owned() };
        let group = groups.join(format!("ordotaxis-test-{}", std::process::id()));
        std::fs::create_dir(&group).expect("a control group");
        System { at: at.to_owned(), group, booted: None }
    }

    fn root(&self) -> PathBuf {
        self.at.join("root")
    }

    fn inside(&self, program: &str) -> Command {
        let mut command = Command::new("chroot");
        command.arg(self.root()).arg(program).env("DEBIAN_FRONTEND", "noninteractive").env_remove("ORDOTAXIS_URL");
        command
    }

    /// Boots it to a unit.
    fn boot(&mut self, unit: &str) {
        std::fs::write(self.at.join("boot.sh"), BOOT).expect("a file");
        let mut command = Command::new("sh");
        let enter = "echo $$ > \"$0/cgroup.procs\"; exec unshare --pid --mount --uts --ipc --cgroup --fork --kill-child sh \"$@\"";
        command.args(["-c", enter]).arg(&self.group).arg(self.at.join("boot.sh")).arg(self.root()).arg(unit).arg(&self.group);
        self.booted = Some(Process::start(&mut command, &self.at, "boot", "booting in"));
    }

    /// A command in the system that runs: in its name spaces.
    fn asked(&self, program: &str, arguments: &[&str]) -> Output {
        let children = |of: u32| std::fs::read_to_string(format!("/proc/{of}/task/{of}/children")).unwrap_or_default();
        let first: u32 = children(self.booted.as_ref().expect("it was booted").id()).trim().parse().expect("systemd");
        let mut command = Command::new("nsenter");
        command.args(["--target", &first.to_string(), "--mount", "--pid", "--root", "--wd=/", program]).args(arguments);
        command.output().expect("nsenter")
    }
}

impl Drop for System {
    fn drop(&mut self) {
        self.booted = None;
        let _ = Command::new("umount").arg("-l").arg(self.root()).status();
        let _ = Command::new("umount").arg("-l").arg(&self.at).status();
        // Its processes end one after the other.
        let end = Instant::now() + Duration::from_secs(5);
        while self.group.exists() && Instant::now() < end {
            let _ = Command::new("find").arg(&self.group).args(["-depth", "-type", "d", "-delete"]).output();
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

/// dpkg installs the package, systemd starts service and runner, and a run passes there.
async fn installed(package: &Path, folder: &Path) {
    if !nix::unistd::geteuid().is_root() {
        println!("not root: the package is not installed here");
        return;
    }
    let mut system = System::new(&folder.join("system"));
    std::fs::copy(package, system.root().join("root/ordotaxis.deb")).expect("the package");
    ran(system.inside("dpkg").args(["--install", "/root/ordotaxis.deb"]));
    ran(system.inside("systemd-analyze").args(["verify", "ordotaxis.service", "ordotaxis-runner.service"]));
    assert!(said(system.inside("man").arg("-w").arg("ordotaxis-serve")).contains("ordotaxis-serve.1"));
    // It is to listen elsewhere, as the guide to installing says.
    let port = free_port();
    let set = |path: &str, text: &str| {
        let path = system.root().join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, text).expect("a file");
    };
    let serve = format!(
        "/usr/bin/ordotaxis serve --data /var/lib/ordotaxis --config /etc/ordotaxis/service.toml --token-to /var/lib/ordotaxis/first-token --listen 127.0.0.1:{port}"
    );
    set("etc/systemd/system/ordotaxis.service.d/listen.conf", &format!("[Service]\nExecStart=\nExecStart={serve}\n"));
    set("etc/ordotaxis/service.toml", "[git]\nnear = true\n");
    system.boot("ordotaxis.service");
    let url = format!("http://127.0.0.1:{port}");
    until("the service answers", || async { reqwest::get(format!("{url}/healthz")).await.ok()?.status().is_success().then_some(()) }).await;
    let shown = system.asked("systemctl", &["show", "ordotaxis", "--property=MainPID,User,NRestarts,ActiveState"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("User=ordotaxis") && shown.contains("NRestarts=0") && shown.contains("ActiveState=active"), "{shown}");
    let private = system.asked("stat", &["--format=%U %a", "/var/lib/ordotaxis", "/var/lib/ordotaxis/first-token"]);
    assert_eq!(String::from_utf8_lossy(&private.stdout), "ordotaxis 700\nordotaxis 600\n");
    let journal = system.asked("journalctl", &["--unit=ordotaxis", "--output=cat"]);
    assert!(!String::from_utf8_lossy(&journal.stdout).contains("oxu_"), "no token stands in the log");
    a_run_passes(&system, &url).await;
    // It ends in peace, and what lasts stays when the package goes.
    assert!(system.asked("systemctl", &["stop", "ordotaxis"]).status.success());
    let shown = system.asked("systemctl", &["show", "ordotaxis", "--property=Result"]);
    assert_eq!(String::from_utf8_lossy(&shown.stdout).trim(), "Result=success");
    drop(system.booted.take());
    ran(system.inside("dpkg").args(["--purge", "ordotaxis"]));
    assert!(system.root().join("var/lib/ordotaxis/ordotaxis.db").is_file() && !system.root().join("usr/bin/ordotaxis").exists());
}

async fn a_run_passes(system: &System, url: &str) {
    let elsewhere: World = world().await;
    let repository = elsewhere.project("tidegauge").await;
    let file = "language = 1\n[job.build.gauge]\nsteps = [\"echo by $(id -u); test -f pipeline.toml || ls\"]\n";
    repository.push_pipeline(file);
    let token = system.asked("cat", &["/var/lib/ordotaxis/first-token"]);
    let token = String::from_utf8_lossy(&token.stdout).trim().to_owned();
    let client = |arguments: &[&str]| {
        let all = [&["--url", url, "--token", &token], arguments].concat();
        let ran = system.asked("ordotaxis", &all);
        assert!(ran.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&ran.stderr));
        String::from_utf8_lossy(&ran.stdout).into_owned()
    };
    let url = said(Command::new("git").current_dir(&repository.folder).args(["remote", "get-url", "origin"]));
    client(&["project", "add", "tidegauge", "--git", url.trim()]);
    let invitation = client(&["runner", "invite", "--json"]);
    let invitation: serde_json::Value = serde_json::from_str(&invitation).expect("JSON");
    let invitation = invitation["token"].as_str().expect("an invitation");
    client(&["runner", "enrol", "--invitation", invitation, "--name", "quay", "--dir", "/var/lib/ordotaxis-runner"]);
    let started = system.asked("systemctl", &["start", "ordotaxis-runner"]);
    assert!(started.status.success(), "{}", String::from_utf8_lossy(&started.stderr));
    client(&["start", "tidegauge"]);
    let run = until("the run has ended", || async {
        let run: serde_json::Value = serde_json::from_str(&client(&["show", "tidegauge/1", "--json"])).ok()?;
        run["ended_at"].is_string().then_some(run)
    })
    .await;
    let log = system.asked("journalctl", &["--unit=ordotaxis-runner", "--output=cat"]);
    assert_eq!(run["state"], "passed", "{run} {}", String::from_utf8_lossy(&log.stdout));
    assert!(client(&["logs", "tidegauge/1", "build.gauge"]).contains("by 1000"), "in a sandbox");
}
