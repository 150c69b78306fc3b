//! Who a runner is: a small file in its folder that only its owner can read.

use serde::{Deserialize, Serialize};
use std::io::Write;
use std::path::{Path, PathBuf};

const FILE: &str = "runner.toml";

/// Who a runner is: what its enrolment was answered with. It is shown without its credential.
#[derive(Clone, Serialize, Deserialize)]
pub struct Identity {
    /// The service's address.
    pub url: String,
    pub name: String,
    pub credential: String,
}

impl std::fmt::Debug for Identity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Identity").field("url", &self.url).field("name", &self.name).finish_non_exhaustive()
    }
}

/// Why a runner's identity could not be read or kept.
#[derive(Debug, thiserror::Error)]
pub enum IdentityError {
    #[error("{} is not enrolled: there is no {FILE} in it", folder.display())]
    Missing { folder: PathBuf },
    #[error("{} could not be read or written", path.display())]
    Io {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("{} is damaged", path.display())]
    Form {
        path: PathBuf,
        #[source]
        source: Box<toml::de::Error>,
    },
}

impl Identity {
    /// Reads the identity of the runner that has this folder.
    pub fn load(folder: &Path) -> Result<Identity, IdentityError> {
        let path = folder.join(FILE);
        let text = match std::fs::read_to_string(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Err(IdentityError::Missing { folder: folder.to_owned() }),
            other => other.map_err(|source| IdentityError::Io { path: path.clone(), source })?,
        };
        toml::from_str(&text).map_err(|source| IdentityError::Form { path, source: Box::new(source) })
    }

    /// Whether a runner was enrolled with this folder.
    pub fn exists(folder: &Path) -> bool {
        folder.join(FILE).exists()
    }

    /// Writes it, for the owner of the folder only (0600); what was there is replaced.
    pub fn save(&self, folder: &Path) -> Result<(), IdentityError> {
        let path = folder.join(FILE);
        let fail = |source| IdentityError::Io { path: path.clone(), source };
        std::fs::create_dir_all(folder).map_err(fail)?;
        let text = toml::to_string(self).unwrap_or_default();
        // Whole before it has its name: the invitation that it was traded for is used up.
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(fail)?;
        file.write_all(text.as_bytes()).and_then(|()| file.as_file().sync_all()).map_err(fail)?;
        file.persist(&path).map_err(|error| fail(error.error))?;
        Ok(())
    }
}
