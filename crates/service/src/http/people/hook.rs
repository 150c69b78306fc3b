//! What a project's forge is given: where its webhooks go, and what signs them.

use crate::app::App;
use base64::Engine;

/// Where a project's forge sends its webhooks.
pub(super) fn hook_url(app: &App, project: &str) -> String {
    format!("{}/hooks/v1/{project}", app.public_url)
}

/// A secret as the Standard Webhooks specification writes it; for every other way of signing it is a text like any.
pub(super) fn new_secret() -> String {
    let key: [u8; 24] = rand::random();
    format!("whsec_{}", base64::engine::general_purpose::STANDARD.encode(key))
}
