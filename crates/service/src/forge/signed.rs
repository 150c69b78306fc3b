//! Whether a delivery is the forge's: verified over the raw bytes, in constant time. What is wrong is for the project's
//! people; whoever sent it learns nothing.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use ordotaxis_core::forge::{Delivery, Hash, Profile, Signature, Written};
use sha2::{Sha256, Sha512};

/// How far a webhook's time may be from ours, in seconds (Standard Webhooks asks for a bound against replays).
const CLOCK_TOLERANCE: i64 = 300;

/// Why a delivery does not count.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum NotSigned {
    #[error("it has no header `{0}`: the forge does not sign, or signs otherwise than `signature` of the profile says")]
    NoHeader(String),
    #[error("its header `{0}` does not hold what the profile expects: look at `prefix` and `written` of `signature`")]
    Form(String),
    #[error("it is signed with another secret, or otherwise than `signature` of the profile says; `ordotaxis hook secret` makes a new one")]
    Secret,
    #[error("its time is {0} s away from ours: set the clocks, or it was sent once more by someone who caught it")]
    Time(i64),
}

/// The delivery's id where the way of signing has one, if it is signed with `secret`.
pub(super) fn verify(profile: &Profile, delivery: &Delivery<'_>, secret: &str, now_s: i64) -> Result<Option<String>, NotSigned> {
    let header = |name: &str| {
        let value = delivery.headers.get(&name.to_ascii_lowercase());
        value.cloned().ok_or_else(|| NotSigned::NoHeader(name.to_owned()))
    };
    match &profile.signature {
        Signature::StandardWebhooks => {
            let (id, time, signatures) = (header("webhook-id")?, header("webhook-timestamp")?, header("webhook-signature")?);
            let sent: i64 = time.parse().map_err(|_| NotSigned::Form("webhook-timestamp".into()))?;
            let key = secret.strip_prefix("whsec_").and_then(|key| STANDARD.decode(key).ok()).ok_or(NotSigned::Secret)?;
            let mut mac = Hmac::<Sha256>::new_from_slice(&key).map_err(|_| NotSigned::Secret)?;
            mac.update(format!("{id}.{time}.").as_bytes());
            mac.update(delivery.body);
            let offered: Vec<Vec<u8>> = signatures.split(' ').filter_map(|part| STANDARD.decode(part.strip_prefix("v1,")?).ok()).collect();
            if offered.is_empty() {
                return Err(NotSigned::Form("webhook-signature".into()));
            }
            if !offered.iter().any(|bytes| mac.clone().verify_slice(bytes).is_ok()) {
                return Err(NotSigned::Secret);
            }
            let off = (now_s - sent).abs();
            if off > CLOCK_TOLERANCE { Err(NotSigned::Time(off)) } else { Ok(Some(id)) }
        }
        Signature::Hmac { hash, header: name, prefix, written, over } => {
            let value = header(name)?;
            let bytes = value.strip_prefix(prefix.as_str()).and_then(|text| decoded(text, *written));
            let bytes = bytes.ok_or_else(|| NotSigned::Form(name.clone()))?;
            let signed = delivery.signed(over).ok_or_else(|| {
                NotSigned::NoHeader(over.names().find(|name| *name != "body").unwrap_or_default().trim_start_matches("header.").to_owned())
            })?;
            let good = match hash {
                Hash::Sha256 => Hmac::<Sha256>::new_from_slice(secret.as_bytes())
                    .is_ok_and(|mac| mac.chain_update(&signed).verify_slice(&bytes).is_ok()),
                Hash::Sha512 => Hmac::<Sha512>::new_from_slice(secret.as_bytes())
                    .is_ok_and(|mac| mac.chain_update(&signed).verify_slice(&bytes).is_ok()),
            };
            if good && !secret.is_empty() { Ok(None) } else { Err(NotSigned::Secret) }
        }
        Signature::Token { header: name } => {
            // Both are taken as keys, and what each makes of one text is compared: that takes as long for every guess.
            let mac = |key: &str| Hmac::<Sha256>::new_from_slice(key.as_bytes()).map(|mac| mac.chain_update(b"token"));
            let value = header(name)?;
            let same = mac(&value).is_ok_and(|guess| mac(secret).is_ok_and(|mac| mac.verify(&guess.finalize().into_bytes()).is_ok()));
            if same && !secret.is_empty() { Ok(None) } else { Err(NotSigned::Secret) }
        }
    }
}

/// Headers that hold the signature or the secret itself: they are not kept.
pub(super) fn is_secret_header(profile: Option<&Profile>, name: &str) -> bool {
    let own = match profile.map(|profile| &profile.signature) {
        Some(Signature::Token { header } | Signature::Hmac { header, .. }) => header.eq_ignore_ascii_case(name),
        _ => false,
    };
    own || ["auth", "cookie", "token", "secret", "password", "api-key"].iter().any(|word| name.contains(word))
}

