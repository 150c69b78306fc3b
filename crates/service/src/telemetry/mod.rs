//! What machines that watch are told of the service.
//!
//! - numbers, in the OpenMetrics text format: what was counted since the start (`counters`) and what is so now ([`now`]) make one
//!   answer; [`bounded`] keeps it short;
//! - [`traces`]: each run that has ended, as OTLP: [`spans`] builds it, [`otlp`] has the forms;
//! - [`own`]: the service's own spans.

mod bounded;
mod now;
pub(crate) mod otlp;
mod own;
mod spans;
mod traces;

pub use own::OwnSpans;
pub(crate) use traces::{follows, work_off};

use crate::app::App;
use crate::keeper::Away;
use prometheus_client::encoding::text::{encode_eof, encode_registry};
use prometheus_client::registry::Registry;

/// Everything, as one text that ends with `# EOF`.
pub(crate) async fn metrics(app: &App) -> Result<String, Away> {
    let mut since_start = Registry::default();
    app.counters.register(&mut since_start);
    let timing = app.records.timing();
    since_start.register("ordotaxis_database_wait_seconds", "Time that changes waited for the connection that writes", timing.waited);
    since_start.register("ordotaxis_database_write_seconds", "Time of one change of the database", timing.took);
    since_start.register("ordotaxis_git_seconds", "Time of calls of git, by verb and end", ordotaxis_git::calls());
    let now = now::registry(app).await?;
    let mut text = String::with_capacity(64 * 1024);
    // Writing into a text does not fail.
    let written =
        encode_registry(&mut text, &since_start).and_then(|()| encode_registry(&mut text, &now)).and_then(|()| encode_eof(&mut text));
    debug_assert!(written.is_ok(), "a text takes everything");
    Ok(text)
}
