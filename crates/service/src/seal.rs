//! Sealing what must not lie in the database in the clear.
//!
//! Sealed with XChaCha20-Poly1305 (an AEAD; draft-irtf-cfrg-xchacha): 24 random bytes of nonce, then the sealed value. The
//! project and the name are sealed in, so that a row moved to another name does not open. The key is a file of its own,
//! so that a copy of the database alone reveals nothing.

use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{Key, KeyInit, XChaCha20Poly1305, XNonce};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;

/// Why secrets cannot be sealed or opened.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    #[error("the key file {} could not be read or made", path.display())]
    Io {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error(
        "the key file {} is gone, and what the service has sealed needs it: put it back (a backup made with keys has it). To go on without secrets, connections and forge tokens, which all have to be set again, write 32 random bytes there",
        path.display()
    )]
    Gone { path: PathBuf },
    #[error("the key file {} does not hold {KEY_BYTES} bytes; put back the right one, or secrets cannot be opened", path.display())]
    Form { path: PathBuf },
}

/// What a project needs to speak with its forge.
#[derive(Clone, Default, Serialize, Deserialize)]
pub(crate) struct Outward {
    /// Webhooks are signed with it.
    pub(crate) hook_secret: String,
    #[serde(default)]
    pub(crate) token: Option<String>,
    /// What stood in the repository's address before addresses held none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) git_password: Option<String>,
    /// Users and passwords for the repository and its submodules, one a server.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) logins: Vec<GitLogin>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) key: Option<GitKey>,
}

/// What the service reads a repository with by HTTP.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct GitLogin {
    /// Scheme, host and port.
    pub(crate) origin: String,
    pub(crate) user: String,
    pub(crate) password: String,
}

/// What the service reads a repository with by SSH.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct GitKey {
    pub(crate) private: String,
    pub(crate) public: String,
}

/// What it is sealed as: no secret or connection can be called so.
pub(crate) const OUTWARD: &str = "outward/";

/// Seals and opens. Never shown.
#[derive(Clone)]
pub(crate) struct Seal(XChaCha20Poly1305);

/// What stands before a connection's name where secrets are named: no secret can be called so.
pub(crate) const CONNECTION: &str = "connection/";

/// What a secret's value is sealed as: one for an environment is of no use anywhere else.
pub(crate) fn sealed_as_secret(name: &str, environment: Option<&str>) -> String {
    environment.map_or_else(|| name.to_owned(), |environment| format!("{name}@{environment}"))
}

/// What a connection's password is sealed as.
pub(crate) fn sealed_as_connection(name: &str) -> String {
    format!("{CONNECTION}{name}")
}

impl Seal {
    /// With the key in `path`, which is made on first use, for its owner only; where something `is_sealed` already, a new
    /// one would open none of it.
    pub(crate) fn open(path: &Path, is_sealed: bool) -> Result<Seal, KeyError> {
        let io = |source| KeyError::Io { path: path.to_owned(), source };
        let key = match std::fs::read(path) {
            // As a version before left it that was killed while it made one.
            Ok(key) if key.is_empty() && !is_sealed => make_key(path).map_err(io)?,
            Ok(key) => key,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && is_sealed => {
                return Err(KeyError::Gone { path: path.to_owned() });
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => make_key(path).map_err(io)?,
            Err(error) => return Err(io(error)),
        };
        let key: [u8; KEY_BYTES] = key.try_into().map_err(|_| KeyError::Form { path: path.to_owned() })?;
        Ok(Seal(XChaCha20Poly1305::new(&Key::from(key))))
    }

    /// Seals a value for one project and name: it opens under these two only. None when encryption fails.
    pub(crate) fn seal(&self, project_id: i64, name: &str, value: &str) -> Option<Vec<u8>> {
        let nonce: [u8; NONCE_BYTES] = rand::random();
        let about = about(project_id, name);
        let sealed = self.0.encrypt(&XNonce::from(nonce), Payload { msg: value.as_bytes(), aad: about.as_bytes() }).ok()?;
        Some([&nonce[..], &sealed].concat())
    }

    /// Seals what a project needs to speak with its forge.
    pub(crate) fn seal_outward(&self, project_id: i64, outward: &Outward) -> Option<Vec<u8>> {
        self.seal(project_id, OUTWARD, &serde_json::to_string(outward).ok()?)
    }

    /// None when it was sealed with another key, for another name, or was changed.
    pub(crate) fn opened(&self, project_id: i64, name: &str, sealed: &[u8]) -> Option<String> {
        let (nonce, sealed) = sealed.split_at_checked(NONCE_BYTES)?;
        let nonce: [u8; NONCE_BYTES] = nonce.try_into().ok()?;
        let about = about(project_id, name);
        let opened = self.0.decrypt(&XNonce::from(nonce), Payload { msg: sealed, aad: about.as_bytes() }).ok()?;
        String::from_utf8(opened).ok()
    }
}

fn about(project_id: i64, name: &str) -> String {
    format!("{project_id}/{name}")
}

fn make_key(path: &Path) -> std::io::Result<Vec<u8>> {
    use std::io::Write;
    let key: [u8; KEY_BYTES] = rand::random();
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    // Whole before it has its name: a service that is killed here leaves no key that is none.
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(&key)?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    std::fs::File::open(folder)?.sync_all()?;
    Ok(key.to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_sealed_opens_only_where_it_belongs() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secrets.key");
        let seal = Seal::open(&path, false).unwrap();
        let sealed = seal.seal(1, "STATION_KEY", "salt and mud").unwrap();
        assert!(!sealed.windows(4).any(|four| four == b"salt"));
        assert_ne!(seal.seal(1, "STATION_KEY", "salt and mud").unwrap(), sealed, "never sealed alike");
        let again = Seal::open(&path, false).unwrap();
        assert_eq!(again.opened(1, "STATION_KEY", &sealed).as_deref(), Some("salt and mud"));
        assert_eq!(again.opened(2, "STATION_KEY", &sealed), None);
        assert_eq!(again.opened(1, "OTHER", &sealed), None);
        for place in [0, 30, sealed.len() - 1] {
            let mut changed = sealed.clone();
            changed[place] ^= 1;
            assert_eq!(again.opened(1, "STATION_KEY", &changed), None);
        }
        for length in [0, 10, 24, 30] {
            assert_eq!(again.opened(1, "STATION_KEY", &sealed[..length]), None);
        }
        let other = Seal::open(&folder.path().join("other.key"), false).unwrap();
        assert_eq!(other.opened(1, "STATION_KEY", &sealed), None);
        std::fs::write(&path, "short").unwrap();
        assert!(matches!(Seal::open(&path, true), Err(KeyError::Form { .. })));
        let half = folder.path().join("half.key");
        std::fs::write(&half, []).unwrap();
        assert!(matches!(Seal::open(&half, true), Err(KeyError::Form { .. })));
        assert!(Seal::open(&half, false).is_ok() && std::fs::read(&half).unwrap().len() == KEY_BYTES);
        let gone = folder.path().join("gone.key");
        assert!(matches!(Seal::open(&gone, true), Err(KeyError::Gone { .. })) && !gone.exists());
    }
}
