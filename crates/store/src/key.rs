//! Secrets that people and runners hold. Only their digests are stored.

use base64::Engine;
use sha2::{Digest, Sha256};
use std::fmt;

/// A secret made here and shown once. It never appears in debug output.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// 32 random bytes with a prefix that says what it is for, such as `oxu` for a user's token.
    pub fn random(prefix: &str) -> Secret {
        let bytes: [u8; 32] = rand::random();
        Secret(format!("{prefix}_{}", base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(bytes)))
    }

    /// The secret itself: call it only where it is used, and keep it out of logs and messages.
    pub fn expose(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// SHA-256 in hexadecimal. Secrets here are random and long, so a plain digest cannot be reversed by guessing.
pub fn digest_of(secret: &str) -> String {
    hex(&Sha256::digest(secret.as_bytes()))
}

/// The same of any bytes.
pub fn digest_of_bytes(bytes: &[u8]) -> String {
    hex(&Sha256::digest(bytes))
}

/// Two hexadecimal digits in lower case for each byte.
pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
