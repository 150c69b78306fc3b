//! Where programs are found on this machine.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Mutex, OnceLock, PoisonError};

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

/// The folders of `PATH`.
pub(crate) fn paths() -> Vec<PathBuf> {
    std::env::var_os("PATH").map(|paths| std::env::split_paths(&paths).collect()).unwrap_or_default()
}

/// The whole path of a program that the runner itself needs, looked for once on its own `PATH`: searching again for each
/// command costs a dozen calls, and a job's `PATH` must not decide what puts its limits on. Its name where it is not found.
pub(crate) fn program(name: &str) -> String {
    static FOUND: OnceLock<Mutex<HashMap<String, String>>> = OnceLock::new();
    let mut found = FOUND.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(path) = found.get(name) {
        return path.clone();
    }
    let path = on_path(name).map_or_else(|| name.to_owned(), |folder| folder.join(name).display().to_string());
    found.insert(name.to_owned(), path.clone());
    path
}

/// The first folder of `PATH` that has a file of this name.
pub(crate) fn on_path(name: &str) -> Option<PathBuf> {
    paths().into_iter().find(|folder| folder.join(name).is_file())
}
