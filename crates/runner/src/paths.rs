//! Where programs are found on this machine.

use std::path::PathBuf;

/// Where installed tool chains are kept, as the runner's own environment or home says: a step finds them though its home
/// is another.
pub(crate) fn tool_homes() -> Vec<(String, String)> {
    let set = |name: &str| std::env::var(name).ok().map(|value| (name.to_owned(), value));
    let mut homes: Vec<(String, String)> =
        ["RUSTUP_HOME", "JAVA_HOME", "GOROOT", "PYENV_ROOT", "NVM_DIR"].into_iter().filter_map(set).collect();
    if std::env::var_os("RUSTUP_HOME").is_none()
        && let Some(home) = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".rustup")).filter(|home| home.is_dir())
    {
        homes.push(("RUSTUP_HOME".to_owned(), home.display().to_string()));
    }
    homes
}

pub(crate) fn paths() -> Vec<PathBuf> {
    std::env::var_os("PATH").map(|paths| std::env::split_paths(&paths).collect()).unwrap_or_default()
}

pub(crate) fn on_path(name: &str) -> Option<PathBuf> {
    paths().into_iter().find(|folder| folder.join(name).is_file())
}
