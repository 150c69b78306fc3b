//! What `sign-in` keeps: the service's address and the token, in the user's configuration folder, for the owner only.

use etcetera::{BaseStrategy, choose_base_strategy};
use serde::{Deserialize, Serialize};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

#[derive(Default, Serialize, Deserialize)]
pub(crate) struct Profile {
    pub(crate) url: Option<String>,
    pub(crate) token: Option<String>,
}

pub(crate) fn path() -> Option<PathBuf> {
    Some(choose_base_strategy().ok()?.config_dir().join("ordotaxis").join("client.toml"))
}

/// An absent or damaged file is as none: what is missing is then asked for.
pub(crate) fn load() -> Profile {
    let text = path().and_then(|path| std::fs::read_to_string(path).ok()).unwrap_or_default();
    toml::from_str(&text).unwrap_or_default()
}

pub(crate) fn save(profile: &Profile) -> std::io::Result<PathBuf> {
    let path = path().ok_or_else(|| std::io::Error::other("there is no configuration folder"))?;
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let mut file = std::fs::OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&path)?;
    file.write_all(toml::to_string(profile).unwrap_or_default().as_bytes())?;
    Ok(path)
}
