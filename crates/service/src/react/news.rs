//! What happens to runs may be worth telling.

use crate::app::App;
use crate::notices::{News, news};
use crate::sentence::HELD;
use ordotaxis_core::engine::State;
use ordotaxis_store::{NewWork, RunEvent, StoreError};

/// A run that has ended, or waits for someone to allow it.
pub(super) async fn follows(_: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    let what = match event.ended_at {
        Some(_) => News::Ended { run },
        None if event.state == State::Waiting && event.sentence.starts_with(HELD) => News::Held { run },
        None => return Ok(Vec::new()),
    };
    Ok(vec![news(event.project_id, &what)])
}
