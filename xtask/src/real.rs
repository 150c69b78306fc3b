//! Small real projects from the registries, each through `init`, `check` and `rehearse`: what the trees of the tests are
//! shaped after. It needs the network, so no test does it.

use crate::setup;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::Instant;

/// Where a project comes from: the registry's own client fetches it.
enum From {
    Cargo,
    Python,
    Node,
}

/// Name and version of each.
const PROJECTS: [(From, &str, &str); 5] = [
    (From::Cargo, "itoa", "1.0.15"),
    (From::Cargo, "fnv", "1.0.7"),
    (From::Python, "pluggy", "1.6.0"),
    (From::Python, "six", "1.17.0"),
    (From::Node, "minimist", "1.2.5"),
];

/// How one project went.
struct Went {
    found: String,
    check: bool,
    verdict: String,
    seconds: u64,
}

pub(crate) fn real() -> Result<(), String> {
    setup::programs(setup::FOR_TESTS)?;
    setup::console()?;
    setup::ordotaxis()?;
    let place = setup::root().join("target/real");
    let _ = std::fs::remove_dir_all(&place);
    std::fs::create_dir_all(&place).map_err(|error| format!("{}: {error}", place.display()))?;
    println!("{:<18} {:<24} {:<6} {:>5}  rehearsed", "project", "found", "check", "s");
    let mut wrong = 0;
    for (from, name, version) in &PROJECTS {
        let folder = fetch(from, name, version, &place)?;
        let went = walk(&folder)?;
        wrong += usize::from(!went.check || !went.verdict.contains("Passed"));
        let check = if went.check { "fine" } else { "WRONG" };
        println!("{:<18} {:<24} {check:<6} {:>5}  {}", format!("{name} {version}"), went.found, went.seconds, went.verdict);
    }
    if wrong == 0 { Ok(()) } else { Err(format!("{wrong} of {} did not pass; each lies in {}", PROJECTS.len(), place.display())) }
}

/// The project's files in a folder of their own.
fn fetch(from: &From, name: &str, version: &str, place: &Path) -> Result<PathBuf, String> {
    let folder = place.join(name);
    let into = place.join(format!("{name}.fetched"));
    std::fs::create_dir_all(&into).map_err(|error| error.to_string())?;
    match from {
        From::Cargo => {
            let manifest = format!(
                "[package]\nname = \"fetch\"\nversion = \"0.1.0\"\nedition = \"2021\"\n[dependencies]\n{name} = \"={version}\"\n[workspace]\n"
            );
            std::fs::create_dir_all(into.join("src")).map_err(|error| error.to_string())?;
            std::fs::write(into.join("src/lib.rs"), "").map_err(|error| error.to_string())?;
            std::fs::write(into.join("Cargo.toml"), manifest).map_err(|error| error.to_string())?;
            run(&into, "cargo", &["vendor", "--quiet", "vendor"])?;
            std::fs::rename(into.join("vendor").join(name), &folder).map_err(|error| error.to_string())?;
        }
        From::Python => {
            run(
                &into,
                "python3",
                &["-m", "pip", "download", "--quiet", "--no-deps", "--no-binary", ":all:", &format!("{name}=={version}")],
            )?;
            unpack(&into, &folder)?;
        }
        From::Node => {
            run(&into, "npm", &["pack", "--silent", &format!("{name}@{version}")])?;
            unpack(&into, &folder)?;
        }
    }
    for arguments in [&["init", "--quiet", "--initial-branch=main"][..], &["add", "--all"]] {
        run(&folder, "git", arguments)?;
    }
    run(
        &folder,
        "git",
        &["-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example", "commit", "--quiet", "-m", "As it was fetched"],
    )?;
    Ok(folder)
}

/// The one archive in a folder.
fn unpack(from: &Path, to: &Path) -> Result<(), String> {
    std::fs::create_dir_all(to).map_err(|error| error.to_string())?;
    let archive = std::fs::read_dir(from).into_iter().flatten().flatten().map(|entry| entry.path()).find(|path| path.is_file());
    let archive = archive.ok_or("nothing was fetched")?.display().to_string();
    run(to, "tar", &["-xf", &archive, "--strip-components=1"])
}

fn walk(folder: &Path) -> Result<Went, String> {
    let begun = Instant::now();
    let said = |output: &Output| format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    let ours = |arguments: &[&str]| {
        let mut command = Command::new(setup::root().join("target/debug/ordotaxis"));
        command.args(arguments).current_dir(folder).env("XDG_CACHE_HOME", folder.with_extension("cache"));
        command.env("XDG_CONFIG_HOME", folder.with_extension("config")).env_remove("ORDOTAXIS_URL").env_remove("ORDOTAXIS_TOKEN");
        command.output().map_err(|error| error.to_string())
    };
    let init = said(&ours(&["init"])?);
    let found = init.lines().next().and_then(|line| line.split("found ").nth(1)).unwrap_or(init.trim()).to_owned();
    let check = ours(&["check"])?.status.success();
    lead_pip(&folder.join("ordotaxis.toml")).map_err(|error| error.to_string())?;
    let rehearsed = said(&ours(&["--quiet", "rehearse", "--keep", &folder.with_extension("kept").display().to_string()])?);
    let verdict = rehearsed.lines().rfind(|line| line.contains("Passed") || line.contains("Failed")).unwrap_or(rehearsed.trim());
    Ok(Went { found, check, verdict: verdict.chars().take(120).collect(), seconds: begun.elapsed().as_secs() })
}

/// Jobs know nothing of this machine's own certificates: where pip is told of them here, it is told there.
fn lead_pip(file: &Path) -> std::io::Result<()> {
    let Ok(certificates) = std::env::var("PIP_CERT") else { return Ok(()) };
    let text = std::fs::read_to_string(file)?;
    std::fs::write(file, text.replacen("[defaults]", &format!("[env]\nPIP_CERT = {certificates:?}\n\n[defaults]"), 1))
}

fn run(folder: &Path, program: &str, arguments: &[&str]) -> Result<(), String> {
    let output = Command::new(program).args(arguments).current_dir(folder).output();
    let output = output.map_err(|error| format!("{program} could not be started: {error}"))?;
    let said = || String::from_utf8_lossy(&output.stderr).trim().to_owned();
    if output.status.success() { Ok(()) } else { Err(format!("{program} {}: {}", arguments.join(" "), said())) }
}
