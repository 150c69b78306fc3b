//! Versions of tools: what a job wants (`>=4`, `~3.11`, `*`) and what a runner's probe found (`4.3`, `13.2.0-1`).
//!
//! Read as semantic versions, which is stricter than what tools print: missing parts are zero, what follows the third
//! part is left out.

use semver::{Version, VersionReq};

/// What a job wants; None when the text says no version.
pub fn version_wanted(text: &str) -> Option<VersionReq> {
    VersionReq::parse(text.trim()).ok()
}

/// A version as some tool prints it, within whatever else it prints.
pub fn version_found(text: &str) -> Option<Version> {
    let numbers = text.split(|c: char| !c.is_ascii_digit() && c != '.').map(|part| part.trim_matches('.'));
    let found = numbers.clone().find(|part| part.contains('.')).or_else(|| numbers.clone().find(|part| !part.is_empty()))?;
    let mut parts = found.split('.').map(|part| part.parse::<u64>().unwrap_or(u64::MAX));
    let mut next = || parts.next().unwrap_or(0);
    Some(Version::new(next(), next(), next()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_tools_print_is_understood() {
        for (printed, wanted, fits) in [
            ("GNU Make 4.3\nBuilt for x86_64-pc-linux-gnu", ">=4", true),
            ("gcc (Debian 12.2.0-14) 12.2.0", "12", true),
            ("gcc (Debian 12.2.0-14) 12.2.0", ">=13", false),
            ("Python 3.11.2", "~3.11", true),
            ("v20.20.0", ">=18, <21", true),
            ("git version 2.47.3", "*", true),
            ("tool 7", "7", true),
            ("openjdk 17.0.9.0.1 2023", "17", true),
        ] {
            let wanted = version_wanted(wanted).unwrap();
            assert_eq!(wanted.matches(&version_found(printed).unwrap()), fits, "{printed} {wanted}");
        }
        assert_eq!(version_found("no number here"), None);
        assert!(version_wanted("newest").is_none() && version_wanted("").is_none());
    }
}
