//! What the tasks need on the machine, and the console's build.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::SystemTime;

/// A program and the Debian package that brings it.
pub(crate) type Program = (&'static str, &'static str);

pub(crate) const FOR_DEMO: &[Program] = &[
    ("git", "git"),
    ("cc", "gcc"),
    ("make", "make"),
    ("awk", "mawk"),
    ("bwrap", "bubblewrap"),
    ("slirp4netns", "slirp4netns"),
    ("ip", "iproute2"),
    ("node", "nodejs"),
    ("npm", "npm"),
];

pub(crate) const FOR_TESTS: &[Program] = &[
    ("git", "git"),
    ("cc", "gcc"),
    ("make", "make"),
    ("awk", "mawk"),
    ("bwrap", "bubblewrap"),
    ("slirp4netns", "slirp4netns"),
    ("ip", "iproute2"),
    ("podman", "podman"),
    ("runc", "runc"),
    ("busybox", "busybox-static"),
    ("node", "nodejs"),
    ("npm", "npm"),
    ("git-lfs", "git-lfs"),
    ("sshd", "openssh-server"),
    ("gitolite", "gitolite3"),
    ("aiosmtpd", "python3-aiosmtpd"),
    ("docker-registry", "docker-registry"),
    ("autoconf", "autoconf"),
    ("automake", "automake"),
    ("cmake", "cmake"),
    ("meson", "meson"),
    ("bats", "bats"),
    ("nginx", "nginx-light"),
    ("munged", "munge"),
    ("slurmctld", "slurmctld"),
    ("slurmd", "slurmd"),
    ("sbatch", "slurm-client"),
    ("prometheus", "prometheus"),
    ("objcopy", "binutils"),
    ("systemctl", "systemd"),
    ("promtool", "prometheus"),
    ("python3", "python3"),
    ("chromium", "chromium"),
    ("chromedriver", "chromium-driver"),
];

pub(crate) const FOR_RELEASE: &[Program] = &[("cc", "gcc"), ("make", "make"), ("node", "nodejs"), ("npm", "npm"), ("objcopy", "binutils")];

pub(crate) const FOR_DIST: &[Program] = &[
    ("objcopy", "binutils"),
    ("objdump", "binutils"),
    ("ldd", "libc-bin"),
    ("dpkg-deb", "dpkg"),
    ("git", "git"),
    ("ssh", "openssh-client"),
];

/// The project's folder.
pub(crate) fn root() -> PathBuf {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    here.parent().unwrap_or(here).to_owned()
}

/// Makes sure that these programs are there: installs their packages as root, else says what to install.
pub(crate) fn programs(wanted: &[Program]) -> Result<(), String> {
    let missing: Vec<&str> = wanted.iter().filter(|(program, _)| !found(program)).map(|(_, package)| *package).collect();
    if missing.is_empty() {
        return Ok(());
    }
    install(&missing.join(" "))?;
    let still: Vec<&str> = wanted.iter().filter(|(program, _)| !found(program)).map(|(program, _)| *program).collect();
    if still.is_empty() { Ok(()) } else { Err(format!("still missing after installing: {}", still.join(", "))) }
}

/// Installs Debian packages, as root.
fn install(list: &str) -> Result<(), String> {
    if !found("apt-get") || !is_root() {
        return Err(format!("install these first, then run this again: {list}\n  on Debian: sudo apt-get install {list}"));
    }
    eprintln!("installing {list}");
    run("apt-get", &["update", "-qq"])?;
    // Servers among them are for tests: none is to be started by being installed.
    let mut arguments = vec!["RUNLEVEL=1", "apt-get", "install", "-qq", "-y", "--no-install-recommends"];
    arguments.extend(list.split(' '));
    run("env", &arguments)
}

fn found(program: &str) -> bool {
    // An ordinary user's PATH leaves out where some of them lie.
    let more = ["/usr/sbin", "/sbin"].map(PathBuf::from);
    let paths = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&paths).chain(more).any(|folder| folder.join(program).is_file())
}

fn is_root() -> bool {
    let output = Command::new("id").arg("-u").output();
    output.is_ok_and(|output| output.stdout.trim_ascii() == b"0")
}

/// Builds the console when its sources are newer than what was built.
pub(crate) fn console() -> Result<(), String> {
    let folder = root().join("console");
    let stamp = folder.join("node_modules/.package-lock.json");
    if newest(&[folder.join("package-lock.json")]) > newest(&[stamp]) {
        eprintln!("installing the console's packages");
        run_in("console", "npm", &["ci", "--silent", "--no-audit", "--no-fund"])?;
    }
    let sources =
        ["src", "public", "index.html", "package-lock.json", "vite.config.ts", "tsconfig.json", "scripts"].map(|name| folder.join(name));
    let described = root().join("docs/openapi.json");
    let built = newest(&[folder.join("dist/index.html")]);
    if newest(&sources) > built || newest(&[described]) > built {
        eprintln!("building the console");
        run_in("console", "npm", &["run", "--silent", "build"])?;
    }
    Ok(())
}

