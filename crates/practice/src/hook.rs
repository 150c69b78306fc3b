//! Webhooks, signed as the forge's dialect says, sent again a few times when they are not accepted.

use crate::dialect::{Dialect, Letter};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use serde::{Deserialize, Serialize};
use sha2::Sha256;
use std::time::Duration;

/// Pauses before each further try.
const PAUSES_MS: [u64; 6] = [200, 500, 1_000, 2_000, 4_000, 8_000];

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Hook {
    pub(crate) url: String,
    pub(crate) secret: String,
}

pub(crate) async fn deliver(client: reqwest::Client, hook: Hook, dialect: Dialect, letter: Letter) {
    let id = format!("msg_{:032x}", rand::random::<u128>());
    for pause in PAUSES_MS.into_iter().map(Some).chain([None]) {
        let signed = dialect.signed(&letter, &hook.secret, &id);
        let mut call = client.post(&hook.url).body(signed.body);
        for (name, value) in signed.headers {
            call = call.header(name, value);
        }
        match call.send().await {
            Ok(answer) if answer.status().is_success() => return,
            Ok(answer) => tracing::warn!(status = %answer.status(), url = hook.url, "a webhook was not accepted"),
            Err(error) => tracing::warn!(%error, url = hook.url, "a webhook did not arrive"),
        }
        if let Some(pause) = pause {
            tokio::time::sleep(Duration::from_millis(pause)).await;
        }
    }
}

/// After the Standard Webhooks specification: `v1,` and the HMAC-SHA256 of `id.time.body`.
pub(crate) fn standard(secret: &str, id: &str, time: &str, body: &str) -> String {
    let key = STANDARD.decode(secret.trim_start_matches("whsec_")).unwrap_or_default();
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&key) else { return String::new() };
    mac.update(format!("{id}.{time}.{body}").as_bytes());
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}
