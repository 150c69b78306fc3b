//! Where a report leads.

use crate::app::App;
use crate::react::Message;

/// The page that tells more: of the run that is reported, if nothing else is said.
pub(super) fn link(app: &App, message: &Message) -> String {
    match &message.page {
        Some(page) => format!("{}/{page}", app.public_url),
        None => format!("{}/runs/{}", app.public_url, message.run),
    }
}
