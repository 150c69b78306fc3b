//! Signatures of the Standard Webhooks specification, version 1, symmetric (standardwebhooks.com).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

/// The key that a secret holds: `whsec_` and at least 16 bytes in base64. None for any other text.
pub fn webhook_key(secret: &str) -> Option<Vec<u8>> {
    STANDARD.decode(secret.trim().strip_prefix("whsec_")?).ok().filter(|key| key.len() >= 16)
}

/// The value of the header `webhook-signature`. `id` and `time` (seconds since 1970) are those of the headers `webhook-id`
/// and `webhook-timestamp`.
///
/// ```
/// use ordotaxis_core::notice::{webhook_key, webhook_signature};
/// // The example of the specification.
/// let key = webhook_key("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw").expect("a key");
/// let signature = webhook_signature(&key, "msg_p5jXN8AQM9LWM0D4loKWxJek", 1614265330, br#"{"test": 2432232314}"#);
/// assert_eq!(signature, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
/// ```
pub fn webhook_signature(key: &[u8], id: &str, time: i64, body: &[u8]) -> String {
    // A key of any length is one (RFC 2104).
    let Ok(mac) = Hmac::<Sha256>::new_from_slice(key) else { return String::new() };
    let mac = mac.chain_update(format!("{id}.{time}.")).chain_update(body);
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}
