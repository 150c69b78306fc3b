//! Holds the layering: imports run downward only, and the core depends on none of our crates nor on anything that
//! does I/O.

use crate::setup::root;
use serde_json::Value;
use std::process::Command;

/// From bottom to top; a crate may use only what stands before it.
const LAYERS: [&str; 11] = ["core", "content", "wire", "git", "store", "runner", "service", "practice", "testbed", "cli", "xtask"];

/// What the core must never reach, not even through others.
const NOT_IN_CORE: [&str; 8] = ["tokio", "sqlx", "axum", "hyper", "reqwest", "rand", "getrandom", "nix"];

pub(crate) fn check() -> Result<(), String> {
    let output = Command::new("cargo").args(["metadata", "--format-version", "1", "--no-deps"]).current_dir(root()).output();
    let output = output.map_err(|error| format!("cargo metadata could not be started: {error}"))?;
    let metadata: Value = serde_json::from_slice(&output.stdout).map_err(|error| format!("cargo metadata: {error}"))?;
    let mut wrong = Vec::new();
    for package in metadata["packages"].as_array().into_iter().flatten() {
        let name = short(&package["name"]);
        for dependency in package["dependencies"].as_array().into_iter().flatten().filter(|dependency| dependency["kind"].is_null()) {
            let on = short(&dependency["name"]);
            if let (Some(from), Some(to)) = (place(&name), place(&on))
                && to >= from
            {
                wrong.push(format!("{name} must not use {on}: imports run downward only"));
            }
        }
    }
    wrong.extend(core_reaches()?.into_iter().map(|name| format!("core must not reach {name}: it does no I/O and has no randomness")));
    if wrong.is_empty() { Ok(()) } else { Err(wrong.join("\n")) }
}

fn short(name: &Value) -> String {
    name.as_str().unwrap_or_default().trim_start_matches("ordotaxis-").to_owned()
}

fn place(name: &str) -> Option<usize> {
    LAYERS.iter().position(|layer| *layer == name)
}

fn core_reaches() -> Result<Vec<&'static str>, String> {
    let arguments = ["tree", "--package", "ordotaxis-core", "--edges", "normal", "--prefix", "none", "--format", "{p}"];
    let output = Command::new("cargo").args(arguments).current_dir(root()).output();
    let output = output.map_err(|error| format!("cargo tree could not be started: {error}"))?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let reached: Vec<&str> = text.lines().filter_map(|line| line.split(' ').next()).collect();
    Ok(NOT_IN_CORE.into_iter().filter(|name| reached.contains(name)).collect())
}
