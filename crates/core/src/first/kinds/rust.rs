//! Cargo packages and workspaces.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let manifest = folder.toml("Cargo.toml")?;
    let is_workspace = manifest.contains_key("workspace");
    let lock = folder.read("Cargo.lock");
    let whole = if is_workspace { " --workspace" } else { "" };
    let locked = if lock.is_some() { " --locked" } else { "" };
    let fetches = match &lock {
        Some(lock) => lock.contains("\nsource = "),
        None => ["dependencies", "dev-dependencies"].iter().any(|key| manifest.contains_key(*key)),
    };
    // What is fetched lies beside what is built, so that both are kept.
    let home = if fetches { "CARGO_HOME=$PWD/.cargo-home " } else { "" };
    let kept: &[&str] = if fetches { &["target", ".cargo-home/registry"] } else { &["target"] };
    let key = if lock.is_some() { "Cargo.lock" } else { "**/Cargo.toml" };
    let mut test = Job::new("test", "unit", "Builds and runs the tests.", &[&format!("{home}cargo test{whole}{locked}")]);
    if folder.read(".config/nextest.toml").is_some_and(|text| text.contains("junit")) {
        test.unsure.push("`cargo nextest run --profile ci` writes a report of every test, where runners have it; then say reports = { junit = [\"target/nextest/ci/*.xml\"] }.".into());
    }
    let build = Job::new("build", "debug", "Builds everything.", &[&format!("{home}cargo build{whole}{locked}")]);
    let jobs: Vec<Job> = [build, test].into_iter().map(|job| job.cached("cargo", kept, key)).collect();
    let mut unsure = Vec::new();
    if let Some(file) = folder.first(&["rust-toolchain.toml", "rust-toolchain"]) {
        unsure.push(format!("{file} names a toolchain: runners must have it, since a job cannot install one for all."));
    }
    if lock.is_none() {
        unsure.push("There is no Cargo.lock in git: each run takes the newest versions that fit.".into());
    }
    let what = if is_workspace { "a Cargo workspace" } else { "a Cargo package" };
    Some(Kind { says: what.into(), about: format!("{what} (Cargo.toml)"), jobs, unsure })
}
