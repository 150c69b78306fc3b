//! `PROJECT/ENVIRONMENT`, as people write it.

use crate::failure::Failure;

/// The address of `PROJECT/ENVIRONMENT`.
pub(super) fn address(text: &str) -> Result<String, Failure> {
    let plain = |part: &str| !part.is_empty() && !part.contains(|c: char| c.is_whitespace() || "/?#%".contains(c));
    match text.split_once('/') {
        Some((project, name)) if plain(project) && plain(name) => Ok(format!("projects/{project}/environments/{name}")),
        _ => Err(Failure::new(2, format!("`{text}` names no environment"), "write PROJECT/ENVIRONMENT, such as stations/trial")),
    }
}
