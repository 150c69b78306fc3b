//! Programs of this machine that are asked something.

use crate::setup;

/// What a program says, run in the project's folder.
pub(super) fn output(program: impl AsRef<std::ffi::OsStr>, arguments: &[&str]) -> Result<String, String> {
    let program = program.as_ref();
    let ran = std::process::Command::new(program).args(arguments).current_dir(setup::root()).output();
    let ran = ran.map_err(|error| format!("{} could not be started: {error}", program.display()))?;
    if ran.status.success() {
        return Ok(String::from_utf8_lossy(&ran.stdout).into_owned());
    }
    Err(format!("{} {}: {}", program.display(), arguments.join(" "), String::from_utf8_lossy(&ran.stderr).trim()))
}

/// Runs a program for what it does.
pub(super) fn run(program: &str, arguments: &[&str]) -> Result<(), String> {
    output(program, arguments).map(drop)
}