fn decoded(text: &str, written: Written) -> Option<Vec<u8>> {
    match written {
        Written::Base64 => STANDARD.decode(text).ok(),
        Written::Hex => {
            let digits: Vec<u8> = text.chars().map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok())).collect::<Option<_>>()?;
            digits.len().is_multiple_of(2).then(|| digits.chunks(2).map(|pair| (pair[0] << 4) | pair[1]).collect())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::forge::profile;
    use std::collections::BTreeMap;

    fn profile_of(signature: &str) -> Profile {
        profile(&format!("[hook]\nsignature = {signature}\n")).0.unwrap()
    }

    fn headers(list: &[(&str, &str)]) -> BTreeMap<String, String> {
        list.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    /// The example of the Standard Webhooks specification.
    #[test]
    fn a_signature_is_verified_over_id_time_and_body() {
        let secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
        let headers = headers(&[
            ("webhook-id", "msg_p5jXN8AQM9LWM0D4loKWxJek"),
            ("webhook-timestamp", "1614265330"),
            ("webhook-signature", "v1,AAAA v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="),
        ]);
        let profile = profile_of("\"standard-webhooks\"");
        let verify = |body: &[u8], secret: &str, at: i64| verify(&profile, &Delivery { headers: &headers, body }, secret, at);
        let (body, at) = (br#"{"test": 2432232314}"#, 1_614_265_330);
        assert_eq!(verify(body, secret, at), Ok(Some("msg_p5jXN8AQM9LWM0D4loKWxJek".into())));
        assert_eq!(verify(br#"{"test": 2432232315}"#, secret, at), Err(NotSigned::Secret));
        assert_eq!(verify(body, "whsec_AAAA9r8GKYqrTwjUPD8ILPZIo2LaLaSw", at), Err(NotSigned::Secret));
        assert_eq!(verify(body, secret, at + 3600), Err(NotSigned::Time(3600)));
        assert_eq!(verify(body, "", at), Err(NotSigned::Secret));
    }

    /// The second test case of RFC 4231: key `Jefe`, data `what do ya want for nothing?`.
    #[test]
    fn keyed_digests_are_those_of_the_standard() {
        let delivery = headers(&[
            ("x-256", "v=5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"),
            ("x-512", "FkenemP4fnTjlWPjhzBWPKPjlCeYG/cFQ+oUemQGuglsQFpJfrVJ6ioFvMx7cKrG37nI7m4F1KODHyKLb2OMSQ=="),
        ]);
        let body = b"what do ya want for nothing?";
        let hex = profile_of("{ way = \"hmac\", header = \"X-256\", prefix = \"v=\" }");
        let at = |profile: &Profile, secret: &str, body: &[u8]| verify(profile, &Delivery { headers: &delivery, body }, secret, 0);
        assert_eq!(at(&hex, "Jefe", body), Ok(None));
        assert_eq!(at(&hex, "Jeff", body), Err(NotSigned::Secret));
        let no_prefix = profile_of("{ way = \"hmac\", header = \"x-256\" }");
        assert_eq!(at(&no_prefix, "Jefe", body), Err(NotSigned::Form("x-256".into())));
        let parts = profile_of("{ way = \"hmac\", header = \"x-256\", prefix = \"v=\", over = \"{header.x-when}.{body}\" }");
        assert_eq!(at(&parts, "Jefe", body), Err(NotSigned::NoHeader("x-when".into())));
        let prefix = "what do ya want ";
        let joined = profile_of(&format!("{{ way = \"hmac\", header = \"x-256\", prefix = \"v=\", over = \"{prefix}{{body}}\" }}"));
        assert_eq!(at(&joined, "Jefe", b"for nothing?"), Ok(None), "parts are joined as the profile says");
        let base64 = profile_of("{ way = \"hmac\", hash = \"sha512\", header = \"x-512\", written = \"base64\" }");
        assert!(at(&base64, "Jefe", body).is_err_and(|why| why == NotSigned::Secret), "{:?}", at(&base64, "Jefe", body));
    }

    #[test]
    fn a_token_is_the_secret_itself_and_never_empty() {
        let profile = profile_of("{ way = \"token\", header = \"X-Word\" }");
        let at = |value: &str, secret: &str| verify(&profile, &Delivery { headers: &headers(&[("x-word", value)]), body: b"" }, secret, 0);
        assert_eq!(at("salt", "salt"), Ok(None));
        assert_eq!(at("salty", "salt"), Err(NotSigned::Secret));
        assert_eq!(at("", ""), Err(NotSigned::Secret), "a secret that cannot be opened opens nothing");
        assert!(is_secret_header(Some(&profile), "x-word") && is_secret_header(None, "authorization") && !is_secret_header(None, "x-kind"));
    }
}