/// Builds what is started as processes: service, runner and client in one, and the practice forge.
pub(crate) fn ordotaxis() -> Result<(), String> {
    let mut arguments = vec!["build", "--package", "ordotaxis-cli", "--package", "ordotaxis-practice"];
    if root().join("target/debug/ordotaxis").exists() {
        arguments.push("--quiet");
    } else {
        eprintln!("building Ordotaxis; the first time that takes about five minutes on two cores");
    }
    run("cargo", &arguments)
}

/// The version that is known to work with our description.
const FUZZER: &str = "schemathesis==4.32.5";

/// The program that makes up calls, in a Python environment of its own below `target/tools`.
pub(crate) fn fuzzer() -> Result<PathBuf, String> {
    let folder = root().join("target/tools/fuzz-api");
    let program = folder.join("bin/st");
    if !program.is_file() {
        eprintln!("installing {FUZZER} into target/tools");
        python_in(&folder)?;
        run(&folder.join("bin/pip").display().to_string(), &["install", "--quiet", "--disable-pip-version-check", FUZZER])?;
    }
    Ok(program)
}

/// A Python environment in this folder.
fn python_in(folder: &Path) -> Result<(), String> {
    programs(&[("python3", "python3")])?;
    let whole = Command::new("python3").args(["-c", "import ensurepip, venv"]).stderr(Stdio::null()).status();
    if !whole.is_ok_and(|status| status.success()) {
        // Debian's comes without what makes environments.
        install("python3-venv")?;
    }
    run("python3", &["-m", "venv", &folder.display().to_string()])
}

/// Python packages in a folder that tests install them from, and an environment with the servers among them.
fn wheels() -> Result<(), String> {
    let (list, folder) = (root().join("crates/testbed/stand-ins/requirements.txt"), root().join("target/tools/python"));
    let (wheels, stamp) = (root().join("target/tools/wheels"), folder.join("stamp"));
    if newest(std::slice::from_ref(&list)) <= newest(std::slice::from_ref(&stamp)) {
        return Ok(());
    }
    eprintln!("installing Python packages for tests into target/tools");
    let _ = std::fs::remove_dir_all(&wheels);
    python_in(&folder)?;
    let (pip, list, into) = (folder.join("bin/pip").display().to_string(), list.display().to_string(), wheels.display().to_string());
    let quiet = ["--quiet", "--disable-pip-version-check", "--only-binary", ":all:"];
    run(&pip, &[&["download"], &quiet[..], &["--dest", &into, "--requirement", &list]].concat())?;
    run(&pip, &[&["install"], &quiet[..], &["--no-index", "--find-links", &into, "pypiserver", "passlib"]].concat())?;
    std::fs::write(stamp, "").map_err(|error| error.to_string())
}

/// Servers that tests speak with in place of those outside.
pub(crate) fn stand_ins() -> Result<(), String> {
    wheels()?;
    let folder = root().join("crates/testbed/stand-ins");
    let stamp = folder.join("node_modules/.package-lock.json");
    if newest(&[folder.join("package-lock.json")]) > newest(&[stamp]) {
        eprintln!("installing stand-ins for tests");
        run_in("crates/testbed/stand-ins", "npm", &["ci", "--silent", "--no-audit", "--no-fund"])?;
    }
    Ok(())
}

/// The newest change at or below these paths; long ago where there is nothing.
fn newest(paths: &[PathBuf]) -> SystemTime {
    let of = |path: &PathBuf| {
        let own = path.metadata().and_then(|metadata| metadata.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
        let below: Vec<PathBuf> = std::fs::read_dir(path).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        if below.is_empty() { own } else { own.max(newest(&below)) }
    };
    paths.iter().map(of).max().unwrap_or(SystemTime::UNIX_EPOCH)
}

pub(crate) fn run(program: &str, arguments: &[&str]) -> Result<(), String> {
    run_in(".", program, arguments)
}

pub(crate) fn run_in(folder: &str, program: &str, arguments: &[&str]) -> Result<(), String> {
    let status = Command::new(program).args(arguments).current_dir(root().join(folder)).stdin(Stdio::null()).status();
    let spoken = format!("{program} {}", arguments.join(" "));
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("`{spoken}` failed ({status})")),
        Err(error) => Err(format!("`{spoken}` could not be started: {error}")),
    }
}
