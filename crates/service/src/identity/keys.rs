//! The keys that sign: made on first use, rotated, sealed in the database. One kind signs identities of jobs, which are good
//! for a while; the other statements of artifacts, which are looked at for years: of those the public halves stay.

use crate::clock;
use crate::seal::Seal;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ordotaxis_store::{Records, SigningKeyRow, StoreError};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair};
use serde_json::{Value, json};
use tokio::sync::Mutex;

/// A new key signs after so long.
pub(super) const ROTATE_MS: i64 = 30 * 24 * 60 * 60 * 1000;
/// A key is published so long after it signed last: no token is good for longer.
pub(super) const PUBLISHED_MS: i64 = 2 * ROTATE_MS;

/// What a key signs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    Identity,
    Statement,
}

impl Purpose {
    /// As it is stored. Words never change.
    pub(super) fn word(self) -> &'static str {
        match self {
            Purpose::Identity => "identity",
            Purpose::Statement => "statement",
        }
    }

    fn rotate_ms(self) -> i64 {
        match self {
            Purpose::Identity => ROTATE_MS,
            Purpose::Statement => 3 * ROTATE_MS,
        }
    }

    fn new_key(self) -> Option<(Vec<u8>, Value, String)> {
        match self {
            Purpose::Identity => new_key(),
            Purpose::Statement => new_statement_key(),
        }
    }
}

/// The key that signs now.
pub(crate) struct Issuer {
    purpose: Purpose,
    known: Mutex<Option<SigningKeyRow>>,
}

/// An Ed25519 key pair (RFC 8032): as [`new_key`], the public half after RFC 8037.
fn new_statement_key() -> Option<(Vec<u8>, Value, String)> {
    let pkcs8 = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).ok()?;
    let pair = Ed25519KeyPair::from_pkcs8(pkcs8.as_ref()).ok()?;
    let id = URL_SAFE_NO_PAD.encode(rand::random::<[u8; 12]>());
    let x = URL_SAFE_NO_PAD.encode(pair.public_key().as_ref());
    let jwk = json!({ "kty": "OKP", "crv": "Ed25519", "use": "sig", "alg": "EdDSA", "kid": id, "x": x });
    Some((pkcs8.as_ref().to_vec(), jwk, id))
}

/// A P-256 key pair: the private half as PKCS#8 (RFC 5958), the public half as a JWK (RFC 7517), and the key's id.
fn new_key() -> Option<(Vec<u8>, Value, String)> {
    let random = SystemRandom::new();
    let pkcs8 = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).ok()?;
    let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, pkcs8.as_ref(), &random).ok()?;
    // An uncompressed point (SEC 1, 2.3.3): 4, then x and y of 32 bytes each.
    let point = pair.public_key().as_ref();
    let (x, y) = (point.get(1..33)?, point.get(33..65)?);
    let id = URL_SAFE_NO_PAD.encode(rand::random::<[u8; 12]>());
    let jwk = json!({
        "kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": id,
        "x": URL_SAFE_NO_PAD.encode(x), "y": URL_SAFE_NO_PAD.encode(y),
    });
    Some((pkcs8.as_ref().to_vec(), jwk, id))
}

/// What a private key is sealed as.
pub(super) fn sealed_as(id: &str) -> String {
    format!("signing/{id}")
}

impl Issuer {
    pub(crate) fn of(purpose: Purpose) -> Issuer {
        Issuer { purpose, known: Mutex::new(None) }
    }

    /// The key that signs now, and its private half (PKCS#8).
    pub(crate) async fn opened(&self, records: &Records, seal: &Seal) -> Result<Option<(String, Vec<u8>)>, StoreError> {
        let key = self.key(records, seal, clock::now()).await?;
        Ok(key.and_then(|key| {
            let private = seal.opened(0, &sealed_as(&key.id), &key.sealed)?;
            Some((key.id, base64::engine::general_purpose::STANDARD.decode(private).ok()?))
        }))
    }

    /// The key that signs now: made on first use, and replaced when it is old or cannot be opened any more.
    pub(super) async fn key(&self, records: &Records, seal: &Seal, now: i64) -> Result<Option<SigningKeyRow>, StoreError> {
        let (mut known, purpose) = (self.known.lock().await, self.purpose);
        if known.is_none() {
            *known = records.signing_keys(purpose.word()).await?.into_iter().next();
        }
        let good =
            |key: &&SigningKeyRow| now - key.made_at < purpose.rotate_ms() && seal.opened(0, &sealed_as(&key.id), &key.sealed).is_some();
        if let Some(key) = known.as_ref().filter(good) {
            return Ok(Some(key.clone()));
        }
        let Some((private, jwk, id)) = purpose.new_key() else { return Ok(None) };
        let private = base64::engine::general_purpose::STANDARD.encode(private);
        let Some(sealed) = seal.seal(0, &sealed_as(&id), &private) else { return Ok(None) };
        let key = SigningKeyRow { id, sealed, public: jwk.to_string(), made_at: now };
        let mut tx = records.tx_by_rule("signing-keys", now).await?;
        match purpose {
            Purpose::Identity => tx.drop_signing_keys(purpose.word(), now - ROTATE_MS - PUBLISHED_MS).await?,
            Purpose::Statement => tx.retire_signing_keys(purpose.word()).await?,
        }
        tx.add_signing_key(purpose.word(), &key).await?;
        tx.commit().await?;
        *known = Some(key.clone());
        Ok(Some(key))
    }
}
