//! Webhooks, signed as the forge's dialect says, sent again a few times when they are not accepted.

use crate::book::Hook;
use crate::dialect::Dialect;
use crate::letters::{Letter, signed};
use std::time::Duration;

/// Pauses before each further try.
const PAUSES_MS: [u64; 6] = [200, 500, 1_000, 2_000, 4_000, 8_000];

pub(crate) async fn deliver(client: reqwest::Client, hook: Hook, dialect: Dialect, letter: Letter) {
    let id = format!("msg_{:032x}", rand::random::<u128>());
    for pause in PAUSES_MS.into_iter().map(Some).chain([None]) {
        let signed = signed(dialect, &letter, &hook.secret, &id);
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
