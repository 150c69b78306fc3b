//! Secrets of projects: sealed before they are stored, opened only to be lent to a job that names them.
//!
//! Sealed with XChaCha20-Poly1305 (an AEAD; draft-irtf-cfrg-xchacha): 24 random bytes of nonce, then the sealed value. The
//! project and the name are sealed in, so that a row moved to another name does not open. The key is a file of its own,
//! so that a copy of the database alone tells nothing.

use crate::app::App;
use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{Key, KeyInit, XChaCha20Poly1305, XNonce};
use ordotaxis_core::plan::{Event, Occasion};
use ordotaxis_store::StoreError;
use ordotaxis_wire::runner::Lease;
use std::path::{Path, PathBuf};

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;

#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    #[error("the key file {} could not be read or made", path.display())]
    Io {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the key file {} does not hold {KEY_BYTES} bytes; put back the right one, or secrets cannot be opened", path.display())]
    Form { path: PathBuf },
}

/// Seals and opens. Never shown.
#[derive(Clone)]
pub(crate) struct Seal(XChaCha20Poly1305);

impl Seal {
    /// With the key in `path`, which is made on first use, for its owner only.
    pub(crate) fn open(path: &Path) -> Result<Seal, KeyError> {
        let io = |source| KeyError::Io { path: path.to_owned(), source };
        let key = match std::fs::read(path) {
            Ok(key) => key,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => make_key(path).map_err(io)?,
            Err(error) => return Err(io(error)),
        };
        let key: [u8; KEY_BYTES] = key.try_into().map_err(|_| KeyError::Form { path: path.to_owned() })?;
        Ok(Seal(XChaCha20Poly1305::new(&Key::from(key))))
    }

    pub(crate) fn seal(&self, project_id: i64, name: &str, value: &str) -> Option<Vec<u8>> {
        let nonce: [u8; NONCE_BYTES] = rand::random();
        let about = about(project_id, name);
        let sealed = self.0.encrypt(&XNonce::from(nonce), Payload { msg: value.as_bytes(), aad: about.as_bytes() }).ok()?;
        Some([&nonce[..], &sealed].concat())
    }

    /// None when it was sealed with another key, for another name, or was changed.
    fn opened(&self, project_id: i64, name: &str, sealed: &[u8]) -> Option<String> {
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
    use std::os::unix::fs::OpenOptionsExt;
    let key: [u8; KEY_BYTES] = rand::random();
    let mut file = std::fs::OpenOptions::new().create_new(true).write(true).mode(0o600).open(path)?;
    file.write_all(&key)?;
    file.sync_all()?;
    Ok(key.to_vec())
}

/// Puts the values into a lease whose job names secrets, or says why there is none; and what the settings say of its log.
pub(crate) async fn lend(app: &App, lease: &mut Lease) -> Result<(), StoreError> {
    lease.log_limit = app.settings.log_limit;
    if lease.secrets.is_empty() && lease.publish.iter().all(|publish| publish.with.is_none()) {
        return Ok(());
    }
    let Some(project) = app.records.project(&lease.project).await? else { return Ok(()) };
    let outside = match app.records.run_plan(lease.attempt.run).await? {
        Some(plan) => from_outside(&plan.occasion),
        None => true,
    };
    let connections = app.records.connections(project.id).await?;
    for with in lease.publish.iter_mut().filter_map(|publish| publish.with.as_mut()) {
        let row = connections.iter().find(|row| row.name == with.name);
        let opened = row.and_then(|row| app.seal.opened(project.id, &crate::http::sealed_as(&row.name), &row.sealed));
        match (row, opened) {
            _ if outside => with.why = Some(format!("connection {} is not lent to a proposal from outside", with.name)),
            (None, _) => {
                let how = format!("`ordotaxis connection set {} {} --user USER` sets it", lease.project, with.name);
                with.why = Some(format!("connection {} is not set for {}; {how}", with.name, lease.project));
            }
            (Some(row), Some(password)) => (with.user, with.password) = (row.user.clone(), Some(password)),
            (Some(_), None) => {
                let why = "cannot be opened with the service's key file; set it again, or put the right key file back";
                with.why = Some(format!("connection {} {why}", with.name));
            }
        }
    }
    let known = app.records.secrets(project.id).await?;
    for secret in &mut lease.secrets {
        let row = known.iter().find(|row| row.name == secret.name);
        match row {
            _ if outside => secret.why = Some(format!("secret {} is not lent to a proposal from outside", secret.name)),
            None => {
                let how = format!("`ordotaxis secret set {} {}` sets it", lease.project, secret.name);
                secret.why = Some(format!("secret {} is not set for {}; {how}", secret.name, lease.project));
            }
            Some(row) => match app.seal.opened(project.id, &secret.name, &row.sealed) {
                Some(value) => secret.value = Some(value),
                None => {
                    let why = "cannot be opened with the service's key file; set it again, or put the right key file back";
                    secret.why = Some(format!("secret {} {why}", secret.name));
                }
            },
        }
    }
    Ok(())
}

/// Whether what is run was offered by someone who may not push here.
pub(crate) fn from_outside(occasion: &Occasion) -> bool {
    occasion.event == Event::Proposal && occasion.outside
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_sealed_opens_only_where_it_belongs() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secrets.key");
        let seal = Seal::open(&path).unwrap();
        let sealed = seal.seal(1, "STATION_KEY", "salt and mud").unwrap();
        assert!(!sealed.windows(4).any(|four| four == b"salt"));
        assert_ne!(seal.seal(1, "STATION_KEY", "salt and mud").unwrap(), sealed, "never sealed alike");
        let again = Seal::open(&path).unwrap();
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
        let other = Seal::open(&folder.path().join("other.key")).unwrap();
        assert_eq!(other.opened(1, "STATION_KEY", &sealed), None);
        std::fs::write(&path, "short").unwrap();
        assert!(matches!(Seal::open(&path), Err(KeyError::Form { .. })));
    }
}
