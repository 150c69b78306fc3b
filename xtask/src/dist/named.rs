//! What all that is made is called after.

use super::say::output;
use std::path::Path;

/// What all three are called after.
pub(super) struct Release {
    pub(super) version: String,
    /// As systems call the machine: `x86_64`.
    pub(super) machine: &'static str,
    /// As Debian and images call it: `amd64`.
    pub(super) architecture: &'static str,
    /// The moment of the commit, in seconds since 1970: every file has it, so that the same commit gives the same bytes.
    pub(super) moment: u64,
}

impl Release {
    /// What a program says of itself, and the commit that it is made from.
    pub(super) fn of(program: &Path) -> Result<Release, String> {
        let said = output(program, &["--version"])?;
        let version = said.split_whitespace().last().unwrap_or_default().to_owned();
        let moment = std::env::var("SOURCE_DATE_EPOCH").ok().or_else(|| output("git", &["log", "-1", "--format=%ct"]).ok());
        let moment = moment.and_then(|text| text.trim().parse().ok()).unwrap_or(0);
        let (machine, architecture) = match std::env::consts::ARCH {
            "x86_64" => ("x86_64", "amd64"),
            "aarch64" => ("aarch64", "arm64"),
            other => return Err(format!("what is shipped is made on x86_64 and aarch64; this machine is {other}")),
        };
        Ok(Release { version, machine, architecture, moment })
    }
}
