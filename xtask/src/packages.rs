//! What is built from other people's packages: under which licences, from where, with known faults, and with the same
//! features in the demo and in the tests.

use crate::setup::{root, run};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

/// The version that is known to work with `deny.toml`.
const DENY: &str = "0.20.2";

/// Licences of what the console and the stand-ins of tests are built from.
const CONSOLE: &[&str] =
    &["0BSD", "Apache-2.0", "BSD-3-Clause", "BlueOak-1.0.0", "ISC", "MIT", "MIT OR Apache-2.0", "(MIT OR CC0-1.0)", "(MIT OR Apache-2.0)"];
/// The same for what only builds it and is not shipped.
const CONSOLE_TOOLS: &[&str] = &["MPL-2.0", "Python-2.0"];

/// The same for servers that tests speak with.
const STAND_INS: &[&str] = &["BSD-2-Clause", "Python-2.0", "Unlicense", "(AFL-2.1 OR BSD-3-Clause)"];

/// Say in their readme alone that they are MIT; stand-ins of tests use them.
const SAID_ELSEWHERE: &[&str] = &["node_modules/humanize-number", "node_modules/only"];

pub(crate) fn check() -> Result<(), String> {
    crates()?;
    for folder in ["console", "crates/testbed/stand-ins"] {
        console(folder)?;
    }
    features()
}

fn crates() -> Result<(), String> {
    let deny = deny()?;
    let deny = deny.display().to_string();
    run(&deny, &["--log-level", "warn", "check", "licenses", "bans", "sources"])?;
    let home = std::env::var_os("CARGO_HOME")
        .map_or_else(|| PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(".cargo"), PathBuf::from);
    let lists = std::fs::read_dir(home.join("advisory-dbs")).into_iter().flatten().flatten();
    if lists.into_iter().any(|entry| entry.path().join(".git").is_dir()) {
        return run(&deny, &["--log-level", "warn", "--offline", "check", "advisories"]);
    }
    eprintln!(
        "known faults of packages were not looked for: there is no list of them on this machine; `cargo deny fetch db` gets it where the network allows"
    );
    Ok(())
}

/// cargo-deny: the machine's own, or built once into `target/tools`.
fn deny() -> Result<PathBuf, String> {
    let paths = std::env::var_os("PATH").unwrap_or_default();
    let own = root().join("target/tools");
    let known = std::env::split_paths(&paths).chain([own.join("bin")]).map(|folder| folder.join("cargo-deny")).find(|path| path.is_file());
    if let Some(known) = known {
        return Ok(known);
    }
    eprintln!("building cargo-deny {DENY}; once, about four minutes on two cores");
    let into = own.display().to_string();
    run("cargo", &["install", "--quiet", "--locked", "--root", &into, "--version", DENY, "cargo-deny"])?;
    Ok(own.join("bin/cargo-deny"))
}

fn console(folder: &str) -> Result<(), String> {
    let path = root().join(folder).join("package-lock.json");
    let text = std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    let lock: Value = serde_json::from_str(&text).map_err(|error| format!("{}: {error}", path.display()))?;
    let wrong: Vec<String> =
        lock["packages"].as_object().into_iter().flatten().filter_map(|(name, package)| unfit(folder, name, package)).collect();
    if wrong.is_empty() { Ok(()) } else { Err(wrong.join("\n")) }
}

fn unfit(folder: &str, name: &str, package: &Value) -> Option<String> {
    if name.is_empty() || SAID_ELSEWHERE.contains(&name) {
        return None;
    }
    // Old packages say it in a file of their own only; what the lock does not say is read there.
    let licence = package["license"].as_str().map_or_else(|| installed(folder, name), |licence| Some(licence.to_owned()));
    let more = if folder == "console" { CONSOLE_TOOLS } else { STAND_INS };
    let for_tools = folder != "console" || package["dev"] == true;
    let fits = licence.as_deref().is_some_and(|licence| CONSOLE.contains(&licence) || for_tools && more.contains(&licence));
    (!fits).then(|| {
        format!("{folder}: {name} has the licence {}, which is not among those we build from", licence.as_deref().unwrap_or("(none said)"))
    })
}

fn installed(folder: &str, name: &str) -> Option<String> {
    let text = std::fs::read_to_string(Path::new(&root()).join(folder).join(name).join("package.json")).ok()?;
    let package: Value = serde_json::from_str(&text).ok()?;
    let said = [&package["license"], &package["licenses"][0]["type"]];
    said.into_iter().find_map(|licence| licence.as_str().map(str::to_owned))
}

/// What the demo builds and the tests build anew with other features costs a newcomer minutes.
fn features() -> Result<(), String> {
    let demo = tree(&["--package", "ordotaxis-cli", "--package", "ordotaxis-practice", "--edges", "normal"])?;
    let tests = tree(&["--workspace", "--edges", "normal,dev"])?;
    let wrong: Vec<String> = demo.iter().filter_map(|(package, features)| differing(package, features, tests.get(package)?)).collect();
    if wrong.is_empty() { Ok(()) } else { Err(wrong.join("\n")) }
}

fn differing(package: &str, demo: &BTreeSet<String>, tests: &BTreeSet<String>) -> Option<String> {
    let both = |set: &BTreeSet<String>| set.iter().map(|one| format!("[{one}]")).collect::<Vec<_>>().join(" and ");
    let twice = demo.iter().any(|features| !tests.contains(features));
    twice.then(|| {
        let (demo, tests) = (both(demo), both(tests));
        format!("{package} is built twice: the demo asks for the features {demo}, tests for {tests}; name the missing ones in crates/practice/Cargo.toml")
    })
}

/// Package and version → the sets of features it is built with.
fn tree(arguments: &[&str]) -> Result<BTreeMap<String, BTreeSet<String>>, String> {
    let mut command = Command::new("cargo");
    command.args(["tree", "--prefix", "none", "--format", "{p}\t{f}", "--locked"]).args(arguments).current_dir(root());
    let output = command.output().map_err(|error| format!("cargo tree could not be started: {error}"))?;
    let mut found: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for line in String::from_utf8_lossy(&output.stdout).lines() {
        let Some((package, features)) = line.split_once('\t') else { continue };
        if !package.starts_with("ordotaxis-") {
            found.entry(package.to_owned()).or_default().insert(features.trim_end_matches("(*)").trim().to_owned());
        }
    }
    if found.is_empty() { Err(format!("cargo tree: {}", String::from_utf8_lossy(&output.stderr).trim())) } else { Ok(found) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_built_twice_is_told() {
        let set = |features: &[&str]| features.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
        assert_eq!(differing("idna v1", &set(&["std"]), &set(&["std"])), None);
        assert_eq!(differing("idna v1", &set(&["std"]), &set(&["std", "alloc,std"])), None, "tests build another beside it");
        let told = differing("idna v1", &set(&["std"]), &set(&["alloc,std"])).expect("a difference");
        assert!(told.contains("idna v1") && told.contains("[std]") && told.contains("[alloc,std]"), "{told}");
    }

    #[test]
    fn a_licence_that_nobody_said_yes_to_is_told() {
        let package = |licence: &str, dev: bool| serde_json::json!({ "license": licence, "dev": dev });
        assert_eq!(unfit("console", "node_modules/a", &package("MIT", false)), None);
        assert_eq!(unfit("console", "node_modules/a", &package("MPL-2.0", true)), None);
        assert!(unfit("console", "node_modules/a", &package("MPL-2.0", false)).is_some());
        assert!(unfit("console", "node_modules/none-such", &serde_json::json!({})).is_some());
    }
}
