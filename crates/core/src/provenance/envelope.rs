//! The envelope of a statement: DSSE 1.0 (Dead Simple Signing Envelope), with in-toto's media type.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The media type of an in-toto statement in JSON.
pub const PAYLOAD: &str = "application/vnd.in-toto+json";
/// A larger statement is not looked at.
const LARGEST: usize = 64 * 1024 * 1024;

/// A statement's bytes and what proves who said it. Field names are those of DSSE.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Envelope {
    /// Base64.
    pub payload: String,
    #[serde(rename = "payloadType")]
    pub payload_type: String,
    pub signatures: Vec<Signature>,
}

/// One signature of an envelope.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = EnvelopeSignature)]
pub struct Signature {
    /// Names the key.
    pub keyid: String,
    /// Base64, of what [`to_sign`] gives.
    pub sig: String,
}

/// Why an envelope proves nothing. Its text is a sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Untrusted {
    #[error("it is not a signed statement: {0}")]
    Form(String),
    #[error("none of the known keys signed it; it names {}", .0.join(", "))]
    Stranger(Vec<String>),
    #[error("it was changed after it was signed, or key {0} did not sign it")]
    Changed(String),
}

/// The bytes that are signed: DSSE's pre-authentication encoding, which binds the type as well.
///
/// ```
/// use ordotaxis_core::provenance::to_sign;
/// // The example of the DSSE specification.
/// let bytes = to_sign("http://example.com/HelloWorld", b"hello world");
/// assert_eq!(bytes, b"DSSEv1 29 http://example.com/HelloWorld 11 hello world");
/// ```
pub fn to_sign(kind: &str, payload: &[u8]) -> Vec<u8> {
    let mut bytes = format!("DSSEv1 {} {kind} {} ", kind.len(), payload.len()).into_bytes();
    bytes.extend_from_slice(payload);
    bytes
}

impl Envelope {
    /// An envelope with one signature.
    pub fn new(payload: &[u8], key: &str, signature: &[u8]) -> Envelope {
        let signature = Signature { keyid: key.to_owned(), sig: STANDARD.encode(signature) };
        Envelope { payload: STANDARD.encode(payload), payload_type: PAYLOAD.to_owned(), signatures: vec![signature] }
    }

    /// The statement, once a known key is found to have signed it, and that key's name. `good`: whether a key signed these
    /// bytes; none for a key that is not known.
    pub fn opened(&self, good: impl Fn(&str, &[u8], &[u8]) -> Option<bool>) -> Result<(Value, String), Untrusted> {
        let form = |what: &str| Untrusted::Form(what.to_owned());
        if self.payload.len() > LARGEST {
            return Err(form("it is larger than any statement"));
        }
        if self.payload_type != PAYLOAD {
            return Err(Untrusted::Form(format!("its type is {:?}", self.payload_type.chars().take(100).collect::<String>())));
        }
        let payload = STANDARD.decode(&self.payload).map_err(|_| form("its payload is not base64"))?;
        let bytes = to_sign(&self.payload_type, &payload);
        let mut changed = None;
        for one in &self.signatures {
            let signature = STANDARD.decode(&one.sig).map_err(|_| form("a signature is not base64"))?;
            match good(&one.keyid, &bytes, &signature) {
                Some(true) => {
                    let value = serde_json::from_slice(&payload).map_err(|_| form("its payload is not JSON"))?;
                    return Ok((value, one.keyid.clone()));
                }
                Some(false) => changed = Some(Untrusted::Changed(one.keyid.clone())),
                None => {}
            }
        }
        Err(changed.unwrap_or_else(|| Untrusted::Stranger(self.signatures.iter().map(|one| one.keyid.clone()).take(5).collect())))
    }
}
